"""Smoothing, right for uneven steps of time. Each function is one step: the state goes in, the new state comes out.

All take floats or arrays of one shape (many signals at once); ``dt`` is the seconds since the step before.
"""

from __future__ import annotations

import math

import numpy as np

from tenuto.basics.number import Value

# What is so near to where it goes is there: rounding would leave a rest of 1e-17 for one step more.
THERE = 1e-9


def median_of_three(oldest: Value, before: Value, newest: Value) -> Value:
    """Return the middle one of three numbers: a single spike, however high, does not get through."""
    if isinstance(newest, np.ndarray):
        return np.maximum(np.minimum(oldest, before), np.minimum(np.maximum(oldest, before), newest))
    return sorted((oldest, before, newest))[1]


def low_pass(previous: Value, value: Value, dt: float, time_constant: float) -> Value:
    """Follow a value as a first-order low pass: y' = (x − y)/T, solved exactly for x constant over the step.

    y = x + (y₀ − x)·exp(−dt/T): however a second is cut into steps, a constant input leads to the same output.

    Args:
        previous: y₀. value: x. time_constant: T, s, above 0.
    """
    return value + (previous - value) * math.exp(-dt / time_constant)


def rate_limited(previous: Value, value: Value, dt: float, up: float, down: float) -> Value:
    """Follow a value, with a limit on how fast it may leave 0 and another on how fast it may come back to 0.

    On the way through 0 the time that is left after coming back is used for leaving, so it does not matter how
    time is cut.

    Args:
        previous: where it was. value: where to go.
        up: the most that |output| may grow a second. down: the most that it may shrink a second.
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
