"""Sixth stage: the limits of a change of the command, towards a speed and towards a stop."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import NamedTuple

from tenuto.sticks.smoothing import THERE
from tenuto.styles.speeds import Speeds
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# A stop with less than this left is complete, s: rounding would leave speeds of 1e-17 m/s for another tick.
_DONE = 1e-6
# For vx, vy, vz and yaw rate: the limits while increasing and while decreasing, m/s² or rad/s².
Axes = tuple[tuple[float, float], ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Limits:
    """How fast the command may change while somebody drives.

    Attributes:
        acceleration: of the forward and the sideways speed each, m/s².
        turn_acceleration: of the turning speed, rad/s².
        deceleration: of these speeds while they decrease, m/s²; None for the same as while they increase.
        turn_deceleration: rad/s², likewise.
        vertical_acceleration: of the climbing speed, m/s².
        jerk: how fast the accelerations of the speeds may change, m/s³; infinite for no S-curve.
        turn_jerk: rad/s³.
    """

    acceleration: float
    turn_acceleration: float
    deceleration: float | None = None
    turn_deceleration: float | None = None
    vertical_acceleration: float = 1.0
    jerk: float = math.inf
    turn_jerk: float = math.inf

    @property
    def plain(self) -> bool:
        """Whether increasing and decreasing have one limit."""
        return self.deceleration is None and self.turn_deceleration is None

    @property
    def axes(self) -> Axes:
        """For vx, vy, vz and yaw rate: the limits while increasing and while decreasing."""
        slow = self.acceleration if self.deceleration is None else self.deceleration
        turn_slow = self.turn_acceleration if self.turn_deceleration is None else self.turn_deceleration
        level, vertical = (self.acceleration, slow), (self.vertical_acceleration, self.vertical_acceleration)
        return level, level, vertical, (self.turn_acceleration, turn_slow)

    @property
    def smoothing(self) -> float:
        """The time over which the command is averaged, s, so that no acceleration changes faster than its jerk.

        The mean of a velocity v over T s changes by (v(t) − v(t − T))/T a second. Its acceleration changes by at most
        twice the largest acceleration divided by T, which must not exceed the jerk.
        """
        return max(self.windows)

    @property
    def windows(self) -> tuple[float, float]:
        """The time of averaging that the jerk of the speeds needs, and that of the turn, s; the longer one is used."""
        level, _, vertical, turn = self.axes
        return 2.0 * max(*level, *vertical) / self.jerk, 2.0 * max(turn) / self.turn_jerk


def within_speeds(limits: Limits, speeds: Speeds) -> Limits:
    """Return limits whose accelerations are no larger than a robot of these speeds can use with this jerk.

    From one end of the stick to the other, v m/s apart, it takes v/a + 2·a/j s, which is least for a = √(v·j/2). A
    larger acceleration would only lengthen the time of averaging.
    """
    level = max(speeds.forward + speeds.backward, 2.0 * speeds.sideways)
    (up, down), _, (climb, _), (turn_up, turn_down) = limits.axes
    return replace(
        limits,
        acceleration=_useful(up, level, limits.jerk),
        deceleration=None if limits.deceleration is None else _useful(down, level, limits.jerk),
        turn_acceleration=_useful(turn_up, 2.0 * speeds.turn, limits.turn_jerk),
        turn_deceleration=None
        if limits.turn_deceleration is None
        else _useful(turn_down, 2.0 * speeds.turn, limits.turn_jerk),
        vertical_acceleration=_useful(climb, speeds.up + speeds.down, limits.jerk),
    )


def _useful(acceleration: float, change: float, jerk: float) -> float:
    return min(acceleration, math.sqrt(change * jerk / 2.0)) if change > 0.0 else acceleration


class OnTheWay(NamedTuple):
    """A limit that delays an axis: its field in a velocity, the word for it, and its value, m/s² or rad/s²."""

    axis: str
    word: str
    limit: float


def on_the_way(command: VelocityCommand, target: VelocityCommand, limits: Limits) -> list[OnTheWay]:
    """List the limits because of which an axis has not reached its target. For `explain` only."""
    found = []
    axes = zip(VelocityCommand._fields, limits.axes, command, target, strict=True)
    for axis, (grow, shrink), now, end in axes:
        if now != end:
            faster = abs(end) > abs(now) and now * end >= 0.0
            found.append(OnTheWay(axis, "acceleration" if faster else "deceleration", grow if faster else shrink))
    return found


def approach(previous: float, target: float, most: float) -> float:
    """Go from ``previous`` towards ``target`` by at most ``most``, and never past it. All have the same unit.

    A result next to 0 is exactly 0, not a rounding error.
    """
    change = target - previous
    if change > most + THERE:
        made = previous + most
    elif change < -most - THERE:
        made = previous - most
    else:
        return target
    return made if made > THERE or made < -THERE else 0.0


def ramp_to_stop(
    previous: VelocityCommand,
    dt: float,
    deceleration: float,
    turn_deceleration: float,
    vertical_deceleration: float = 1.0,
) -> VelocityCommand:
    """Slow down on the present arc: all speeds decrease by the same share.

    The axis that needs longest at its own deceleration sets the time, so none is exceeded, and the radius of the
    arc stays as it is until the robot stands.

    Args:
        previous: the command of the tick before.
        dt: seconds since the tick before, not negative.
        deceleration: along the ground, m/s². turn_deceleration: rad/s². vertical_deceleration: m/s².
    """
    vx, vy, vz, yaw_rate = previous
    ground = math.hypot(vx, vy) if vy else abs(vx)
    seconds_left = max(ground / deceleration, abs(yaw_rate) / turn_deceleration, abs(vz) / vertical_deceleration)
    if seconds_left <= dt + _DONE:
        return STANDSTILL
    share = 1.0 - dt / seconds_left
    return VelocityCommand(vx * share, vy * share, vz * share, yaw_rate * share)
