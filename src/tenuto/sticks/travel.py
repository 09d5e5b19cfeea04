"""First stage: a raw number becomes a position, −1…1 (or 0…1) of the control's measured travel."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from tenuto.basics.errors import ArgumentError
from tenuto.basics.number import Value


def from_centre(raw: Value, low: float, centre: float, high: float) -> Value:
    """Map raw numbers of a control that rests in its middle to −1…1.

    Each half is mapped separately, so that a centre that is not half-way still returns 0, and
    both ends return exactly −1 and 1. Beyond the ends the position is clipped.

    Args:
        raw: one number, or an array of any shape.
        low, centre, high: raw numbers, low < centre < high.

    Returns:
        The position, of the same kind and shape as ``raw``.
    """
    if isinstance(raw, np.ndarray):
        span = np.where(raw >= centre, high - centre, centre - low)
        return np.clip((raw - centre) / span, -1.0, 1.0)
    position = (raw - centre) / ((high - centre) if raw >= centre else (centre - low))
    return -1.0 if position < -1.0 else 1.0 if position > 1.0 else position


def from_end(raw: Value, low: float, high: float) -> Value:
    """Map raw numbers of a control that rests at its low end (trigger, lever, button) to 0…1.

    Args:
        raw: one number, or an array of any shape.
        low, high: raw numbers at rest and fully pressed, low < high.

    Returns:
        The position, of the same kind and shape as ``raw``, clipped to 0…1.
    """
    if isinstance(raw, np.ndarray):
        return np.clip((raw - low) / (high - low), 0.0, 1.0)
    position = (raw - low) / (high - low)
    return 0.0 if position < 0.0 else 1.0 if position > 1.0 else position


@dataclass(frozen=True, slots=True)
class Travel:
    """The measured travel of one control, in the device's raw numbers.

    Attributes:
        low, high: the lowest and highest raw number it reaches.
        centre: the raw number in its middle; None for a control that rests at its low end.
        reverse: True reverses the result: −position, or 1 − position for one that rests at its end.
    """

    low: float
    centre: float | None
    high: float
    reverse: bool = False

    def __post_init__(self) -> None:
        middle = self.centre if self.centre is not None else (self.low + self.high) / 2
        if not self.low < middle < self.high:
            raise ArgumentError(f"travel needs low < centre < high, got {self.low}, {self.centre}, {self.high}")

    def position(self, raw: Value) -> Value:
        """Return the position for a raw number or an array of them: −1…1, or 0…1 without a centre."""
        if self.centre is None:
            position = from_end(raw, self.low, self.high)
            return 1.0 - position if self.reverse else position
        position = from_centre(raw, self.low, self.centre, self.high)
        return 0.0 - position if self.reverse else position  # 0.0 − 0.0 has no minus sign

    def raw(self, position: float) -> float:
        """Return the raw number at a position, the inverse of `position`; clipped to the travel.

        Args:
            position: −1…1, or 0…1 without a centre.
        """
        if self.centre is None:
            share = min(max(1.0 - position if self.reverse else position, 0.0), 1.0)
            raw = self.low + share * (self.high - self.low)
        else:
            share = min(max(-position if self.reverse else position, -1.0), 1.0)
            raw = self.centre + share * (self.high - self.centre if share > 0.0 else self.centre - self.low)
        return min(max(raw, self.low), self.high)  # within the travel after rounding too

    def direct(self) -> Callable[[float], float]:
        """Return the fastest function for the same position of a float, which a pipeline calls at every tick."""
        low, centre, high = self.low, self.centre, self.high
        if centre is None:
            if self.reverse:
                return self.position
            travel = high - low

            def rises(raw: float) -> float:
                position = (raw - low) / travel
                return 0.0 if position < 0.0 else 1.0 if position > 1.0 else position

            return rises
        above, below, middle = high - centre, centre - low, centre

        def swings(raw: float) -> float:
            position = (raw - middle) / (above if raw >= middle else below)
            return -1.0 if position < -1.0 else 1.0 if position > 1.0 else position

        def swings_back(raw: float) -> float:
            position = (raw - middle) / (above if raw >= middle else below)
            return 1.0 if position < -1.0 else -1.0 if position > 1.0 else 0.0 - position

        return swings_back if self.reverse else swings
