"""The units in which people read the speeds of a vehicle: metres and degrees, or % of full without measures."""

from __future__ import annotations

import math
from typing import NamedTuple


class Unit(NamedTuple):
    """A unit in which a number of the core is shown.

    Attributes:
        name: such as "m/s". scale: the factor from the core's number to this unit.
    """

    name: str
    scale: float = 1.0

    def shown(self, value: float, form: str = ".2f") -> str:
        """Return a number with its unit."""
        return f"{self.number(value, form)} {self.name}"

    def number(self, value: float, form: str = ".2f") -> str:
        """Return a number in this unit; a share in whole % only, with the sign that ``form`` asks for."""
        if self.name.startswith("%"):
            form = ("+" if form.startswith("+") else "") + ".0f"
        text = f"{value * self.scale:{form}}"
        # A value that is zero after rounding has no sign.
        return text if float(text) or not text.startswith("-") else f"{0.0:{form}}"


class Units(NamedTuple):
    """The units of a vehicle.

    Attributes:
        speed: along the ground and up. turn: of turning. acceleration, turn_acceleration: of their changes.
        known: these are metres and degrees; otherwise no distance is known either.
    """

    speed: Unit
    turn: Unit
    acceleration: Unit
    turn_acceleration: Unit
    known: bool = True

    def of(self, axis: str) -> Unit:
        """Return the unit of an axis of a velocity, ``"vx"`` to ``"yaw_rate"``."""
        return self.turn if axis == "yaw_rate" else self.speed

    def change_of(self, axis: str) -> Unit:
        """Return the unit in which an axis changes."""
        return self.turn_acceleration if axis == "yaw_rate" else self.acceleration


_DEG = math.degrees(1.0)
DEGREES, DEGREES_A_SECOND = Unit("deg", _DEG), Unit("deg/s", _DEG)
METRIC = Units(Unit("m/s"), DEGREES_A_SECOND, Unit("m/s²"), Unit("deg/s²", _DEG))
SHARES = Units(Unit("%", 100.0), Unit("%", 100.0), Unit("%/s", 100.0), Unit("%/s", 100.0), known=False)
# The hint where metres are needed for a vehicle without measures.
NO_METRES = "this vehicle has no measures, so metres are not known"
