"""Controls of a device: what it calls them, what numbers they send, and which way they count.

The raw numbers of a source stay as the device sends them. What turns them into "forward, left and up
are positive" is the direction kept here, so that a recording of a pad and the pad itself are one thing
to a profile. The layouts themselves stand with the kinds of source.
"""

from __future__ import annotations

import math
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class ControlInfo:
    """One control of a device.

    Attributes:
        name: what the device calls it.
        low, high: the lowest and highest raw number that the device can send; infinite where unknown.
        rest: the raw number where it rests; equal to ``low`` for triggers and buttons.
        counts_down: True when the raw number falls as the control goes forward, left or up.
        ends: what it usually reaches, where that is not what it can send at most.
    """

    name: str
    low: float
    high: float
    rest: float
    counts_down: bool = False
    ends: tuple[float, float] | None = None

    @property
    def kind(self) -> str:
        """One word for it: "button", "lever" (rests at its end) or "stick" (rests in its middle)."""
        if (self.low, self.high, self.rest) == (0.0, 1.0, 0.0):
            return "button"
        return "stick" if self.low < self.rest < self.high else "lever"

    @property
    def travel(self) -> tuple[float, float] | None:
        """The usual ends of its travel, or None where nothing is known before it is measured."""
        if self.ends is not None or math.isfinite(self.low):
            return self.ends or (self.low, self.high)
        return None
