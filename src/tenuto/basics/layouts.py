"""Controls of a device: their names, their raw numbers, and the direction in which they count.

The raw numbers of a source stay as the device sends them. The direction kept here turns them into "forward, left
and up are positive", so that a recording of a pad and the pad itself are the same to a profile. The layouts
themselves are with the kinds of source.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import NamedTuple

# The dead zone of a stick or a trigger that was not measured: none rests exactly in its middle.
DEAD_ZONE = 0.1


class Keys(NamedTuple):
    """The keys that set a control, which stays set: those that set and clear it, and what else clears it."""

    on: str
    off: str
    ends: str


@dataclass(frozen=True, slots=True)
class ControlInfo:
    """One control of a device.

    Attributes:
        name: as the device names it.
        low, high: the lowest and highest raw number that the device can send; infinite if unknown.
        rest: the raw number at rest; equal to ``low`` for triggers and buttons.
        counts_down: True if the raw number decreases as the control goes forward, left or up.
        ends: its usual range, if that is less than the device can send.
        exact: it rests exactly at ``rest``, as keys do: a dead zone would only take its first steps away.
        keys: those that set it, if it is not held.
    """

    name: str
    low: float
    high: float
    rest: float
    counts_down: bool = False
    ends: tuple[float, float] | None = None
    exact: bool = False
    keys: Keys | None = None

    @property
    def kind(self) -> str:
        """Its sort: "button", "lever" (rests at its end) or "stick" (rests in its middle)."""
        if (self.low, self.high, self.rest) == (0.0, 1.0, 0.0):
            return "button"
        return "stick" if self.low < self.rest < self.high else "lever"

    @property
    def usual_dead_zone(self) -> float:
        """The dead zone if nothing was measured or set, as a share of its travel."""
        return 0.0 if self.exact or self.kind == "button" else DEAD_ZONE

    @property
    def travel(self) -> tuple[float, float] | None:
        """The usual ends of its travel, or None if nothing is known before it is measured."""
        if self.ends is not None or math.isfinite(self.low):
            return self.ends or (self.low, self.high)
        return None
