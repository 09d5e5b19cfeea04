"""Smoothing, exact for unequal time steps. Each function is one step: it takes the state and returns the new one.

All take floats or arrays of one shape (many signals at once); ``dt`` is the seconds since the step before.
"""

from __future__ import annotations

import math

import numpy as np

from tenuto.basics.number import Value

# A value this near to its target has reached it: rounding would leave 1e-17 for another step.
THERE = 1e-9


def median_of_three(oldest: Value, before: Value, newest: Value) -> Value:
    """Return the median of three numbers: it removes a single spike of any height."""
    if isinstance(newest, np.ndarray):
        return np.maximum(np.minimum(oldest, before), np.minimum(np.maximum(oldest, before), newest))
    return sorted((oldest, before, newest))[1]


def low_pass(previous: Value, value: Value, dt: float, time_constant: float) -> Value:
    """Follow a value as a first-order low pass: y' = (x − y)/T, solved exactly for x constant over the step.

    y = x + (y₀ − x)·exp(−dt/T): for a constant input the output does not depend on the length of the steps.

    Args:
        previous: y₀. value: x. time_constant: T, s, above 0.
    """
    return value + (previous - value) * math.exp(-dt / time_constant)


def rate_limited(previous: Value, value: Value, dt: float, up: float, down: float) -> Value:
    """Follow a value, with one limit on its speed away from 0 and another on its speed towards 0.

    On the way through 0, the time left after reaching 0 is used for leaving it, so the result does not depend on the
    length of the steps.

    Args:
        previous: the last output. value: the target.
        up: the greatest increase of |output| a second. down: its greatest decrease a second.
    """
    if isinstance(value, np.ndarray):
        sides = np.sign(np.where(previous == 0.0, value, previous))
        start, end = abs(previous), value * sides
        left = dt - start / down
        grown = np.minimum(end, start + up * dt)
        shrunk = np.maximum(end, start - down * dt)
        turned = np.maximum(end, -up * left)
        return sides * np.where(end >= start, grown, np.where((end < 0.0) & (left > 0.0), turned, shrunk))
    side = -1.0 if previous < 0.0 or (previous == 0.0 and value < 0.0) else 1.0
    start, end = side * previous, side * value
    if end >= start:
        most = start + up * dt
        return side * (end if end < most + THERE else most if most > THERE else 0.0)
    least = start - down * dt
    if end < 0.0 and least < 0.0:
        least = -up * (dt - start / down)
    if end > least - THERE:
        return side * end
    return side * least if least > THERE or least < -THERE else 0.0
