"""Flight with two sticks, in one of the trade's four stick modes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

from tenuto.kinds.options import Role, option
from tenuto.styles.base import Style, StyleOptions
from tenuto.styles.flight import Flight
from tenuto.vehicles.base import Chassis

# Which axis of which stick climbs, turns, goes forward and goes sideways: the trade's four transmitter stick modes.
STICK_MODES = {
    1: {"climb": "right_y", "turn": "left_x", "forward": "left_y", "sideways": "right_x"},
    2: {"climb": "left_y", "turn": "left_x", "forward": "right_y", "sideways": "right_x"},
    3: {"climb": "right_y", "turn": "right_x", "forward": "left_y", "sideways": "left_x"},
    4: {"climb": "left_y", "turn": "right_x", "forward": "right_y", "sideways": "left_x"},
}


@dataclass(frozen=True, kw_only=True)
class FlightSticksOptions(StyleOptions):
    """Two sticks, in one of the four usual stick modes."""

    kind: ClassVar[str] = "flight_sticks"
    stick_mode: Literal[1, 2, 3, 4] = option("1, 2, 3 or 4")
    left_x: str = option("is the left stick to its left", role=Role.DRIVES)
    left_y: str = option("is the left stick forward", role=Role.DRIVES)
    right_x: str = option("is the right stick to its left", role=Role.DRIVES)
    right_y: str = option("is the right stick forward", role=Role.DRIVES)

    def style(self, chassis: Chassis) -> Style:
        """Return the flight style of the stick mode."""
        return Flight(**{axis: getattr(self, stick) for axis, stick in STICK_MODES[self.stick_mode].items()})
