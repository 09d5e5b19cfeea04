"""A calibration: what was measured of one device, kept as TOML, written so that nothing is ever lost."""

from __future__ import annotations

import os
import re
import shutil
import tempfile
import tomllib
from collections.abc import Sequence
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from tenuto.basics.errors import CalibrationError
from tenuto.basics.html import html_table

FORMAT = 1


@dataclass(frozen=True, slots=True)
class ControlCalibration:
    """One control as it was measured; raw numbers unless said otherwise.

    Attributes:
        kind: "middle" (rests there), "end" (rests at its lowest) or "switch".
        low, high: its ends. centre: where it comes to rest; None unless it rests in the middle.
        noise: standard deviation at rest.
        scatter: standard deviation of the places where it came to rest.
        dead_zone: recommended half-width, as a share of the travel.
        steps: how many different numbers its travel has.
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
    """What was measured of one device.

    Attributes:
        device: its identity, as its source says it.
        name: what it calls itself.
        controls: name → `ControlCalibration`.
        all_controls: the names of all controls that the device had, measured or not.
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
        """Read a calibration. Raises `CalibrationError` naming file, key and what is wrong."""
        try:
            tables = tomllib.loads(Path(path).read_text(encoding="utf-8"))
        except OSError as error:
            raise CalibrationError(f"{path}: expected a readable file: {error.strerror}") from error
        except (UnicodeDecodeError, tomllib.TOMLDecodeError, RecursionError) as error:
            raise CalibrationError(f"{path}: expected TOML, found what is not: {error}") from error
        return _from_tables(str(path), tables)

    def save(self, path: str | Path) -> None:
        """Write a calibration; the one before is kept beside it as ``….before``.

        The file is written under another name, put on the disk, and renamed: whatever happens on the way, there
        is always a whole one. Raises `CalibrationError`.
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
            raise CalibrationError(f"{path}: cannot save the calibration there: {error.strerror}") from error

    def why_not_for(self, identity: str, controls: Sequence[str]) -> str:
        """Say why this calibration is not for a device, or nothing when it is.

        A recording has no identity, and a calibration that was made from one has none: then nothing can be said.
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


def write_atomically(target: Path, text: str) -> None:
    """Put text into a file in one step: written beside it, on the disk, then renamed. Raises OSError."""
    handle, name = tempfile.mkstemp(dir=target.parent, prefix=f".{target.name}.")
    try:
        with os.fdopen(handle, "w", encoding="utf-8") as file:
            file.write(text)
            file.flush()
            os.fsync(file.fileno())
        os.replace(name, target)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise


def default_path(identity: str) -> Path:
    """Return where the calibration of a device is kept: in the user's data folder."""
    from platformdirs import user_data_path

    return user_data_path("tenuto") / "calibrations" / (re.sub(r"[^\w.-]+", "_", identity) + ".toml")


def _without_nothing(table: dict[str, Any]) -> dict[str, Any]:
    kept = {key: list(value) if isinstance(value, tuple) else value for key, value in table.items()}
    return {key: value for key, value in kept.items() if value is not None and value != []}


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
    for name, control in calibration.controls.items():
        centre = (control.low + control.high) / 2 if control.centre is None else control.centre
        if not control.low < centre < control.high:
            found = f"{control.low:g}, {control.centre}, {control.high:g}"
            raise CalibrationError(f"{where}: controls.{name}: expected low < centre < high, found {found}")
    return calibration


def find_calibration(
    profile: Path, identity: str, controls: Sequence[str], driver: str = ""
) -> tuple[Calibration, Path] | None:
    """Find the calibration for a drive: beside the profile, or in the user's data folder.

    Args:
        profile: the profile's file; ``medlar.toml`` has its calibration in ``medlar.calibration.toml``.
        identity: of the device; empty for a recording, which does not say what it was made with.
        controls: the names of the device's controls.
        driver: of a driver of lower rank, whose calibration is in ``medlar.DRIVER.calibration.toml``.

    Raises:
        CalibrationError: there is one, but it cannot be read, or was made for another device.
    """
    beside = profile.with_suffix(f".{driver}.calibration.toml" if driver else ".calibration.toml")
    for path in (beside, *([default_path(identity)] if identity else [])):
        if path.exists():
            found = Calibration.load(path)
            reason = found.why_not_for(identity, controls)
            if reason:
                raise CalibrationError(f"{path}: not for this device: {reason}; calibrate again, or take the file away")
            return found, path
    return None
