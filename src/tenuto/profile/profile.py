"""A profile: its tables, and the plan that they make."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Self

from pydantic import PrivateAttr, model_validator
from pydantic_core import PydanticCustomError

from tenuto.basics.errors import ProfileError
from tenuto.basics.html import html_table
from tenuto.calibration.store import Calibration
from tenuto.driving.plan import Plan
from tenuto.profile.build import build_plan
from tenuto.profile.checks.between import errors_of
from tenuto.profile.schema import Tables
from tenuto.vehicles.units import METRIC, SHARES

# The type of the error that carries what was found between tables.
FINDINGS = "findings"


class Profile(Tables):
    """How one robot is driven. Load one with `tenuto.load_profile`; all quantities are in SI."""

    _file: Path | None = PrivateAttr(default=None)

    @property
    def file(self) -> Path | None:
        """Where it was read from; None where it was made in code."""
        return self._file

    def read_from(self, path: Path) -> Self:
        """Remember where it was read from: what belongs to it stands beside that file."""
        self._file = path
        return self

    @model_validator(mode="after")
    def _fits_together(self) -> Self:
        """Refuse tables that do not fit each other, wherever they come from."""
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
        """Return the profile together with measurements of its devices, and with trims that were kept."""
        return PreparedProfile(self, calibration, dict(trims or {}), dict(others or {}))

    def plan(
        self,
        calibration: Calibration | None = None,
        trims: Mapping[str, float] | None = None,
        others: Mapping[str, Calibration] | None = None,
    ) -> Plan:
        """Turn the profile into what the stages of a pipeline need to know.

        Args:
            calibration: what was measured of the device; what the profile says itself goes before it.
            trims: control → trim to begin with, where one was kept.
            others: what was measured of the devices of the other drivers, by their names.

        Raises:
            ProfileError: tables of a changed copy do not fit each other.
            CalibrationError: a number in a calibration is none that can be measured.
        """
        wrong = errors_of(self)  # a copy with other keys has not been checked
        if wrong:
            raise ProfileError(self.name, wrong)
        for one in (calibration, *(others or {}).values()):
            if one is not None:
                one.check()
        return build_plan(self, calibration, trims or {}, others or {})


@dataclass(frozen=True, slots=True)
class PreparedProfile:
    """A profile with what belongs to one machine; a pipeline takes it as it takes a profile.

    Attributes:
        calibration: what was measured of the device, if it was.
        trims: control → the trim that was kept.
        others: what was measured of the devices of the other drivers, by their names.
        files: where the calibrations were read from.
    """

    profile: Profile
    calibration: Calibration | None = None
    trims: Mapping[str, float] = field(default_factory=dict)
    others: Mapping[str, Calibration] = field(default_factory=dict)
    files: tuple[Path, ...] = ()

    def plan(self) -> Plan:
        """Return the plan, with the measured travels and the trims."""
        return self.profile.plan(self.calibration, self.trims, self.others)
