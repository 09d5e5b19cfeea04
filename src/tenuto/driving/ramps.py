"""Sixth stage: the ramps of the command to its target, in the coordinates of the driver."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Callable, Mapping

from tenuto.basics.frame import ROUNDING_TIME
from tenuto.driving.limits import Axes, Limits, approach
from tenuto.sticks.smoothing import THERE, rate_limited
from tenuto.vehicles.base import Arcs, Chassis, Sides, Way
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

HALVINGS = 24
# A step that brings the command nearer to its target by less than this share is stuck.
STUCK = 1e-3
# What is left of a step in the window of an S-curve for a shorter time than this is a rounding error, s.
FLEETING = 5e-7
_NOTHING: Mapping[str, float] = {}

Fits = Callable[[VelocityCommand], bool]


class CommandRamp:
    """Changes the command towards a target within the limits and within what the chassis can do.

    ============ ==============================================================================================
    way          how the command goes
    ============ ==============================================================================================
    "each"       each axis at its own limit, so steering stays quick while the speed still increases
    "straight"   all axes by the same share, straight to the target: the direction of motion does not swerve
    `Sides`      each side at its own limit: a side whose stick rests is not moved by the other
    `Arcs`       the speed ahead at its limit, and the steered wheels towards the arc that is wanted as fast as they
                 steer: they follow the stick whatever the throttle does, at a stand too
    ============ ==============================================================================================

    On the way, decreasing and increasing axes may together exceed the chassis. Then the command first changes the
    decreasing axes as far as it can, or goes straight to the target, or straight to standstill, whichever gets nearer
    to the target: no limit is exceeded, and the robot never gets stuck.

    With a jerk limit the command is averaged over the time in which the jerk builds up twice the acceleration. So the
    acceleration of no axis changes faster, and none goes past its target; and if the chassis can do every velocity on
    the way, it can do their mean. If the limits of increasing and decreasing differ, an axis (with `Sides`: a side)
    that reverses goes through rest, until nothing in the window has the other direction: otherwise the mean would grow
    one way at the limit of the other. With `Sides` the turn then has the smaller of its limits.

    Attributes:
        arc: the direction of steered wheels: the sideways speed and the turn at 1 m/s ahead.
    """

    def __init__(self, chassis: Chassis) -> None:
        self._chassis = chassis
        self._way = chassis.ramp_way
        self._steers = self._way if isinstance(self._way, Arcs) else None
        self._fits: Fits = chassis.fits
        self.arc = (0.0, 0.0)
        self._limits: Limits | None = None
        self._axes: Axes = ()
        self._average: _Average | None = None
        self._plain = self._short = self._even = True

    def aim(self, target: VelocityCommand) -> VelocityCommand | None:
        """Return the velocity for which steered wheels must point at standstill; None if that makes no difference.

        Args:
            target: of the command: modules turn for it before they move.
        """
        if self._steers is not None:
            return VelocityCommand(1.0, self.arc[0], 0.0, self.arc[1])
        return target if self._way == "straight" else None

    def rest(self) -> None:
        """Forget how the command was changing: something else has changed it."""
        if self._average is not None:
            self._average.forget()

    def step(
        self,
        previous: VelocityCommand,
        target: VelocityCommand,
        dt: float,
        limits: Limits,
        way: Way | None = None,
        aim: VelocityCommand | None = None,
        actuators: Mapping[str, float] = _NOTHING,
    ) -> VelocityCommand:
        """Return the next command.

        Args:
            previous: the command of the tick before; it must fit the chassis.
            target: where to go; it must fit the chassis.
            dt: seconds since the tick before, not negative.
            limits: see `Limits`.
            way: see above; by default that of the chassis, which modules always keep.
            aim: the velocity for which steered wheels must point while the target is standstill; None to leave them.
            actuators: their values at the tick before, for those that cannot turn at once.
        """
        if limits is not self._limits:
            self._take(limits)
        if self._steers is not None:
            # In every style: between an arc ahead and an arc back there are velocities that no such vehicle can do.
            return self._arcs(previous, target, dt, self._steers, aim)
        # Modules go the straight way in every style: for any other way they would have to turn.
        way = self._way if way is None or self._way == "straight" else way
        average = self._average
        if self._short and way == "each":
            # The same as below, but faster: for most robots at every tick.
            wanted = _plain_step(previous, target, dt, limits)
            return wanted if wanted == target or self._fits(wanted) else self._around(previous, target, wanted, dt)
        if previous == target and (average is None or average.rests_at(target)):
            return target
        if average is None:
            return self._next(previous, target, dt, way, actuators)
        target = target if self._even else _through_rest(previous, target, way, self._axes)
        return average.step(self._next(average.newest(previous), target, dt, way, actuators), dt)

    def _take(self, limits: Limits) -> None:
        self._limits, self._axes, self._plain = limits, limits.axes, limits.plain
        self._average = _Average(limits.smoothing) if limits.smoothing > 0.0 else None
        self._even = all(up == down for up, down in self._axes)
        self._short = limits.plain and self._average is None and self._way != "straight"

    def _next(
        self,
        previous: VelocityCommand,
        target: VelocityCommand,
        dt: float,
        way: Way,
        actuators: Mapping[str, float],
    ) -> VelocityCommand:
        """Take a step without S-curve."""
        if previous == target:
            return target
        if isinstance(way, Sides):
            wanted = self._sides(previous, target, dt, way)
        elif way == "straight":
            wanted = self._one_share(previous, target, dt)
        else:
            wanted = self._each(previous, target, dt)
        if not self._fits(wanted):
            wanted = self._around(previous, target, wanted, dt)
        if way == "straight" and actuators:
            return self._followed(previous, wanted, dt, actuators)
        return wanted

    def _each(self, previous: VelocityCommand, target: VelocityCommand, dt: float) -> VelocityCommand:
        """Let each axis follow its own limits."""
        if self._plain and self._limits is not None:
            return _plain_step(previous, target, dt, self._limits)
        moved = list(previous)
        for axis, speed in enumerate(target):
            before = previous[axis]
            if before != speed:
                up, down = self._axes[axis]
                moved[axis] = rate_limited(before, speed, dt, up, down)
        return tuple.__new__(VelocityCommand, moved)  # as VelocityCommand(*moved) does, but faster

    def _sides(self, previous: VelocityCommand, target: VelocityCommand, dt: float, sides: Sides) -> VelocityCommand:
        """Let each side follow the speed limits; both wait if the robot would turn too fast."""
        (up, down), (turn_up, turn_down) = self._axes[0], self._axes[3]
        old, new = sides.of(previous), sides.of(target)
        stepped = tuple(rate_limited(a, b, dt, up, down) for a, b in zip(old, new, strict=True))
        wanted = target if stepped == new else sides.velocity(*stepped)
        turned = wanted.yaw_rate - previous.yaw_rate
        grows = _grows(turned, previous.yaw_rate)
        most = (min(turn_up, turn_down) if self._average else turn_up if grows else turn_down) * dt
        if abs(turned) > most:
            share = most / abs(turned)
            wanted = sides.velocity(*(a + share * (b - a) for a, b in zip(old, stepped, strict=True)))
        others = self._each(previous, target, dt)  # axes without a side, such as sideways after a change of style
        return wanted._replace(vy=others.vy, vz=others.vz)

    def _arcs(
        self, previous: VelocityCommand, target: VelocityCommand, dt: float, way: Arcs, aim: VelocityCommand | None
    ) -> VelocityCommand:
        """Let the speed ahead follow its limits, and the steered wheels the wanted arc."""
        arc = self.arc = (previous.vy / previous.vx, previous.yaw_rate / previous.vx) if previous.vx else self.arc
        wanted = _arc_of(target) or (_arc_of(VelocityCommand(*self._chassis.possible(*aim))) if aim else None) or arc
        if previous == target and arc == wanted and self._average is None:
            return target
        speed = self._speed(previous.vx, target.vx, arc, dt)
        share = min(way.share(arc, wanted, dt), self._turning_share(previous, speed, arc, wanted, dt))
        if self._average is not None:
            share = min(share, self._tightening_share(self._average.quickest(), arc, wanted))

        def at(share: float, speed: float) -> VelocityCommand:
            sideways, turn = _on_line(arc, wanted, share)
            return VelocityCommand(speed, speed * sideways + 0.0, 0.0, speed * turn + 0.0)  # + 0.0: −0.0 is a plain 0

        # With an S-curve: the fastest mean speed while the present velocities are still within its window.
        fastest = speed if self._average is None else math.copysign(self._average.yet(), speed)
        if fastest and not self._fits(at(share, fastest)):
            share = _largest(lambda part: self._fits(at(part, fastest)), share)
        self.arc = _on_line(arc, wanted, share)
        return target if speed == target.vx and share == 1.0 and speed else at(share, speed)

    def _speed(self, speed: float, target: float, arc: tuple[float, float], dt: float) -> float:
        """Return the next speed ahead, m/s, which overloads no wheel and no turn on any arc on the way."""
        load = self._chassis.load(1.0, arc[0], 0.0, arc[1]) * abs(target)
        if load > 1.0:
            target /= load
        # On an arc the sideways speed and the turn change with the speed ahead.
        sideways, turn = abs(arc[0]), abs(arc[1])
        up, down = (
            min(level, level / sideways if sideways else math.inf, most / turn if turn else math.inf)
            for level, most in zip(self._axes[0], self._axes[3], strict=True)
        )
        if self._average is None:
            return rate_limited(speed, target, dt, up, down)
        if not self._even and _reverses(speed, target):
            target = 0.0
        plain = self._average.newest(VelocityCommand(speed)).vx
        return self._average.step(VelocityCommand(rate_limited(plain, target, dt, up, down)), dt)[0]

    def _turning_share(
        self, previous: VelocityCommand, speed: float, arc: tuple[float, float], wanted: tuple[float, float], dt: float
    ) -> float:
        """Return the share of the change of the arc that keeps the limits of the sideways speed and the turn, 0…1."""
        share = 1.0
        for axis, part in ((1, 0), (3, 1)):
            change = speed * (wanted[part] - arc[part])
            if change:
                begun = speed * arc[part] - previous[axis]
                up, down = self._axes[axis]
                most = (up if _grows(change, previous[axis]) else down) * dt
                share = min(share, max(0.0, most - math.copysign(1.0, change) * begun) / abs(change))
        return share

    def _tightening_share(self, quickest: float, arc: tuple[float, float], wanted: tuple[float, float]) -> float:
        """Return how far the arc may tighten, 0…1; ``quickest``: the fastest averaged change of the speed, m/s²."""
        share = 1.0
        for axis, part in ((1, 0), (3, 1)):
            tight, change = abs(wanted[part]), wanted[part] - arc[part]
            most = min(self._axes[axis]) / quickest if quickest else math.inf
            # From one side to the other it tightens even if it ends as tight: rounding must not choose.
            if tight > most and (tight > abs(arc[part]) or wanted[part] * arc[part] < 0.0):
                share = min(
                    share,
                    max(0.0, math.copysign(most, wanted[part]) - arc[part]) / change
                    if change > 0.0
                    else max(0.0, arc[part] + most) / -change,
                )
        return share

    def _followed(
        self, previous: VelocityCommand, wanted: VelocityCommand, dt: float, actuators: Mapping[str, float]
    ) -> VelocityCommand:
        """Go as far as the actuators that turn can follow; if they cannot, slow down, and turn at standstill."""

        def follows(command: VelocityCommand) -> bool:
            return self._chassis.follows(command, actuators, dt)

        if follows(wanted):
            return wanted
        share = _largest(lambda part: follows(_on_the_way(previous, wanted, part)), 1.0)
        if share > STUCK:
            return _on_the_way(previous, wanted, share)
        return self._one_share(previous, STANDSTILL, dt)

    def _around(
        self, previous: VelocityCommand, target: VelocityCommand, wanted: VelocityCommand, dt: float
    ) -> VelocityCommand:
        """Find another step if the intended one exceeds the vehicle."""
        fits, left = self._fits, self._seconds_left
        leaving = VelocityCommand(
            *(new if abs(new) < abs(old) else old for old, new in zip(previous, wanted, strict=True))
        )
        best = None
        if fits(leaving):
            best = _on_the_way(leaving, wanted, _largest(lambda part: fits(_on_the_way(leaving, wanted, part)), 1.0))
        straight = self._one_share(previous, target, dt)
        # Often both are equally good except for rounding, which must not choose: it differs on a microcontroller.
        if fits(straight) and (best is None or left(straight, target) < left(best, target) - STUCK * dt):
            best = straight
        if best is not None and left(best, target) < left(previous, target) - STUCK * dt:
            return best
        return self._one_share(previous, STANDSTILL, dt)

    def _one_share(self, previous: VelocityCommand, aim: VelocityCommand, dt: float) -> VelocityCommand:
        """Move straight towards a target, all axes by the largest share that keeps every limit."""
        share = 1.0
        for old, new, (up, down) in zip(previous, aim, self._axes, strict=True):
            if old != new:
                slower = down if abs(new) < abs(old) and old * new >= 0.0 else min(up, down)
                share = min(share, slower * dt / abs(new - old))
        # A step that reaches its target except for rounding reaches it.
        return aim if share >= 1.0 - THERE else _on_the_way(previous, aim, share)

    def _seconds_left(self, start: VelocityCommand, target: VelocityCommand) -> float:
        """Return the longest time that any axis needs to its target."""
        return max(abs(b - a) / up for a, b, (up, _) in zip(start, target, self._axes, strict=True))


class _Average:
    """The mean of a velocity over the last seconds; exact for a velocity that changes linearly within each step."""

    def __init__(self, seconds: float) -> None:
        self._seconds = seconds
        # Rounding must not make a window longer than it is.
        self._full = seconds - ROUNDING_TIME
        # For each step its duration and the velocity at its end; and the velocity before the first step.
        self._steps: deque[tuple[float, VelocityCommand]] = deque()
        self._before = self._mean = STANDSTILL
        self._sum = (0.0, 0.0, 0.0, 0.0)
        # How long the velocity has been the same, s.
        self._same = 0.0

    def forget(self) -> None:
        """Begin again."""
        self._steps.clear()

    def rests_at(self, velocity: VelocityCommand) -> bool:
        """Return whether the velocity has been this one for the whole window."""
        return self._same >= self._full and velocity == self._mean and bool(self._steps)

    def quickest(self) -> float:
        """Return the fastest change of the speed ahead within the window, m/s²."""
        before, most = self._before.vx, 0.0
        for lasts, end in self._steps:
            if lasts > FLEETING:
                most = max(most, abs(end.vx - before) / lasts)
            before = end.vx
        return most

    def yet(self) -> float:
        """Return the largest mean speed ahead over the newest part of the window, for a part of any length, m/s.

        If it is within a limit, and every later velocity too, so is every later mean.
        """
        after, gone, seconds = self._steps[-1][1].vx, 0.0, 0.0
        most = abs(after)
        starts = [*[end.vx for _, end in self._steps][-2::-1], self._before.vx]
        for (lasts, _), start in zip(reversed(self._steps), starts, strict=True):
            if lasts:
                # Within a step the mean can only be largest where it equals the velocity.
                slope = (start - after) / lasts
                square = seconds**2 - 2.0 * (after * seconds - gone) / slope if slope else -1.0
                if square >= 0.0 and 0.0 < math.sqrt(square) - seconds < lasts:
                    most = max(most, abs(after + slope * (math.sqrt(square) - seconds)))
                gone, seconds = gone + lasts * (start + after) / 2.0, seconds + lasts
                most = max(most, abs(gone) / seconds)
            after = start
        return most

    def newest(self, mean: VelocityCommand) -> VelocityCommand:
        """Return the newest velocity; begin again at the mean if it is not the one that was returned last."""
        if not self._steps or mean != self._mean:
            self._begin(mean)
        return self._steps[-1][1]

    def _begin(self, velocity: VelocityCommand) -> None:
        seconds = self._seconds
        self._steps.clear()
        self._steps.append((seconds, velocity))
        a, b, c, d = self._before = self._mean = velocity
        self._sum, self._same = (a * seconds, b * seconds, c * seconds, d * seconds), seconds

    def step(self, velocity: VelocityCommand, dt: float) -> VelocityCommand:
        """Take the next velocity, and return the mean."""
        steps = self._steps
        last = steps[-1][1]
        self._same = self._same + dt if velocity == last else 0.0
        if self._same >= self._full:
            if velocity != self._mean:
                self._begin(velocity)
            return velocity
        steps.append((dt, velocity))
        total = _with(self._sum, last, velocity, dt / 2.0)
        left = dt
        while left > 0.0:
            lasts, end = steps[0]
            if lasts > left:
                cut = _between(self._before, end, left / lasts)
                steps[0] = (lasts - left, end)
            else:
                cut = end
                steps.popleft()
            total = _with(total, self._before, cut, (left if left < lasts else lasts) / -2.0)
            self._before, left = cut, left - lasts
        self._sum = a, b, c, d = total
        seconds = self._seconds
        axes = (speed if abs(speed) > THERE else 0.0 for speed in (a / seconds, b / seconds, c / seconds, d / seconds))
        self._mean = VelocityCommand(*axes)  # to and fro is 0, without a rest of rounding
        return self._mean


_Four = tuple[float, float, float, float]


def _with(total: _Four, start: VelocityCommand, end: VelocityCommand, half: float) -> _Four:
    """Add the integral of a straight line between two velocities, over twice ``half`` s."""
    (a, b, c, d), (e, f, g, h), (k, m, n, o) = total, start, end
    return a + half * (e + k), b + half * (f + m), c + half * (g + n), d + half * (h + o)


def _plain_step(previous: VelocityCommand, target: VelocityCommand, dt: float, limits: Limits) -> VelocityCommand:
    """Let each axis follow its one limit, as most profiles have it; this is the fastest code."""
    vx, vy, vz, yaw_rate = previous
    to_vx, to_vy, to_vz, to_yaw_rate = target
    most = limits.acceleration * dt
    axes = (
        vx if vx == to_vx else approach(vx, to_vx, most),
        vy if vy == to_vy else approach(vy, to_vy, most),
        vz if vz == to_vz else approach(vz, to_vz, limits.vertical_acceleration * dt),
        yaw_rate if yaw_rate == to_yaw_rate else approach(yaw_rate, to_yaw_rate, limits.turn_acceleration * dt),
    )
    return tuple.__new__(VelocityCommand, axes)  # as VelocityCommand(*axes) does, but faster


def _through_rest(mean: VelocityCommand, target: VelocityCommand, way: Way, axes: Axes) -> VelocityCommand:
    """Return the target with rest for each axis or side with two limits whose mean still has the other direction."""
    rests = [
        0.0 if up != down and _reverses(old, new) else new
        for old, new, (up, down) in zip(mean, target, axes, strict=True)
    ]
    if not isinstance(way, Sides):
        return VelocityCommand(*rests)
    sides = tuple(0.0 if _reverses(a, b) else b for a, b in zip(way.of(mean), way.of(target), strict=True))
    turned = target if sides == way.of(target) or axes[0][0] == axes[0][1] else way.velocity(*sides)
    return VelocityCommand(turned.vx, rests[1], rests[2], turned.yaw_rate)


def _reverses(mean: float, target: float) -> bool:
    """Return whether a speed goes from one direction to the other; a mean of 1e-18 has none."""
    return abs(mean) > THERE and mean * target < 0.0


def _grows(change: float, before: float) -> bool:
    """Return whether a change makes a speed larger. One of 1e-18 is none: its sign must not choose the limit."""
    return change * before >= 0.0 or -THERE <= before <= THERE


def _arc_of(velocity: VelocityCommand) -> tuple[float, float] | None:
    """Return the sideways speed and the turn at 1 m/s ahead; None if it does not go ahead."""
    return (velocity.vy / velocity.vx, velocity.yaw_rate / velocity.vx) if velocity.vx else None


def _on_line(start: tuple[float, float], end: tuple[float, float], share: float) -> tuple[float, float]:
    if share >= 1.0:
        return end
    return start[0] + share * (end[0] - start[0]), start[1] + share * (end[1] - start[1])


def _between(start: VelocityCommand, end: VelocityCommand, share: float) -> VelocityCommand:
    (a, b, c, d), (e, f, g, h) = start, end
    axes = (a + share * (e - a), b + share * (f - b), c + share * (g - c), d + share * (h - d))
    return tuple.__new__(VelocityCommand, axes)  # as VelocityCommand(*axes) does, but faster


def _on_the_way(start: VelocityCommand, end: VelocityCommand, share: float) -> VelocityCommand:
    """Return a velocity between two; near 0 it is 0: a rounding error of 1e-18 m/s would turn modules."""
    axes = (speed if abs(speed) > THERE else 0.0 for speed in _between(start, end, share))
    return tuple.__new__(VelocityCommand, axes)


def _largest(fits: Callable[[float], bool], most: float) -> float:
    """Return the largest share up to ``most`` that fits together with all smaller ones; 0 if none is found."""
    low, high = 0.0, most
    for _ in range(HALVINGS):
        share = (low + high) / 2
        if fits(share):
            low = share
        else:
            high = share
    return low
