"""The resolution of a device after shaping."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from tenuto.basics.number import Array
from tenuto.curves.base import Shape
from tenuto.sticks import shaping

# Outputs nearer to each other than this are equal.
_SAME = 1e-9


class Resolution(NamedTuple):
    """The resolution of a device after shaping.

    Attributes:
        outputs: the number of different outputs.
        smallest: the smallest one above 0; NaN if there is none.
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
        shape: applied to the position after the dead zone; ``dead_zone`` and ``outer`` as in `shaping`.
        one_way: the control rests at its end: its travel is 0…1, not −1…1.
    """
    positions = np.linspace(0.0 if one_way else -1.0, 1.0, max(steps, 2))
    return shape(shaping.dead_zone(positions, dead_zone, outer))


def resolution(
    steps: int, shape: Shape, dead_zone: float = 0.0, outer: float = 0.0, *, one_way: bool = False
) -> Resolution:
    """Return the number of different outputs after shaping, and the smallest one; arguments as `shaped_steps`."""
    return resolution_of(shaped_steps(steps, shape, dead_zone, outer, one_way=one_way))


def resolution_of(outputs: Array) -> Resolution:
    """Return the same for known outputs, one for each step of the device, in any order."""
    rising = np.sort(outputs)
    different = rising[np.r_[True, np.diff(rising) > _SAME]]
    above = different[different > _SAME]
    slow = above[above <= 0.2 * different[-1] + _SAME]
    return Resolution(len(different), float(above[0]) if len(above) else float("nan"), len(slow))
