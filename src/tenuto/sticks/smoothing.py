"""Smoothing, right for uneven steps of time. Each function is one step: the state goes in, the new state comes out.

All take floats or arrays of one shape (many signals at once); ``dt`` is the seconds since the step before.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from tenuto.basics.number import Value


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
    if previous < 0.0 or (previous == 0.0 and value < 0.0):
        return -rate_limited(-previous, -value, dt, up, down)
    if value >= previous:
        return min(value, previous + up * dt)
    if value >= 0.0:
        return max(value, previous - down * dt)
    left = dt - previous / down
    return previous - down * dt if left <= 0.0 else max(value, -up * left)


# A velocity nearer to its target than this, in its own unit, has arrived.
_ARRIVED = 1e-6


class Motion(NamedTuple):
    """A velocity and how fast it changes, in any one unit and that unit a second."""

    velocity: float
    acceleration: float


def jerk_limited(now: Motion, target: float, dt: float, up: float, down: float, jerk: float) -> Motion:
    """Go towards a target velocity on an S-curve that never goes past it.

    The acceleration grows by at most jerk·dt a step. It is never larger than what can be taken back in time:
    while it falls to 0 at the jerk j the velocity still changes by a²/(2·j), so with a step dt before that
    a·dt + a²/(2·j) ≤ d, the change that is left, or a ≤ j·(√(dt² + 2·d/j) − dt). The steps to come may be of any
    length: the sum over a falling acceleration is never more than its integral.

    When the target jumps to the other side, or so near that the acceleration cannot be taken back in time, the
    acceleration is dropped at once: a driver who changes his mind is obeyed before the ramp is smooth.

    Args:
        now: velocity and acceleration. target: the velocity to go to.
        up, down: limits of the acceleration while speeding up and while slowing down. jerk: its change a second.
    """
    velocity, acceleration = now
    if dt <= 0.0:
        return now
    # Through standstill in two parts, so that each has its own limit.
    aim = 0.0 if velocity * target < 0.0 else target
    change = aim - velocity
    if change == 0.0:
        if aim == target:
            return Motion(target, 0.0)
        aim = target
        change = aim - velocity
    side = 1.0 if change > 0.0 else -1.0
    most = up if abs(aim) > abs(velocity) else down
    distance = abs(change)
    had = max(acceleration * side, 0.0)
    # Where it goes on beyond standstill, only what is more than the limit there must have been taken back.
    spare = 0.0 if aim == target else up * up / (2.0 * jerk)
    reach = jerk * (math.sqrt(dt * dt + 2.0 * (distance + spare) / jerk) - dt)
    gained = min(most, had + jerk * dt, reach)
    if gained * dt >= distance - _ARRIVED:
        return Motion(aim, 0.0 if aim == target else side * min(gained, up))
    return Motion(velocity + side * gained * dt, side * gained)
