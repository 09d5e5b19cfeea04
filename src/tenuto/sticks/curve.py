"""Curves: how much a stick does at each place of its travel, by points, and what a device's steps leave of it."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import NamedTuple

import numpy as np

from tenuto.basics.number import Array, Value
from tenuto.sticks import shaping

# Outputs nearer to each other than this are one and the same.
_SAME = 1e-9


@dataclass(frozen=True, slots=True)
class Curve:
    """A curve through points that never falls, and never swings past a point.

    Between two points it is a cubic whose slopes are chosen so that it keeps the direction of the points: piecewise
    cubic Hermite interpolation, F. N. Fritsch and J. Butland, "A method for constructing local monotone piecewise
    cubic interpolants", SIAM J. Sci. Stat. Comput. 5 (1984). SciPy works the coefficients out when the curve is
    made; a step is plain arithmetic.

    Attributes:
        places: positions of the points, rising.
        cubics: for each piece a, b, c, d of a·t³ + b·t² + c·t + d, t counted from the piece's first point.
        last: the output at the last point.
    """

    places: tuple[float, ...]
    cubics: tuple[tuple[float, float, float, float], ...]
    last: float

    @classmethod
    def through(cls, points: Sequence[Sequence[float]], *, free: bool = False, low: float = -1.0) -> Curve:
        """Make a curve through points (position, output).

        Points from 0 on only are mirrored for a control that rests in its middle.

        Args:
            points: at least two, positions rising from ``low`` (or 0) to 1.
            free: the curve need not pass through −1, 0 and 1; it must still not fall.
            low: −1, or 0 for a control that rests at its end.

        Raises:
            ValueError: naming the point that breaks a rule.
        """
        pairs = [(float(x), float(y)) for x, y in points]
        half = low < 0.0 and bool(pairs) and pairs[0][0] == 0.0
        _refuse(pairs, 0.0 if half else low, free)
        if half:
            pairs = [(-x, -y) for x, y in reversed(pairs) if x > 0.0] + pairs
        from scipy.interpolate import PchipInterpolator

        made = PchipInterpolator([x for x, _ in pairs], [y for _, y in pairs])
        cubics = tuple((float(a), float(b), float(c), float(d)) for a, b, c, d in made.c.T)
        return cls(tuple(x for x, _ in pairs), cubics, pairs[-1][1])

    def __call__(self, position: Value) -> Value:
        """Give the output for a position, one number or an array; beyond the ends as at the ends."""
        places, cubics = self.places, self.cubics
        if isinstance(position, np.ndarray):
            inside = np.clip(position, places[0], places[-1])
            piece = np.clip(np.searchsorted(places, inside, side="right") - 1, 0, len(cubics) - 1)
            a, b, c, d = np.moveaxis(np.array(cubics)[piece], -1, 0)
            t = inside - np.array(places)[piece]
            return np.where(inside >= places[-1], self.last, ((a * t + b) * t + c) * t + d)
        if position >= places[-1]:
            return self.last
        if position <= places[0]:
            return cubics[0][3]
        number = bisect_right(places, position) - 1
        a, b, c, d = cubics[number]
        t = position - places[number]
        return ((a * t + b) * t + c) * t + d


def _refuse(pairs: list[tuple[float, float]], low: float, free: bool) -> None:
    """Raise for the first point that breaks a rule."""
    if len(pairs) < 2:
        raise ValueError("a curve needs at least two points")
    for x, y in pairs:
        if not (low <= x <= 1.0 and -1.0 <= y <= 1.0):
            raise ValueError(f"the point {_said(x, y)} is outside {low:g} to 1 or its output outside −1 to 1")
    for (x, y), (next_x, next_y) in pairwise(pairs):
        if not x < next_x:
            raise ValueError(f"the point {_said(next_x, next_y)} does not come after {_said(x, y)}")
        if next_y < y:
            raise ValueError(f"the curve falls from {_said(x, y)} to {_said(next_x, next_y)}")
    if (pairs[0][0], pairs[-1][0]) != (low, 1.0):
        first_or_last = pairs[0] if pairs[0][0] != low else pairs[-1]
        raise ValueError(f"the points must go from {low:g} to 1, and {_said(*first_or_last)} is an end")
    if not free:
        _refuse_free(pairs, low)


def _refuse_free(pairs: list[tuple[float, float]], low: float) -> None:
    for place in (low, 0.0, 1.0):
        outputs = [y for x, y in pairs if x == place]
        if outputs != [place]:
            found = _said(place, outputs[0]) if outputs else "no point there"
            raise ValueError(f"it must pass through {_said(place, place)}, and has {found}; say curve_free to allow it")


def _said(x: float, y: float) -> str:
    return f"[{x:g}, {y:g}]"


@dataclass(frozen=True, slots=True)
class Shape:
    """What is made of a position after its dead zone: a curve, an expo or a power, then a scale.

    Attributes:
        expo, expo_negative: see `shaping.expo`. power, power_negative: see `shaping.power`; 1 for none.
        curve: takes the place of expo and power.
        scale: what is left of the end of the stick, 0…1.
    """

    expo: float = 0.0
    expo_negative: float = 0.0
    power: float = 1.0
    power_negative: float = 1.0
    curve: Curve | None = None
    scale: float = 1.0

    @property
    def straight(self) -> bool:
        """Whether it changes nothing."""
        return self == STRAIGHT

    def __call__(self, position: Value) -> Value:
        """Give the output, of the same kind and shape as the position."""
        if self.curve is not None:
            position = self.curve(position)
        elif self.power != 1.0 or self.power_negative != 1.0:
            position = shaping.power(position, self.power, self.power_negative)
        elif self.expo != 0.0 or self.expo_negative != 0.0:
            position = shaping.expo(position, self.expo, self.expo_negative)
        return position * self.scale if self.scale != 1.0 else position

    def direct(self) -> Callable[[float], float]:
        """Give the shortest way to the same output for a float: what a pipeline calls at every tick."""
        if self == Shape(expo=self.expo, expo_negative=self.expo):
            expo, amount = shaping.expo, self.expo
            return lambda position: expo(position, amount)
        if self.curve is not None and self.scale == 1.0:
            return self.curve
        return self


STRAIGHT = Shape()


class Resolution(NamedTuple):
    """What the steps of a device leave after shaping.

    Attributes:
        outputs: how many different outputs there are.
        smallest: the smallest one above 0; NaN where there is none.
        slow: how many of them are above 0 and up to a fifth of the largest.
    """

    outputs: int
    smallest: float
    slow: int


def shaped_steps(
    steps: int, shape: Shape, dead_zone: float = 0.0, outer: float = 0.0, *, one_way: bool = False
) -> Array:
    """Give the output at each of a device's steps.

    Args:
        steps: how many different numbers the device sends over the whole travel, 2 or more.
        shape: what is made of the position after the dead zone; ``dead_zone`` and ``outer`` as in `shaping`.
        one_way: the control rests at its end: its travel is 0…1, not −1…1.
    """
    positions = np.linspace(0.0 if one_way else -1.0, 1.0, max(steps, 2))
    return shape(shaping.dead_zone(positions, dead_zone, outer))


def resolution(
    steps: int, shape: Shape, dead_zone: float = 0.0, outer: float = 0.0, *, one_way: bool = False
) -> Resolution:
    """Tell how many different outputs are left after shaping, and the smallest one; arguments as `shaped_steps`."""
    return resolution_of(shaped_steps(steps, shape, dead_zone, outer, one_way=one_way))


def resolution_of(outputs: Array) -> Resolution:
    """Tell the same of outputs that are known, one a step of the device, in any order."""
    rising = np.sort(outputs)
    different = rising[np.r_[True, np.diff(rising) > _SAME]]
    above = different[different > _SAME]
    slow = above[above <= 0.2 * different[-1] + _SAME]
    return Resolution(len(different), float(above[0]) if len(above) else float("nan"), len(slow))
