"""Sixth stage: how fast the command may change, on the way to a speed and on the way to a stop."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from tenuto.core.demand import STANDSTILL, VelocityCommand

_HALVINGS = 40


@dataclass(frozen=True, slots=True)
class Limits:
    """How fast the command may change while somebody drives.

    Attributes:
        acceleration: of the forward speed, m/s².
        turn_acceleration: of the turning speed, rad/s².
    """

    acceleration: float
    turn_acceleration: float


def approach(previous: float, target: float, most: float) -> float:
    """Go from ``previous`` towards ``target`` by at most ``most``, and never past it. Any one unit."""
    change = target - previous
    if change > most:
        return previous + most
    if change < -most:
        return previous - most
    return target


def ramp(
    previous: VelocityCommand,
    target: VelocityCommand,
    dt: float,
    limits: Limits,
    fits: Callable[[VelocityCommand], bool],
) -> VelocityCommand:
    """Change the command towards a target within the limits and within what the chassis can do.

    Each axis goes at its own limit, so that steering stays quick while the speed still builds up. On
    the way, one axis may still be leaving while the other already arrives, and both together be more
    than the wheels can turn. Then the axis that is leaving keeps its step and the one that arrives waits:
    neither limit is ever broken, and neither axis can block the other.

    Args:
        previous: the command of the tick before; it must fit the chassis.
        target: where to go; it must fit the chassis.
        dt: seconds since the tick before, not negative.
        limits: see `Limits`.
        fits: tells whether the chassis can do a command.
    """
    if previous == target:
        return target
    vx = approach(previous.vx, target.vx, limits.acceleration * dt)
    yaw_rate = approach(previous.yaw_rate, target.yaw_rate, limits.turn_acceleration * dt)
    wanted = VelocityCommand(vx, yaw_rate)
    if fits(wanted):
        return wanted
    leaving = VelocityCommand(
        vx if abs(vx) < abs(previous.vx) else previous.vx,
        yaw_rate if abs(yaw_rate) < abs(previous.yaw_rate) else previous.yaw_rate,
    )
    return _furthest(leaving, wanted, fits)


def _furthest(start: VelocityCommand, end: VelocityCommand, fits: Callable[[VelocityCommand], bool]) -> VelocityCommand:
    """Give the last command on the straight way from ``start``, which fits, to ``end`` that still fits."""
    low, high = 0.0, 1.0
    best = start
    for _ in range(_HALVINGS):
        share = (low + high) / 2
        between = VelocityCommand(
            start.vx + share * (end.vx - start.vx), start.yaw_rate + share * (end.yaw_rate - start.yaw_rate)
        )
        if fits(between):
            low, best = share, between
        else:
            high = share
    return best


def ramp_to_stop(
    previous: VelocityCommand, dt: float, deceleration: float, turn_deceleration: float
) -> VelocityCommand:
    """Slow down on the arc that is being driven: both speeds shrink by the same share.

    The axis that needs longer at its own deceleration sets the time, so neither is exceeded, and the
    radius of the arc stays as it is until the robot stands.

    Args:
        previous: the command of the tick before.
        dt: seconds since the tick before, not negative.
        deceleration: m/s². turn_deceleration: rad/s².
    """
    seconds_left = max(abs(previous.vx) / deceleration, abs(previous.yaw_rate) / turn_deceleration)
    if seconds_left <= dt:
        return STANDSTILL
    share = 1.0 - dt / seconds_left
    return VelocityCommand(previous.vx * share, previous.yaw_rate * share)
