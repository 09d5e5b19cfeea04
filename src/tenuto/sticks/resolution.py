"""What the steps of a device leave after shaping."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from tenuto.basics.number import Array
from tenuto.curves.base import Shape
from tenuto.sticks import shaping

# Outputs nearer to each other than this are one and the same.
_SAME = 1e-9


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
    """Return the output at each of a device's steps.

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
    """Return how many different outputs are left after shaping, and the smallest one; arguments as `shaped_steps`."""
    return resolution_of(shaped_steps(steps, shape, dead_zone, outer, one_way=one_way))


def resolution_of(outputs: Array) -> Resolution:
    """Tell the same of outputs that are known, one a step of the device, in any order."""
    rising = np.sort(outputs)
    different = rising[np.r_[True, np.diff(rising) > _SAME]]
    above = different[different > _SAME]
    slow = above[above <= 0.2 * different[-1] + _SAME]
    return Resolution(len(different), float(above[0]) if len(above) else float("nan"), len(slow))
