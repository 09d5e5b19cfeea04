"""Sixth stage: how fast the command may change, on the way to a speed and on the way to a stop."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

from tenuto.sticks.smoothing import Motion, jerk_limited, rate_limited
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

_HALVINGS = 24
# A step that brings the command nearer to its target by less than this share of the time it takes leads nowhere.
_STUCK = 1e-3

Fits = Callable[[VelocityCommand], bool]


@dataclass(frozen=True, slots=True, kw_only=True)
class Limits:
    """How fast the command may change while somebody drives.

    Attributes:
        acceleration: of the forward and the sideways speed each, m/s².
        turn_acceleration: of the turning speed, rad/s².
        deceleration: of these speeds while they shrink, m/s²; None for the same as while they grow.
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
        """Whether growing and shrinking have one limit, and there is no S-curve."""
        return self.deceleration is None and self.turn_deceleration is None and self.jerk == self.turn_jerk == math.inf

    @property
    def axes(self) -> tuple[tuple[float, float, float], ...]:
        """For vx, vy, vz and yaw rate: the limits while growing and while shrinking, and the jerk."""
        slow = self.acceleration if self.deceleration is None else self.deceleration
        turn_slow = self.turn_acceleration if self.turn_deceleration is None else self.turn_deceleration
        level = (self.acceleration, slow, self.jerk)
        vertical = (self.vertical_acceleration, self.vertical_acceleration, self.jerk)
        return level, level, vertical, (self.turn_acceleration, turn_slow, self.turn_jerk)


class OnTheWay(NamedTuple):
    """A limit that holds an axis: its field in a velocity, the word for it, and its value, m/s² or rad/s²."""

    axis: str
    word: str
    limit: float


def on_the_way(command: VelocityCommand, target: VelocityCommand, limits: Limits) -> list[OnTheWay]:
    """List the limits by which each axis is not yet where it is heading. For `explain` only."""
    found = []
    axes = zip(VelocityCommand._fields, limits.axes, command, target, strict=True)
    for axis, (grow, shrink, _), now, end in axes:
        if now != end:
            faster = abs(end) > abs(now) and now * end >= 0.0
            found.append(OnTheWay(axis, "acceleration" if faster else "deceleration", grow if faster else shrink))
    return found


def approach(previous: float, target: float, most: float) -> float:
    """Go from ``previous`` towards ``target`` by at most ``most``, and never past it. Any one unit."""
    change = target - previous
    if change > most:
        return previous + most
    if change < -most:
        return previous - most
    return target


