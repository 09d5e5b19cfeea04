"""A calibration: the measurement of one device, stored as TOML, written so that nothing is ever lost."""

from __future__ import annotations

import math
import os
import re
import shutil
import tempfile
from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from tenuto.basics.errors import CalibrationError
from tenuto.basics.html import html_table
from tenuto.files import UnreadableError, read_toml, write_atomically

FORMAT = 1
KINDS = ("middle", "end", "switch")
# The largest dead zone of a profile; a recommended one is far below.
MOST_DEAD_ZONE = 0.9
AGAIN = "calibrate again, or delete the file"


@dataclass(frozen=True, slots=True)
class ControlCalibration:
    """The measurement of one control; raw numbers unless said otherwise.

    Attributes:
        kind: "middle" (rests there), "end" (rests at its lowest) or "switch".
        low, high: its ends. centre: its rest; None unless it rests in the middle.
        noise: standard deviation at rest.
        scatter: standard deviation of its rests.
        dead_zone: recommended half-width, as a share of the travel.
        steps: number of different values of its travel.
        positions: of a switch, in rising order.
    """

    kind: str
    low: float
    high: float
    centre: float | None = None
    noise: float = 0.0
    scatter: float = 0.0
    dead_zone: float = 0.0
    steps: int = 0
    positions: tuple[float, ...] = ()


@dataclass(frozen=True, slots=True)
class Calibration:
    """The measurement of one device.

    Attributes:
        device: its identity, from its source.
        name: given by the device.
        controls: name → `ControlCalibration`.
        all_controls: the names of all controls of the device, measured or not.
    """

    device: str
    name: str
    controls: dict[str, ControlCalibration]
    all_controls: tuple[str, ...] = field(default=())

    def _repr_html_(self) -> str:
        rows = [
            (name, one.kind, f"{one.low:g}", "" if one.centre is None else f"{one.centre:g}", f"{one.high:g}",
             f"{one.noise:.3g}", f"{one.dead_zone:.3f}", one.steps)
            for name, one in self.controls.items()
        ]  # fmt: skip
        head = ("control", "kind", "low", "centre", "high", "noise", "dead zone", "steps")
        return html_table(f"{self.name}, as it was measured", rows, head)

    @classmethod
    def load(cls, path: str | Path) -> Calibration:
        """Read a calibration. Raises `CalibrationError` that names file, key and error."""
        try:
            _, tables = read_toml(path)
        except UnreadableError as error:
            line = f":{error.line}" if error.line else ""
            raise CalibrationError(f"{path}{line}: {error}") from error
        return _from_tables(str(path), tables)

    def save(self, path: str | Path) -> None:
        """Write a calibration; the previous one is kept beside it as ``….before``.

        The file is written under another name, flushed to the disk, and renamed: whatever happens on the way, there
        is always a complete one. Raises `CalibrationError`.
        """
        import tomlkit

        target = Path(path)
        tables: dict[str, Any] = {
            "format": FORMAT, "device": self.device, "name": self.name, "all_controls": list(self.all_controls),
            "controls": {name: _without_nothing(asdict(control)) for name, control in self.controls.items()},
        }  # fmt: skip
        text = "# Measured by tenuto calibrate; raw numbers as the device sends them.\n" + tomlkit.dumps(tables)
        try:
            target.parent.mkdir(parents=True, exist_ok=True)
            if target.exists():
                with tempfile.NamedTemporaryFile(dir=target.parent, delete=False) as before:
                    shutil.copyfile(target, before.name)
                os.replace(before.name, target.with_name(target.name + ".before"))
            write_atomically(target, text)
        except OSError as error:
            raise CalibrationError(f"{path}: cannot save the calibration there: {error.strerror or error}") from error

    def check(self, where: str = "calibration") -> None:
        """Raise `CalibrationError` if a number is impossible; ``where`` names it."""
        for name, control in self.controls.items():
            for key, expected, right in _numbers(control):
                if not right:
                    wrong = f"expected {expected}, found {getattr(control, key)}; {AGAIN}"
                    raise CalibrationError(f"{where}: controls.{name}.{key}: {wrong}")
            centre = (control.low + control.high) / 2 if control.centre is None else control.centre
            if not control.low < centre < control.high:
                found = f"{control.low:g}, {control.centre}, {control.high:g}"
                raise CalibrationError(f"{where}: controls.{name}: expected low < centre < high, found {found}")

    def why_not_for(self, identity: str, controls: Sequence[str]) -> str:
        """Explain why this calibration is not for a device, or return nothing if it is.

        A recording has no identity, nor has a calibration that was made from one: then nothing can be said.
        """
        if not identity:
            return ""
        if self.device and self.device != identity:
            return f"it was made for {self.name} ({self.device}), and this is {identity}"
        missing = [name for name in self.controls if name not in controls]
        if missing or (self.all_controls and set(self.all_controls) != set(controls)):
            others = sorted(set(self.all_controls) ^ set(controls))
            return f"{self.name} has other controls now: {', '.join(missing or others)} differ"
        return ""


def default_path(identity: str) -> Path:
    """Return the path of the calibration of a device: in the user's data folder."""
    from platformdirs import user_data_path

    return user_data_path("tenuto") / "calibrations" / (re.sub(r"[^\w.-]+", "_", identity) + ".toml")


def _without_nothing(table: dict[str, Any]) -> dict[str, Any]:
    kept = {key: list(value) if isinstance(value, tuple) else value for key, value in table.items()}
    return {key: value for key, value in kept.items() if value is not None and value != []}


def _numbers(control: ControlCalibration) -> Iterator[tuple[str, str, bool]]:
    """Describe for each key of a control what is expected, and whether it is met."""
    yield "kind", f"one of {', '.join(KINDS)}", control.kind in KINDS
    for key in ("low", "high", "centre"):
        value = getattr(control, key)
        yield key, "a finite number", value is None or math.isfinite(value)
    for key in ("noise", "scatter"):
        yield key, "a number from 0 up", 0.0 <= getattr(control, key) < math.inf
    yield "dead_zone", f"a share of the travel from 0 to {MOST_DEAD_ZONE:g}", 0.0 <= control.dead_zone <= MOST_DEAD_ZONE
    yield "steps", "a whole number from 0 up", control.steps >= 0
    yield (
        "positions",
        "finite numbers in rising order",
        (all(map(math.isfinite, control.positions)) and list(control.positions) == sorted(set(control.positions))),
    )


def _from_tables(where: str, tables: dict[str, Any]) -> Calibration:
    from pydantic import TypeAdapter, ValidationError

    if tables.pop("format", None) != FORMAT:
        raise CalibrationError(f"{where}: format: expected {FORMAT}, the format this version reads")
    try:
        calibration = TypeAdapter(Calibration).validate_python(tables, extra="forbid")
    except ValidationError as error:
        first = error.errors()[0]
        key = ".".join(str(part) for part in first["loc"])
        raise CalibrationError(f"{where}: {key}: {first['msg']}, found {first['input']!r}") from None
    calibration.check(where)
    return calibration
