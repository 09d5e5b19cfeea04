"""A curve through points."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any, ClassVar

import numpy as np

from tenuto.basics.errors import ArgumentError
from tenuto.basics.number import Value
from tenuto.curves.base import Curve


@dataclass(frozen=True, slots=True)
class Points(Curve):
    """A curve through points that never decreases, and never overshoots a point.

    Between two points it is a cubic whose slopes keep it monotone: piecewise
    cubic Hermite interpolation, F. N. Fritsch and J. Butland, "A method for constructing local monotone piecewise
    cubic interpolants", SIAM J. Sci. Stat. Comput. 5 (1984).

    Attributes:
        places: positions of the points, increasing.
        cubics: for each piece a, b, c, d of a·t³ + b·t² + c·t + d, t counted from the piece's first point.
        last: the output at the last point.
    """

    kind: ClassVar[str] = "curve"
    what: ClassVar[str] = "a list of points [position, output], such as [[0, 0], [0.5, 0.2], [1, 1]]"
    places: tuple[float, ...]
    cubics: tuple[tuple[float, float, float, float], ...]
    last: float

    @classmethod
    def through(cls, points: Sequence[Sequence[float]], *, free: bool = False, low: float = -1.0) -> Points:
        """Make a curve through points (position, output).

        Points from 0 on only are mirrored for a control that rests in its middle.

        Args:
            points: at least two, positions increasing from ``low`` (or 0) to 1.
            free: the curve need not pass through −1, 0 and 1; it must still not decrease.
            low: −1, or 0 for a control that rests at its end.

        Raises:
            ArgumentError: a point breaks a rule; the message names it.
        """
        pairs = [(float(x), float(y)) for x, y in points]
        half = low < 0.0 and bool(pairs) and pairs[0][0] == 0.0
        _refuse(pairs, 0.0 if half else low, free)
        if half:
            pairs = [(-x, -y) for x, y in reversed(pairs) if x > 0.0] + pairs
        return cls(tuple(x for x, _ in pairs), _cubics(pairs), pairs[-1][1])

    @classmethod
    def checked(cls, value: Any) -> tuple[tuple[float, float], ...]:
        """Read a list of points.

        Raises:
            ArgumentError: it is not a list of points.
        """
        try:
            return tuple((_number(x), _number(y)) for x, y in value)
        except (TypeError, ValueError):
            raise ArgumentError("write it like [[0, 0], [1, 1]]") from None

    @classmethod
    def made(cls, value: Any, *, free: bool = False, low: float = -1.0) -> Points:
        """Make the curve."""
        return cls.through(value, free=free, low=low)

    def words(self) -> str:
        """Describe it."""
        return "by its curve through points"

    def __call__(self, position: Value) -> Value:
        """Return the output for a position, one number or an array; beyond the ends that of the ends."""
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


def _cubics(pairs: list[tuple[float, float]]) -> tuple[tuple[float, float, float, float], ...]:
    """Return the cubic of each piece, from the slopes at both its ends."""
    widths = [b[0] - a[0] for a, b in pairwise(pairs)]
    rises = [(b[1] - a[1]) / (b[0] - a[0]) for a, b in pairwise(pairs)]
    slopes = _slopes(widths, rises)
    return tuple(
        ((before + after - 2.0 * rise) / width**2, (3.0 * rise - 2.0 * before - after) / width, before, y)
        for (_, y), width, rise, (before, after) in zip(pairs, widths, rises, pairwise(slopes), strict=False)
    )


def _slopes(widths: list[float], rises: list[float]) -> list[float]:
    """Return the slope at each point: a weighted harmonic mean of those of its pieces; 0 if one of them is 0.

    At an end it is that of a parabola through the three points there, limited to 0 … three times that of its piece.
    """
    if len(rises) == 1:
        return [rises[0], rises[0]]
    inner = [
        0.0 if not before or not after
        else 3.0 * (left + right) / ((2.0 * right + left) / before + (right + 2.0 * left) / after)
        for (left, right), (before, after) in zip(pairwise(widths), pairwise(rises), strict=True)
    ]  # fmt: skip

    def end(first: int, second: int) -> float:
        near, far = widths[first], widths[second]
        slope = ((2.0 * near + far) * rises[first] - near * rises[second]) / (near + far)
        return min(max(slope, 0.0), 3.0 * rises[first])

    return [end(0, 1), *inner, end(-1, -2)]


def _number(value: object) -> float:
    if isinstance(value, bool) or not isinstance(value, (int, float)):
        raise TypeError
    return float(value)


def _refuse(pairs: list[tuple[float, float]], low: float, free: bool) -> None:
    """Raise for the first point that breaks a rule."""
    if len(pairs) < 2:
        raise ArgumentError("a curve needs at least two points")
    for x, y in pairs:
        if not (low <= x <= 1.0 and -1.0 <= y <= 1.0):
            raise ArgumentError(f"the point {_said(x, y)} is outside {low:g} to 1 or its output outside −1 to 1")
    for (x, y), (next_x, next_y) in pairwise(pairs):
        if not x < next_x:
            raise ArgumentError(f"the point {_said(next_x, next_y)} does not come after {_said(x, y)}")
        if next_y < y:
            raise ArgumentError(f"the curve falls from {_said(x, y)} to {_said(next_x, next_y)}")
    if (pairs[0][0], pairs[-1][0]) != (low, 1.0):
        first_or_last = pairs[0] if pairs[0][0] != low else pairs[-1]
        raise ArgumentError(f"the points must go from {low:g} to 1, and {_said(*first_or_last)} is an end")
    if not free:
        _refuse_free(pairs, low)


def _refuse_free(pairs: list[tuple[float, float]], low: float) -> None:
    for place in (low, 0.0, 1.0):
        outputs = [y for x, y in pairs if x == place]
        if outputs != [place]:
            found = _said(place, outputs[0]) if outputs else "no point there"
            raise ArgumentError(
                f"it must pass through {_said(place, place)}, and has {found}; say curve_free to allow it"
            )


def _said(x: float, y: float) -> str:
    return f"[{x:g}, {y:g}]"
