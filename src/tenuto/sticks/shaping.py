"""Second stage, shaping: dead zones, curves, scale.

Every function takes floats or arrays and keeps no state: one with a memory (hysteresis, smoothing) takes the old
memory and returns the new one.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from tenuto.basics.errors import ArgumentError
from tenuto.basics.number import Value


def dead_zone(position: Value, inner: float, outer: float = 0.0) -> Value:
    """Ignore the middle of a stick and the range near its ends, and stretch the rest so that there is no jump.

    The output is 0 inside the inner zone, starts from 0 at its edge, and is ±1 from the outer zone on.

    Args:
        position: −1…1, one number or an array of any shape.
        inner: half-width of the zone in the middle, in the unit of ``position``.
        outer: width of the zone at each end; 0 ≤ inner, outer and inner + outer < 1.

    Returns:
        The same kind and shape as ``position``.

    Raises:
        ArgumentError: the zones leave no travel, or are below 0.
    """
    span = 1.0 - inner - outer
    if not (inner >= 0.0 and outer >= 0.0 and span > 0.0):
        raise ArgumentError(f"expected zones from 0, and less than 1 together, found {inner:g} and {outer:g}")
    if isinstance(position, np.ndarray):
        return np.sign(position) * np.clip((np.abs(position) - inner) / span, 0.0, 1.0)
    if position > inner:
        share = (position - inner) / span
        return share if share < 1.0 else 1.0
    if position < -inner:
        share = (position + inner) / span
        return share if share > -1.0 else -1.0
    return 0.0


def direct(inner: float, outer: float, shape: Callable[[float], float]) -> Callable[[float], float]:
    """Return the fastest function for dead zone and shape together, which a pipeline calls at every tick."""
    span = 1.0 - inner - outer

    def shaped(position: float) -> float:
        if position > inner:
            share = (position - inner) / span
            return shape(share if share < 1.0 else 1.0)
        if position < -inner:
            share = (position + inner) / span
            return shape(share if share > -1.0 else -1.0)
        return shape(0.0)

    return shaped


def leaves_dead_zone(size: float, inner: float, hysteresis: float, away: bool) -> bool:
    """Return whether a stick counts as moved, without chatter by noise at the edge of the dead zone.

    It returns to rest at ``inner``, and leaves rest at ``inner + hysteresis``. So the first position after the dead
    zones is hysteresis/(1 − inner − outer) instead of 0.

    Args:
        size: the distance of the stick from its middle, 0 or more.
        away: the last result.
    """
    return size > (inner if away else inner + hysteresis)


def round_dead_zone(x: Value, y: Value, inner: float, outer: float = 0.0) -> tuple[Value, Value]:
    """Apply a round dead zone to a stick with two axes: its length is stretched, its direction kept.

    In the corners of a square travel, the longer axis is limited to 1, and the direction is still kept.

    Args:
        x, y: −1…1, numbers or arrays of one shape. inner, outer: as for `dead_zone`, of the stick's length.
    """
    length = np.hypot(x, y) if isinstance(x, np.ndarray) else math.hypot(x, y)
    return _stretched(x, y, length, inner, outer)


def square_dead_zone(x: Value, y: Value, inner: float, outer: float = 0.0) -> tuple[Value, Value]:
    """Apply a square dead zone to a stick with two axes: as `round_dead_zone`, by its longer axis."""
    length = np.maximum(abs(x), abs(y)) if isinstance(x, np.ndarray) else max(abs(x), abs(y))
    return _stretched(x, y, length, inner, outer)


def _stretched(x: Value, y: Value, length: Value, inner: float, outer: float) -> tuple[Value, Value]:
    span = 1.0 - inner - outer
    if isinstance(length, np.ndarray):
        longer = np.maximum(abs(x), abs(y))
        safe = np.where(length > 0.0, length, 1.0)
        scale = np.maximum((length - inner) / span, 0.0) / safe
        np.divide(1.0, longer, out=scale, where=longer * scale > 1.0)
        return x * scale, y * scale
    if length <= inner:
        return 0.0, 0.0
    scale = (length - inner) / (span * length)
    most = max(abs(x), abs(y))
    if most * scale > 1.0:
        # Divided, not multiplied by 1/most: an end stays exactly 1.
        return x / most, y / most
    return x * scale, y * scale


def straight_dead_zone(x: Value, y: Value, inner: float, growth: float, outer: float = 0.0) -> tuple[Value, Value]:
    """Apply to each axis a dead zone that widens with the position of the other, so that straight stays straight.

    Each axis has `dead_zone` with inner + growth·|other axis|: a stick that is pushed all the way forward
    may lean to a side by that much before the robot turns.

    Args:
        x, y: −1…1, numbers or arrays of one shape.
        inner, outer: as for `dead_zone`. growth: 0 or more, inner + growth + outer < 1.
    """
    return _one_straight(x, y, inner, growth, outer), _one_straight(y, x, inner, growth, outer)


def _one_straight(axis: Value, other: Value, inner: float, growth: float, outer: float) -> Value:
    width = inner + growth * abs(other)
    if isinstance(axis, np.ndarray):
        return np.sign(axis) * np.clip((np.abs(axis) - width) / (1.0 - width - outer), 0.0, 1.0)
    share = (abs(axis) - width) / (1.0 - width - outer)
    return math.copysign(1.0 if share > 1.0 else share, axis) if share > 0.0 else 0.0


def round_to_square(x: Value, y: Value) -> tuple[Value, Value]:
    """Stretch a stick that travels in a circle so that it reaches the corners of the square; direction kept.

    Each point is moved outwards by length/longer axis: the rim of the circle lands on the rim of the square. A point
    beyond the circle lands there too.
    """
    if isinstance(x, np.ndarray):
        longer, length = _lengths(x, y)
        scale = np.where(longer > 0.0, np.minimum(length, 1.0) / np.where(longer > 0.0, longer, 1.0), 1.0)
        return x * scale, y * scale
    scale = to_square(x, y)
    return x * scale, y * scale


def to_square(x: float, y: float) -> float:
    """Return by how much `round_to_square` moves a point outwards: 1 to √2, or less beyond the circle."""
    longer, length = max(abs(x), abs(y)), math.hypot(x, y)
    return (length if length < 1.0 else 1.0) / longer if longer > 0.0 else 1.0


def square_to_round(x: Value, y: Value) -> tuple[Value, Value]:
    """Map a stick that reaches the corners of the square to the circle; the inverse of `round_to_square`."""
    longer, length = _lengths(x, y)
    if isinstance(longer, np.ndarray):
        scale = np.where(length > 0.0, longer / np.where(length > 0.0, length, 1.0), 1.0)
        return x * scale, y * scale
    return (x * longer / length, y * longer / length) if length > 0.0 else (x, y)


def _lengths(x: Value, y: Value) -> tuple[Value, Value]:
    """Return the longer axis and the length of a stick."""
    if isinstance(x, np.ndarray):
        return np.maximum(abs(x), abs(y)), np.hypot(x, y)
    return max(abs(x), abs(y)), math.hypot(x, y)
