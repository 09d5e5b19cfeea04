"""Curves that are tried on the page: the resulting curve of a stick, and the change of the profile's file."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np

from tenuto.analysis.curves import shaped_alone
from tenuto.basics.errors import TenutoError
from tenuto.curves.base import CURVES
from tenuto.driving.plan import Plan
from tenuto.profile import Profile, load_profile
from tenuto.profile.patch import Change, apply_changes

# Number of points of a drawn curve.
_POINTS = 81
_DIGITS = 4
# The keys that may be changed → smallest and largest value.
_EASY = {"dead_zone": (0.0, 0.5), "expo": (0.0, 1.0)}


class Curves:
    """The curves of one profile's file; every change is checked as the profile is."""

    def __init__(self, file: str) -> None:
        """Set the path of the profile; empty if it was made in code, and nothing can be tried."""
        self._file = Path(file) if file else None

    def all(self) -> list[dict[str, Any]]:
        """Return every driving control that can be changed here, with its settings and its curve."""
        if self._file is None:
            return []
        try:
            profile = load_profile(self._file)
            plan = profile.plan()
        except (TenutoError, OSError):
            return []  # the file is being written
        return [one for name in plan.driving_controls() if (one := _curve(profile, plan, name)) is not None]

    def tried(self, control: str, numbers: Mapping[str, float]) -> dict[str, Any]:
        """Return the curve of a control with other settings, or why it is not possible."""
        try:
            profile = self._changed(control, numbers)
            found = _curve(profile, profile.plan(), control)
        except (TenutoError, OSError, ValueError) as error:
            return {"type": "curve", "control": control, "why": str(error)}
        return {"type": "curve", "control": control, **(found or {"why": "it is not a control that drives"})}

    def save(self, control: str, numbers: Mapping[str, float]) -> str:
        """Write the settings of a control into the file and keep its comments; return the message about it."""
        try:
            self._changed(control, numbers)
            assert self._file is not None
            changes = [
                Change(key.split("."), round(value, 3), "", "tried on the page")  # type: ignore[arg-type]
                for key, value in self._keys(control, numbers).items()
            ]
            apply_changes(self._file, changes)
        except (TenutoError, OSError, ValueError) as error:
            return f"not saved: {error}"
        return f"saved in {self._file.name}: the robot takes it once it stands"

    def _changed(self, control: str, numbers: Mapping[str, float]) -> Profile:
        if self._file is None:
            raise TenutoError("the profile has no file")
        return load_profile(self._file).with_(**{key: round(v, 3) for key, v in self._keys(control, numbers).items()})

    def _keys(self, control: str, numbers: Mapping[str, float]) -> dict[str, float]:
        wrong = [name for name in numbers if name not in _EASY]
        if wrong:
            raise TenutoError(f"expected {', '.join(_EASY)}, found {wrong[0]}")
        return {f"controls.{control}.{name}": value for name, value in numbers.items()}


def _curve(profile: Profile, plan: Plan, name: str) -> dict[str, Any] | None:
    """Return a control's settings and its curve alone; None if the page cannot change it."""
    control = next((one for one in plan.controls if one.name == name), None)
    table = profile.controls.get(name)
    if control is None or table is None:
        return None
    own = {"dead_zone": control.dead_zone}
    if any(stick.zone != "axes" and name in (stick.x, stick.y) for stick in plan.sticks):
        own = {}  # the stick has one for both axes
    said = {kind: value for kind in CURVES.all if (value := getattr(table, kind)) is not None}
    positive, negative = said.pop("expo", (0.0, 0.0))
    if not said and positive == negative:  # other curves cannot be changed here
        own["expo"] = positive
    positions = np.linspace(0.0 if control.one_way else -1.0, 1.0, _POINTS)
    shaped = shaped_alone(plan, control, positions)
    return {
        "control": name,
        "settings": {key: {"value": round(value, _DIGITS), "low": _EASY[key][0], "high": _EASY[key][1]}
                     for key, value in own.items()},
        "x": [round(float(one), _DIGITS) for one in positions],
        "y": [round(float(one), _DIGITS) + 0.0 for one in shaped],
    }  # fmt: skip
