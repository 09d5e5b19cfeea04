"""Speeds as shares of a vehicle's fastest, and ramps as times to full: converted before a profile is checked.

``forward = "80 %"`` is 80 % of the fastest speed ahead, and ``acceleration = "0.4 s"`` reaches that
speed in 0.4 s. A vehicle without measures has only these: 1 is the full speed of its motors, and numbers without
a unit are shares. A value that cannot be converted becomes a `Refused`, whose reason is reported for its key.
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from typing import Any

from pydantic import ValidationError

from tenuto.kinds.quantities import TIME, Refused, parse_quantity
from tenuto.kinds.tables import made, table_of
from tenuto.vehicles.base import VEHICLES, VehicleOptions
from tenuto.vehicles.velocity import VelocityCommand

# Key → its axis of the velocity.
_SPEEDS = {"forward": 0, "backward": 0, "sideways": 1, "up": 2, "down": 2, "turn": 3}
_RAMPS = {"acceleration": 0, "deceleration": 0, "vertical_acceleration": 2, "turn_acceleration": 3,
          "turn_deceleration": 3}  # fmt: skip
_JERKS = {"jerk": 0, "turn_jerk": 3}
_STOPS = {"stop_deceleration": 0, "stop_vertical_deceleration": 2, "stop_turn_deceleration": 3}
_DOWN = {"descend_speed": 2}
_SHARE = re.compile(r"\s*(\d+\.?\d*|\.\d+)\s*%\s*")
_NO_MEASURES = "this vehicle has no measures"


def with_shares_settled(tables: dict[str, Any]) -> dict[str, Any]:
    """Return the tables of a profile with numbers instead of shares and times to full, or reasons for a refusal."""
    vehicle = _vehicle(tables.get("chassis"))
    if vehicle is None:
        return tables  # it has its own error
    settle = _Settler(vehicle)
    found = {**tables, **settle.speeds_and_limits(tables)}
    if isinstance(tables.get("guard"), dict):
        found["guard"] = settle.table(tables["guard"], speeds=_DOWN, ramps=_STOPS)
    if isinstance(tables.get("modes"), dict):
        found["modes"] = {
            name: {**mode, **settle.speeds_and_limits(mode)} if isinstance(mode, dict) else mode
            for name, mode in tables["modes"].items()
        }
    return found


def _vehicle(table: Any) -> VehicleOptions | None:
    """Return the vehicle of a table; None if that has errors."""
    if isinstance(table, VehicleOptions):
        return table
    kind = table.get("kind") if isinstance(table, dict) else None
    options = VEHICLES.find(kind) if isinstance(kind, str) else None
    try:
        vehicle = made(table_of(options, VEHICLES.what).model_validate(table)) if options is not None else None
    except ValidationError:
        return None
    return vehicle if isinstance(vehicle, VehicleOptions) and not any(vehicle.errors()) else None


class _Settler:
    """Converts shares to numbers, for one vehicle."""

    def __init__(self, vehicle: VehicleOptions) -> None:
        self._kind, self._in_shares = vehicle.kind, vehicle.in_shares
        self._full = (1.0,) * 4 if vehicle.in_shares else (math.inf,) * 4
        if vehicle.full_is_known and not vehicle.in_shares:
            self._full = vehicle.chassis(VelocityCommand(1.0, 1.0, 1.0, 1.0)).limits()[:4]

    def speeds_and_limits(self, table: Mapping[str, Any]) -> dict[str, Any]:
        """Return ``speeds`` and ``limits`` of a profile or of a mode, if they exist."""
        found: dict[str, Any] = {}
        if isinstance(table.get("speeds"), dict):
            found["speeds"] = self.table(table["speeds"], speeds=_SPEEDS)
        if isinstance(table.get("limits"), dict):
            limits = dict(table["limits"])
            ramp = limits.get("acceleration")
            said = _time(ramp) is not None or (self._in_shares and isinstance(ramp, (int, float)))
            if "turn_acceleration" not in limits and said:
                # A single time applies to the turn as well.
                limits["turn_acceleration"] = ramp
            found["limits"] = self.table(limits, ramps=_RAMPS)
        return found

    def table(
        self, table: Mapping[str, Any], speeds: Mapping[str, int] | None = None, ramps: Mapping[str, int] | None = None
    ) -> dict[str, Any]:
        """Return one table; ``speeds`` and ``ramps`` have the axis of each key."""
        found = dict(table)
        for key, axis in (speeds or {}).items():
            if isinstance(table.get(key), str):
                found[key] = self._speed(table[key], axis)
        for key, axis in (ramps or {}).items():
            if isinstance(table.get(key), str):
                found[key] = self._ramp(table[key], axis)
        for key in _JERKS if ramps else ():
            if self._in_shares and isinstance(table.get(key), str):
                found[key] = Refused(table[key], f"{_NO_MEASURES}: write a number, in shares of full per s³")
        return found

    def _speed(self, text: str, axis: int) -> object:
        match = _SHARE.fullmatch(text)
        if match is None:
            return Refused(text, f'{_NO_MEASURES}: write a share, such as "50 %"') if self._in_shares else text
        share = float(match[1]) / 100.0
        if not 0.0 < share <= 1.0:
            return Refused(text, "a share is above 0 %, and at most 100 %")
        return self._of_full(text, share, axis)

    def _ramp(self, text: str, axis: int) -> object:
        seconds = _time(text)
        if seconds is None:
            why = f'{_NO_MEASURES}: write the time to full, such as "0.5 s"'
            return Refused(text, why) if self._in_shares else text
        return self._of_full(text, 1.0 / seconds, axis)

    def _of_full(self, text: str, share: float, axis: int) -> object:
        full = self._full[axis]
        if 0.0 < full < math.inf:
            return share * full
        if full == 0.0:
            return Refused(text, "this vehicle cannot go that way, so there is no full speed to take a share of")
        return Refused(text, f"the full speed of this {self._kind} is not known: set its greatest speed in [chassis], "
                             "or write this with a unit")  # fmt: skip


def _time(text: object) -> float | None:
    """Return a time, s; None for anything else."""
    try:
        return parse_quantity(text, TIME) if isinstance(text, str) else None
    except ValueError:
        return None
