"""The highest pace of a motion that keeps its path and exceeds no acceleration.

On a given path only the pace is free: the share σ of the written velocity at which each moment of it is driven. With
x = σ² the change of velocity over a step is linear in the x at both its ends, so the fastest pace is found by going
through the path twice: backwards for the largest x from which the rest can still be driven, and forwards with the
largest x that follows (time-optimal path parameterisation by reachability: H. Pham and Q.-C. Pham, IEEE Transactions on
Robotics 34 (3), 2018).
"""

from __future__ import annotations

import numpy as np

from tenuto.basics.number import Array

_HALVINGS = 24
_NOTHING = 1e-12
# The lowest share: any written motion continues at least at a thousandth of its pace.
_LEAST = 1e-6

_Rows = list[list[float]]


def paces(velocities: Array, most: Array, step: float) -> Array:
    """Return the share σ of its velocity for each moment of a motion; 0 at an end that is not at rest.

    Args:
        velocities: (moment, axis), as written. most: the greatest change of each axis, per s.
        step: between two moments as written, s.
    """
    change = np.diff(velocities, axis=0)
    after: _Rows = ((velocities[1:] + change / 2.0) / 2.0).tolist()
    before: _Rows = ((velocities[:-1] - change / 2.0) / 2.0).tolist()
    bounds: list[float] = (most * step).tolist()
    still = np.abs(velocities[[0, -1]]).max(axis=1) <= _NOTHING
    last = len(velocities) - 1
    reach = [float(still[1])] * len(velocities)
    for row in range(last - 1, -1, -1):
        reach[row] = _largest(after[row], before[row], bounds, reach[row + 1])
    found = [reach[0] * float(still[0])]
    for row in range(last):
        found.append(max(_next(after[row], before[row], bounds, found[row], reach[row + 1]), _LEAST))
    return np.sqrt(found)


def moments(shares: Array, step: float) -> Array:
    """Return the time of each moment of a motion, s, by the shares of its pace."""
    between = np.maximum(shares[1:] + shares[:-1], 2.0 * np.sqrt(_LEAST)) / 2.0
    return np.concatenate([[0.0], np.cumsum(step / between)])


def _largest(after: list[float], before: list[float], bounds: list[float], reach: float) -> float:
    """Return the largest x from which some x of the next moment, up to ``reach``, can be reached."""
    if _leads_on(after, before, bounds, 1.0, reach):
        return 1.0
    low, high = 0.0, 1.0
    for _ in range(_HALVINGS):
        middle = (low + high) / 2.0
        low, high = (middle, high) if _leads_on(after, before, bounds, middle, reach) else (low, middle)
    return low


def _leads_on(after: list[float], before: list[float], bounds: list[float], x: float, reach: float) -> bool:
    least, most = 0.0, reach
    for a, b, bound in zip(after, before, bounds, strict=True):
        if a > _NOTHING:
            least, most = max(least, (b * x - bound) / a), min(most, (b * x + bound) / a)
        elif a < -_NOTHING:
            least, most = max(least, (b * x + bound) / a), min(most, (b * x - bound) / a)
        elif abs(b * x) > bound:
            return False
    return least <= most


def _next(after: list[float], before: list[float], bounds: list[float], x: float, reach: float) -> float:
    """Return the largest x of the next moment."""
    most = reach
    for a, b, bound in zip(after, before, bounds, strict=True):
        if a > _NOTHING:
            most = min(most, (b * x + bound) / a)
        elif a < -_NOTHING:
            most = min(most, (b * x - bound) / a)
    return most
