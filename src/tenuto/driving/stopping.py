"""The stopping distance over all velocities that can be driven, and the stages after the last frame."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from itertools import product
from typing import NamedTuple

from tenuto.driving.distance import Braking
from tenuto.driving.guard import GuardSettings
from tenuto.driving.modes import ModePlan
from tenuto.driving.plan import Plan
from tenuto.styles.base import Setting
from tenuto.vehicles.base import Arcs, Chassis
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# The sticks are tried at their ends, in the middle and half-way, up to this many combinations.
_COMBINATIONS = 4000
# The number of directions along the ground that are tried, and how often the search around the best is refined.
_DIRECTIONS, _FINER = 720, 40


class Stage(NamedTuple):
    """One stage of a link loss, over all velocities that can be driven.

    Attributes:
        what: in words. seconds: its longest duration; infinite if it does not end by itself.
        metres: the distance along the ground. sinks: the descent, m.
        known: these numbers are known; how far the robot rolls by itself, or what its own code does, is not.
    """

    what: str
    seconds: float
    metres: float
    sinks: float = 0.0
    known: bool = True


class Stop(NamedTuple):
    """The longest stop over all velocities that can be driven.

    Attributes:
        seconds: until standstill, at most. metres: along the ground, at most. ground: the fastest along it, m/s.
    """

    seconds: float
    metres: float
    ground: float


def at_most(bound: float, digits: int = 2) -> str:
    """Write a promise, rounded up: it holds as it is printed. An error of rounding in the last place is none."""
    unit = 10.0**digits
    return f"{math.ceil(bound * unit - 1e-6) / unit:.{digits}f}"


def since_the_loss(stages: Iterable[Stage]) -> list[Stage]:
    """Return the stages with the time and the distances from the loss to the end of each; as they are stated."""
    found, seconds, metres, sinks, known = list[Stage](), 0.0, 0.0, 0.0, True
    for stage in stages:
        seconds, metres, sinks = seconds + stage.seconds, metres + stage.metres, sinks + stage.sinks
        known = known and stage.known
        found.append(Stage(stage.what, seconds, metres, sinks, known))
    return found


def least_braking(plan: Plan) -> Braking:
    """Return the decelerations that apply in every mode, in a change of the mode, and in a stop."""
    guard, modes = plan.guard, [mode.limits.axes for mode in plan.modes]
    return Braking(
        min(guard.stop_deceleration, *(axes[0][1] for axes in modes)),
        min(guard.stop_turn_deceleration, *(axes[3][1] for axes in modes)),
        min(guard.stop_vertical_deceleration, *(axes[2][1] for axes in modes)),
    )


def stop_seconds(velocity: VelocityCommand, guard: GuardSettings) -> float:
    """Return how long a stop of the guard takes from a velocity, s: all axes come to rest together."""
    vx, vy, vz, yaw_rate = velocity
    return max(
        math.hypot(vx, vy) / guard.stop_deceleration,
        abs(yaw_rate) / guard.stop_turn_deceleration,
        abs(vz) / guard.stop_vertical_deceleration,
    )


def worst_stop(plan: Plan, reaction: float = 0.0, *, ramps: bool = True) -> Stop:
    """Return a bound of every stop, over all velocities that can be driven in any mode.

    Along the ground it is v·t + v·T/2 m, with T s until the slowest axis is at rest: a turn that takes longer to stop
    than the speed lengthens the distance too. The highest speed along the ground, the fastest turn and the fastest
    climb are combined, although not every vehicle can do them at once: the result is an upper bound.

    Args:
        plan: see there. reaction: how long the command is held before it is reduced, s.
        ramps: it is reduced with the decelerations of the guard; otherwise it ends at once.
    """
    low, high = reached(plan)
    ground = _fastest_within(plan.chassis, low, high)
    most = VelocityCommand(ground, 0.0, max(-low.vz, high.vz), max(-low.yaw_rate, high.yaw_rate))
    seconds = stop_seconds(most, plan.guard) if ramps else 0.0
    return Stop(reaction + seconds, ground * (reaction + seconds / 2.0), ground)


def braking_for(plan: Plan, metres: float) -> Braking:
    """Return the lowest decelerations with which a link loss stops the robot within a distance of the last frame, m.

    This is the inverse of `worst_stop`: metres = v·(t + T/2), and every axis is at rest after T s.

    Raises:
        ValueError: the robot goes this far before the loss is detected.
    """
    worst = worst_stop(plan, reaction(plan), ramps=False)
    seconds = 2.0 * (metres / worst.ground - reaction(plan)) if worst.ground else math.inf
    if seconds <= 0.0:
        raise ValueError(f"{worst.ground:.3g} m/s for {reaction(plan):.2f} s is {worst.metres:.2f} m")
    low, high = reached(plan)
    return Braking(worst.ground / seconds, max(-low.yaw_rate, high.yaw_rate) / seconds, max(-low.vz, high.vz) / seconds)


def longest_silence(plan: Plan) -> float:
    """Return the longest ``link_timeout`` of the drivers whose silence stops the robot, s.

    They are the first in rank, and those who may drive alone. The silence of any other one hands the robot to the first
    in rank, with sticks at rest: that is no stop, and nothing is promised of it.
    """
    return max([plan.guard.link_timeout, *(lower.link_timeout for lower in plan.below if lower.alone)])


def whose_link(plan: Plan) -> str:
    """Return the link of which a stop is promised, in words: of whom, if the silence of another driver is no stop."""
    stops = [plan.driver, *(lower.name for lower in plan.below if lower.alone)]
    return "the link" if len(stops) == 1 + len(plan.below) else f"the link of {' or '.join(stops)}"


def reaction(plan: Plan, silence: float | None = None) -> float:
    """Return the longest time that the last command is held after a link loss, s.

    Args:
        plan: see there. silence: until the loss is noticed, s; by default see `longest_silence`.
    """
    # Each timeout is detected at the tick after it.
    guard = plan.guard
    noticed = (longest_silence(plan) if silence is None else silence) + plan.period
    return noticed + (guard.grace + plan.period if guard.grace else 0.0)


def reached(plan: Plan) -> tuple[VelocityCommand, VelocityCommand]:
    """Return bounds of the command along each axis in any mode: the lowest and the highest.

    On the way from one velocity to another each axis may have the value of either, so every command is in this box.
    """
    demands = [STANDSTILL, *(demand for mode in plan.modes for demand in _demands(plan, mode))]
    chassis = plan.chassis
    found = _rolling(chassis, demands) if isinstance(chassis.ramp_way, Arcs) else _spread(chassis, demands)
    columns = list(zip(*found, strict=True))
    return VelocityCommand(*map(min, columns)), VelocityCommand(*map(max, columns))


def _rolling(chassis: Chassis, demands: list[VelocityCommand]) -> list[VelocityCommand]:
    """Return the velocities of steered wheels for demands, and the same arcs at the highest speed.

    While it slows down, the robot drives the demanded arc at its present speed.
    """
    found = [chassis.within_reach(demand)[0] for demand in demands]
    ends = min(one.vx for one in found), max(one.vx for one in found)
    for vx, vy, vz, yaw_rate in [one for one in found if one.vx]:
        scale = ends[vx > 0.0] / vx
        found.append(chassis.within_reach(VelocityCommand(vx * scale, vy * scale, vz, yaw_rate * scale))[0])
    return found


def _spread(chassis: Chassis, demands: list[VelocityCommand]) -> list[VelocityCommand]:
    """Return the corners of a box that contains every velocity of the vehicle for these demands.

    The effects of the axes add up: a boat with one oblique thruster turns when it is asked to go ahead.
    """
    sizes = [max(abs(demand[axis]) for demand in demands) for axis in range(4)]
    most = [0.0] * 4
    for axis, size in enumerate(sizes):
        made = [chassis.possible(*(side * (one == axis) for one in range(4))) for side in (1.0, -1.0)]
        for other in range(4):
            most[other] += size * max(abs(parts[other]) for parts in made)
    if chassis.lessens:
        for axis, size in enumerate(most):
            alone, _ = chassis.within_reach(VelocityCommand(*(size * (one == axis) for one in range(4))))
            back, _ = chassis.within_reach(VelocityCommand(*(-size * (one == axis) for one in range(4))))
            most[axis] = max(abs(alone[axis]), abs(back[axis]))
    return [VelocityCommand(*most), VelocityCommand(*(-axis for axis in most))]


def _fastest_within(chassis: Chassis, low: VelocityCommand, high: VelocityCommand) -> float:
    """Return the highest speed along the ground in a box, m/s; if that is simple, only what the vehicle can do."""
    corner = math.hypot(max(-low.vx, high.vx), max(-low.vy, high.vy))
    if not chassis.lessens or not corner:
        return corner

    def along(angle: float) -> float:
        x, y = math.cos(angle), math.sin(angle)
        sides = ((high.vx if x > 0.0 else -low.vx, abs(x)), (high.vy if y > 0.0 else -low.vy, abs(y)))
        most = min((end / part for end, part in sides if part > 1e-12), default=0.0)
        kept, _ = chassis.within_reach(VelocityCommand(most * x, most * y))
        return math.hypot(kept.vx, kept.vy)

    step = 2.0 * math.pi / _DIRECTIONS
    best = max((step * number for number in range(_DIRECTIONS)), key=along)
    for _ in range(_FINER):
        step *= 0.7
        best = max((best - step, best, best + step), key=along)
    return along(best) * (1.0 + 1e-9)


def _demands(plan: Plan, mode: ModePlan) -> Iterator[VelocityCommand]:
    """Try the sticks of a mode, with every kind of steering and in every heading, and the velocities of a planner."""
    if any(not lower.controls for lower in plan.below):
        speeds = mode.speeds
        for vx, vy, vz, turn in product(
            (-speeds.backward, 0.0, speeds.forward), (-speeds.sideways, 0.0, speeds.sideways),
            (-speeds.down, 0.0, speeds.up), (-speeds.turn, 0.0, speeds.turn),
        ):  # fmt: skip
            yield VelocityCommand(vx, vy, vz, turn)
    one_way = {control.name for control in plan.controls if control.one_way}
    heading = plan.selection.heading
    names = [*mode.style.controls(), *([heading] if heading is not None else [])]
    places: tuple[float, ...] = (-1.0, -0.5, 0.0, 0.5, 1.0)
    if len(places) ** len(names) > _COMBINATIONS:
        places = (-1.0, 0.0, 1.0)
    rest = {control.name: 0.0 for control in plan.controls}
    for positions in product(*([place for place in places if place >= 0.0 or name not in one_way] for name in names)):
        shaped = rest | dict(zip(names, positions, strict=True))
        intent = mode.style.intent(shaped)
        for steering in plan.selection.steering.order:
            yield mode.style.demand(intent, mode.speeds, Setting(1.0, steering or "front"), shaped)


def fastest(plan: Plan) -> float:
    """Return the highest speed along the ground in any mode that the vehicle can do, m/s."""
    found = 0.0
    for mode in plan.modes:
        ahead = max(mode.speeds.forward, mode.speeds.backward)
        for command in (VelocityCommand(ahead), VelocityCommand(ahead, mode.speeds.sideways)):
            reached, _ = plan.chassis.within_reach(command)
            found = max(found, math.hypot(reached.vx, reached.vy))
    return found


def link_loss_stages(plan: Plan, silence: float | None = None) -> list[Stage]:
    """List the stages from the last frame to the end, for the velocity with the longest distance.

    Args:
        plan: see there. silence: until the loss is noticed, s; by default see `longest_silence`.
    """
    guard = plan.guard
    held = reaction(plan, silence)
    borne = guard.grace + plan.period if guard.grace else 0.0
    noticed = held - borne
    worst = worst_stop(plan, held)
    speed = worst.ground
    stages = [Stage("loss not yet detected: the last command is held", noticed, speed * noticed)]
    if borne:
        stages.append(Stage("grace: the last command is held", borne, speed * borne))
    ramp = worst.seconds - noticed - borne
    braking = worst.metres - speed * (noticed + borne)
    if guard.on_link_loss == "silent":
        alone = speed * guard.command_timeout
        stages.append(Stage("nothing is sent: the far end waits for a command", guard.command_timeout, alone))
        stages.append(Stage("the far end uses its own failsafe", math.inf, 0.0, known=False))
        return stages
    if guard.fault_category == 0:
        stages.append(Stage("the power is off at once: it rolls out", math.inf, 0.0, known=False))
        return stages
    stages.append(Stage("it slows down to standstill", ramp, braking))
    if guard.on_link_loss == "descend":
        left = max(guard.descend_for - ramp, 0.0)
        stages.append(Stage("it comes down", left, 0.0, guard.descend_speed * guard.descend_for))
    stages.append(Stage("the power is off" if guard.fault_category == 1 else "it stands with power on", math.inf, 0.0))
    return stages


def silent_far_end_stages(plan: Plan) -> list[Stage]:
    """List the stages after the silence of a far end that ``guard.needs`` requires; empty if there is none."""
    answers = plan.guard.needs.answers
    if math.isinf(answers):
        return []
    return link_loss_stages(plan, answers)


def far_end_stages(plan: Plan) -> list[Stage]:
    """List the stages after the program, or its line to the robot, fails at full speed."""
    valid = plan.guard.command_timeout
    follows = worst_stop(plan, valid, ramps=False).metres
    return [
        Stage("the robot follows the last command", valid, follows),
        Stage("its own code stops it", math.inf, 0.0, known=False),
    ]
