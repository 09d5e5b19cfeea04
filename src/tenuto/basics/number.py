"""The two kinds of number that a stage works on: a float on the live path, an array for a plot or a table.

The functions below choose by the type of their arguments, so one formula serves both.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

# A stage takes one of the two and gives the same kind back.
Value = TypeVar("Value", float, Array)


def hypot(a: Value, b: Value) -> Value:
    """Return √(a² + b²)."""
    return np.hypot(a, b) if isinstance(a, np.ndarray) or isinstance(b, np.ndarray) else math.hypot(a, b)


def arctan2(y: Value, x: Value) -> Value:
    """Return the angle of (x, y), rad."""
    return np.arctan2(y, x) if isinstance(y, np.ndarray) or isinstance(x, np.ndarray) else math.atan2(y, x)


def cos(angle: Value) -> Value:
    """Return the cosine of an angle, rad."""
    return np.cos(angle) if isinstance(angle, np.ndarray) else math.cos(angle)


def sin(angle: Value) -> Value:
    """Return the sine of an angle, rad."""
    return np.sin(angle) if isinstance(angle, np.ndarray) else math.sin(angle)


def larger(a: Value, b: Value) -> Value:
    """Return the larger of two, element by element."""
    return np.maximum(a, b) if isinstance(a, np.ndarray) or isinstance(b, np.ndarray) else max(a, b)


def smaller(a: Value, b: Value) -> Value:
    """Return the smaller of two, element by element."""
    return np.minimum(a, b) if isinstance(a, np.ndarray) or isinstance(b, np.ndarray) else min(a, b)


def ratio(a: Value, b: Value, where_none: float) -> Value:
    """Return a/b, and the given number if b is 0."""
    if isinstance(a, np.ndarray) or isinstance(b, np.ndarray):
        first, second = np.broadcast_arrays(np.asarray(a, dtype=float), np.asarray(b, dtype=float))
        quotient: Array = np.full(first.shape, where_none)
        np.divide(first, second, out=quotient, where=second != 0.0)
        return quotient
    return a / b if b else where_none


def weighted(weights: Iterable[float], values: Iterable[Value]) -> Value:
    """Return the sum of values, each times its weight; at least one."""
    pairs = zip(weights, values, strict=True)
    weight, value = next(pairs)
    total = weight * value
    for weight, value in pairs:
        total = total + weight * value
    return total


def side_of(a: Value) -> Value:
    """Return −1 where a number is negative, else 1."""
    if isinstance(a, np.ndarray):
        return np.where(a < 0.0, -1.0, 1.0)
    return -1.0 if a < 0.0 else 1.0
