"""A profile: its tables, and its plan."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, ClassVar, Self

from pydantic import PrivateAttr, model_validator
from pydantic_core import PydanticCustomError

from tenuto.basics.errors import CalibrationError, ProfileError
from tenuto.basics.findings import unexpected
from tenuto.basics.html import html_table
from tenuto.calibration.store import Calibration
from tenuto.driving.plan import Plan
from tenuto.files import write_atomically
from tenuto.profile.build import build_plan
from tenuto.profile.checks.between import errors_of
from tenuto.profile.schema import Tables
from tenuto.vehicles.units import METRIC, SHARES

# The type of the error with findings between tables.
FINDINGS = "findings"


class Profile(Tables):
    """How one robot is driven. Load one with `tenuto.load_profile`; all quantities are in SI."""

    _file: Path | None = PrivateAttr(default=None)
    _text: str | None = PrivateAttr(default=None)
    # The functions for the text of a profile; set by `tenuto.profile.patch`, which imports this module.
    text_of: ClassVar[Callable[[Profile], str]]
    changed: ClassVar[Callable[[str, Mapping[str, Any], str], Profile]]

    @property
    def file(self) -> Path | None:
        """Its file; None if it was made in code."""
        return self._file

    def read_from(self, path: Path) -> Self:
        """Set its file: calibration and trims are beside that file."""
        self._file = path
        return self

    def __eq__(self, other: object) -> bool:
        """Return whether both have the same settings; their files and their text do not matter."""
        return isinstance(other, Profile) and self.__dict__ == other.__dict__

    __hash__ = None  # type: ignore[assignment]  # its tables are dictionaries

    def written_as(self, text: str) -> Self:
        """Set its original text, with its comments."""
        self._text = text
        return self

    def text(self) -> str:
        """Return it as TOML: with the comments of its file, or in its shortest form if it was made in code."""
        return self._text if self._text is not None else Profile.text_of(self)

    def with_(self, **changes: Any) -> Profile:
        """Return the same profile with some keys changed: ``profile.with_(**{"controls.drive.expo": 0.5})``.

        Args:
            changes: key as in the docs → value as in a file, such as 0.5 or ``"80 %"``; None
                removes the key.

        Raises:
            ProfileError: the result would be invalid.
        """
        changed = Profile.changed(self.text(), changes, str(self._file or self.name))
        return changed.read_from(self._file) if self._file is not None else changed

    def save(self, path: str | Path) -> None:
        """Write it to a file, with its comments, atomically. Raises ProfileError if that fails."""
        try:
            write_atomically(Path(path), self.text())
        except OSError as error:
            found = error.strerror or str(error)
            raise ProfileError(str(path), [unexpected("file", "a file that can be written", found)]) from error

    @model_validator(mode="after")
    def _fits_together(self) -> Self:
        """Refuse tables that do not fit each other."""
        wrong = errors_of(self)
        if wrong:
            raise PydanticCustomError(FINDINGS, "{text}", {"text": "; ".join(map(str, wrong)), "findings": wrong})
        return self

    def _repr_html_(self) -> str:
        guard, units = self.guard, SHARES if self.chassis.in_shares else METRIC
        rows = [
            ("source", self.source.kind), ("style", self.style.kind), ("vehicle", self.chassis.kind),
            ("controls", ", ".join(self.controls)), ("modes", ", ".join(self.modes) or "one"),
            ("full speed", units.speed.shown(self.speeds.forward, "g")),
            ("hold-to-run", guard.hold_to_run or guard.enable or ""), ("link_timeout", f"{guard.link_timeout:g} s"),
            ("stops at", units.acceleration.shown(self.plan().guard.stop_deceleration, "g")),
        ]  # fmt: skip
        return html_table(self.name, rows)

    def calibrated(
        self,
        calibration: Calibration | None,
        trims: Mapping[str, float] | None = None,
        others: Mapping[str, Calibration] | None = None,
    ) -> PreparedProfile:
        """Return the profile with the calibrations of its devices and with stored trims."""
        return PreparedProfile(self, calibration, dict(trims or {}), dict(others or {}))

    def plan(
        self,
        calibration: Calibration | None = None,
        trims: Mapping[str, float] | None = None,
        others: Mapping[str, Calibration] | None = None,
    ) -> Plan:
        """Make the plan of the profile, for a pipeline.

        Args:
            calibration: of the device; keys of the profile take precedence.
            trims: control → initial trim, if one was stored.
            others: the calibrations of the other drivers' devices, by their names.

        Raises:
            ProfileError: tables of a changed copy do not fit each other.
            CalibrationError: a number in a calibration is impossible.
        """
        wrong = errors_of(self)  # a changed copy has not been checked
        if wrong:
            raise ProfileError(self.name, wrong)
        for one in (calibration, *(others or {}).values()):
            if one is not None:
                one.check()
        return build_plan(self, calibration, trims or {}, others or {})


@dataclass(frozen=True, slots=True)
class PreparedProfile:
    """A profile with the data of one machine; a pipeline takes it like a profile.

    Attributes:
        calibration: of the device, if there is one.
        trims: control → the stored trim.
        others: the calibrations of the other drivers' devices, by their names.
        files: of the calibrations.
    """

    profile: Profile
    calibration: Calibration | None = None
    trims: Mapping[str, float] = field(default_factory=dict)
    others: Mapping[str, Calibration] = field(default_factory=dict)
    files: tuple[Path, ...] = ()

    def plan(self) -> Plan:
        """Return the plan, with the measured travels and the trims.

        Raises:
            CalibrationError: a calibration is impossible, or takes a direction from a stick; its file is named.
        """
        try:
            return self.profile.plan(self.calibration, self.trims, self.others)
        except CalibrationError as error:
            raise CalibrationError(": ".join((*map(str, self.files), str(error)))) from None