class CommandRamp:
    """Changes the command towards a target within the limits and within what the chassis can do.

    ============ ==============================================================================================
    way          how the axes go
    ============ ==============================================================================================
    "each"       each at its own limit, so that steering stays quick while the speed still builds up
    "rolling"    forward speed at its limit; sideways and turn follow in proportion, so that steered wheels keep their
                 angle while the robot speeds up and slows down, and turn as quickly as the limits allow
    "straight"   all the straight way to the target, by one share: the direction of motion does not swerve
    ============ ==============================================================================================

    On the way, axes that are leaving and axes that arrive may together be more than the chassis can do. Then the
    command goes as far as it can with those that leave first, or the straight way to the target, or the straight way to
    standstill, whichever leads on: the limits are never broken, and the robot never gets stuck.
    """

    def __init__(self) -> None:
        # Of each axis: only an S-curve has to remember it.
        self._accelerations = STANDSTILL
        self._limits: Limits | None = None
        self._axes: tuple[tuple[float, float, float], ...] = ()
        self._plain = True

    def rest(self) -> None:
        """Forget how the command was changing: something else has taken it over."""
        self._accelerations = STANDSTILL

    def step(
        self,
        previous: VelocityCommand,
        target: VelocityCommand,
        dt: float,
        limits: Limits,
        fits: Fits,
        way: str = "each",
    ) -> VelocityCommand:
        """Return the next command.

        Args:
            previous: the command of the tick before; it must fit the chassis.
            target: where to go; it must fit the chassis.
            dt: seconds since the tick before, not negative.
            limits: see `Limits`.
            fits: tells whether the chassis can do a command.
            way: see above.
        """
        if previous == target:
            self._accelerations = STANDSTILL
            return target
        if limits is not self._limits:
            self._limits, self._axes, self._plain = limits, limits.axes, limits.plain
        if way == "straight":
            wanted = self._one_share(previous, target, dt)
        elif way == "rolling":
            wanted = self._rolling(previous, target, dt)
        else:
            wanted = _plain_step(previous, target, dt, limits) if self._plain else self._step(previous, target, dt)
        if fits(wanted):
            return wanted
        self._accelerations = STANDSTILL
        return self._around(previous, target, wanted, dt, fits)

    def _around(
        self, previous: VelocityCommand, target: VelocityCommand, wanted: VelocityCommand, dt: float, fits: Fits
    ) -> VelocityCommand:
        """Find another step where the one that is wanted does not fit."""
        leaving = VelocityCommand(
            *(new if abs(new) < abs(old) else old for old, new in zip(previous, wanted, strict=True))
        )
        found = [_furthest(leaving, wanted, fits)] if fits(leaving) else []
        straight = self._one_share(previous, target, dt)
        if fits(straight):
            found.append(straight)
        best = min(found, key=lambda one: self._seconds_left(one, target), default=previous)
        if self._seconds_left(best, target) < self._seconds_left(previous, target) - _STUCK * dt:
            return best
        return self._one_share(previous, STANDSTILL, dt)

    def _rolling(self, previous: VelocityCommand, target: VelocityCommand, dt: float) -> VelocityCommand:
        """Take the forward speed first, then what belongs to it on the arc that is wanted."""
        stepped = self._step(previous, VelocityCommand(target.vx, *previous[1:]), dt)
        vx = stepped.vx
        # Where it is going, or while it comes to a stop or turns round, where it is: at this speed.
        there = target if target.vx * vx > 0.0 else previous if previous.vx * vx > 0.0 else STANDSTILL
        if there is STANDSTILL:
            # Where it went more sideways than ahead, that takes longer to come down: no axis jumps.
            slower = self._one_share(previous, STANDSTILL, dt)
            return VelocityCommand(vx) if slower == STANDSTILL else slower
        scale = vx / there.vx
        aim = VelocityCommand(vx, there.vy * scale, there.vz, there.yaw_rate * scale)
        followed = self._one_share(VelocityCommand(vx, *previous[1:]), aim, dt)
        return VelocityCommand(vx, *followed[1:])

    def _one_share(self, previous: VelocityCommand, aim: VelocityCommand, dt: float) -> VelocityCommand:
        """Go the straight way to an aim, all axes by the one share that keeps every limit."""
        share = 1.0
        for old, new, (up, down, _) in zip(previous, aim, self._axes, strict=True):
            if old != new:
                slower = down if abs(new) < abs(old) and old * new >= 0.0 else min(up, down)
                share = min(share, slower * dt / abs(new - old))
        return aim if share >= 1.0 else _between(previous, aim, share)

    def _seconds_left(self, start: VelocityCommand, target: VelocityCommand) -> float:
        """Return how long the axis that needs longest needs to its target."""
        return max(abs(b - a) / up for a, b, (up, _, _) in zip(start, target, self._axes, strict=True))

    def _step(self, previous: VelocityCommand, target: VelocityCommand, dt: float) -> VelocityCommand:
        """Let each axis follow its own limits, with their S-curves."""
        moved, gained = list(previous), [0.0, 0.0, 0.0, 0.0]
        for axis, speed in enumerate(target):
            before = previous[axis]
            if before == speed:
                continue
            up, down, jerk = self._axes[axis]
            if jerk == math.inf:
                moved[axis] = rate_limited(before, speed, dt, up, down)
            else:
                now = Motion(before, self._accelerations[axis])
                moved[axis], gained[axis] = jerk_limited(now, speed, dt, up, down, jerk)
        self._accelerations = VelocityCommand(*gained)
        return VelocityCommand(*moved)


def _plain_step(previous: VelocityCommand, target: VelocityCommand, dt: float, limits: Limits) -> VelocityCommand:
    """Let each axis follow its one limit: what most profiles have, and the shortest way."""
    vx, vy, vz, yaw_rate = previous
    to_vx, to_vy, to_vz, to_yaw_rate = target
    most = limits.acceleration * dt
    axes = (
        vx if vx == to_vx else approach(vx, to_vx, most),
        vy if vy == to_vy else approach(vy, to_vy, most),
        vz if vz == to_vz else approach(vz, to_vz, limits.vertical_acceleration * dt),
        yaw_rate if yaw_rate == to_yaw_rate else approach(yaw_rate, to_yaw_rate, limits.turn_acceleration * dt),
    )
    return tuple.__new__(VelocityCommand, axes)  # as VelocityCommand(*axes) does, by the shortest way


def _between(start: VelocityCommand, end: VelocityCommand, share: float) -> VelocityCommand:
    return VelocityCommand(*(a + share * (b - a) for a, b in zip(start, end, strict=True)))


def _furthest(start: VelocityCommand, end: VelocityCommand, fits: Fits) -> VelocityCommand:
    """Return the last command on the straight way from ``start``, which fits, to ``end`` that still fits."""
    low, high = 0.0, 1.0
    best = start
    for _ in range(_HALVINGS):
        share = (low + high) / 2
        between = _between(start, end, share)
        if fits(between):
            low, best = share, between
        else:
            high = share
    return best


def ramp_to_stop(
    previous: VelocityCommand,
    dt: float,
    deceleration: float,
    turn_deceleration: float,
    vertical_deceleration: float = 1.0,
) -> VelocityCommand:
    """Slow down on the arc that is being driven: all speeds shrink by the same share.

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
    if seconds_left <= dt:
        return STANDSTILL
    share = 1.0 - dt / seconds_left
    return VelocityCommand(vx * share, vy * share, vz * share, yaw_rate * share)
