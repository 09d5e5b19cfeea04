"""What a profile means: each control alone to its ends, in each mode, as the simulated robot is driven by it."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import replace
from itertools import combinations
from typing import NamedTuple

from tenuto.basics.findings import Finding, error, warning
from tenuto.driving.guard import State
from tenuto.driving.plan import Plan, Planned
from tenuto.driving.tick import Tick
from tenuto.sim.worst import DrivenRobot, in_each_mode
from tenuto.vehicles.base import Chassis, Quantity
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# For how long a stick that is let go, and a robot that is let go, are watched, s; and how long a press lasts.
_WATCHED, _PRESSED = 60.0, 0.4
# Two velocities that differ by less than this, m/s and rad/s, are the same.
_SAME = 1e-6
# What a control of such a name says of its way: the axis of the velocity, and its sign; left and right are two axes.
_WAYS = {
    "forward": (("vx",), 1.0), "backward": (("vx",), -1.0), "back": (("vx",), -1.0), "up": (("vz",), 1.0),
    "down": (("vz",), -1.0), "climb": (("vz",), 1.0), "left": (("vy", "yaw_rate"), 1.0),
    "right": (("vy", "yaw_rate"), -1.0),
}  # fmt: skip


class TruthRow(NamedTuple):
    """One row: what one control alone does.

    Attributes:
        mode: with the way of steering where that is chosen; empty where there is one mode.
        control: its name. reads: of the device. position: −1…1 of its travel, as the profile counts. raw: the number.
        command: of the robot, once it does not change any more. actuators: what they do then.
        outputs: those that it changes. does: actions, and what it chooses, in words.
        rest: the command with all sticks at rest, where a trim moves it.
    """

    mode: str
    control: str
    reads: str
    position: float
    raw: float
    command: VelocityCommand
    actuators: Mapping[str, float]
    outputs: Mapping[str, float]
    does: tuple[str, ...] = ()
    rest: VelocityCommand = STANDSTILL


class TruthTable(NamedTuple):
    """What a profile means: the rows of its truth table, and what is odd about them."""

    rows: tuple[TruthRow, ...]
    findings: tuple[Finding, ...]


def truth_table(profile: Planned) -> TruthTable:
    """Drive each control alone to both ends in each mode, let it go, and stop; and press each button once.

    It is driven by its first in rank, with the highest of its levels; sensors see nothing, and inhibits permit.

    Args:
        profile: of the robot.

    Returns:
        The truth table, and findings: a control that does nothing, two that do the same, a way that contradicts its
        name, a stick that does not stop when it is let go, a robot that nothing stops. Both are empty for a robot that
        cannot be driven by sticks alone, as with an enabling gesture.
    """
    plan = profile.plan()
    rows: list[TruthRow] = []
    findings: list[Finding] = []
    for fixed, mode in zip(in_each_mode(plan), _modes(plan), strict=True):
        resting = DrivenRobot.driven(fixed, {})
        if resting is None or resting.tick is None:
            return TruthTable((), ())
        for control in fixed.mode.style.controls():
            one_way = next(one for one in fixed.controls if one.name == control).one_way
            for position in (1.0,) if one_way else (1.0, -1.0):
                stage = DrivenRobot.driven(fixed, {control: position})
                if stage is None:
                    return TruthTable((), ())
                rows.append(_row(stage, mode, control, position, resting.tick))
                findings += _let_go(stage, control, resting.tick.command)
    rows += _presses(plan)
    found = {(finding.where, finding.text): finding for finding in (*findings, *_odd(plan.chassis, rows))}
    return TruthTable(tuple(rows), tuple(found.values()))


def _modes(plan: Plan) -> Iterator[str]:
    """Name what `in_each_mode` goes through."""
    for mode in plan.modes:
        for steering in plan.selection.steering.order:
            yield ", ".join(part for part in (mode.name, steering) if part)


def _row(stage: DrivenRobot, mode: str, control: str, position: float, rest: Tick) -> TruthRow:
    tick = stage.tick
    assert tick is not None
    plan = next(one for one in stage.plan.controls if one.name == control)
    # Of two contacts that are one axis, the one that is pressed.
    other = plan.minus is not None and position < 0.0
    raw, reads = tick.raw[plan.raw_names[other]], plan.all_reads[other]
    outputs = {
        one.name: tick.outputs[one.name] for one in stage.plan.mode.outputs
        if not one.by_guard and tick.outputs[one.name] != rest.outputs[one.name]
    }  # fmt: skip
    actuators = dict(tick.actuators)
    return TruthRow(mode, control, reads, position, raw, tick.command, actuators, outputs, (), rest.command)


def _let_go(stage: DrivenRobot, control: str, rest: VelocityCommand) -> Iterator[Finding]:
    """Let the stick go, and then hold-to-run: it must come to what it does with the sticks at rest, and to a stand."""
    stopping = stage.copied()
    stage.way = {}
    steps = round(_WATCHED / stage.plan.period)
    if not any(_near(stage.step().command, rest) for _ in range(steps)):
        text = f"the robot still goes {_WATCHED:g} s after the stick is let go"
        yield error(f"controls.{control}", text)
    guard = stage.plan.guard
    # A push-button that enables ends that when it is pressed again.
    again = stopping.enable if guard.hold_to_run is None and not guard.enable_stays else None
    if not any(_stands(stopping.step(held=again is not None, press=again)) for _ in range(steps)):
        text = "letting go does not stop it" if again is None else f"pressing {again} again does not stop it"
        yield error("guard", text, "nothing that the driver does stops this robot: give hold_to_run or enable")


def _near(one: VelocityCommand, other: VelocityCommand) -> bool:
    return all(abs(a - b) < _SAME for a, b in zip(one, other, strict=True))


def _stands(tick: Tick) -> bool:
    return tick.command == STANDSTILL and tick.guard.state is not State.DRIVING


def _presses(plan: Plan) -> Iterator[TruthRow]:
    """Press every control that neither drives nor belongs to the guard, while the robot may move."""
    guard = replace(plan.guard, attention=math.inf, test_at_start=(), start_warning=0.0)
    stage = DrivenRobot.driven(replace(plan, guard=guard, below=()), {})
    if stage is None:
        return
    taken = {*plan.driving_controls(), *_guards(plan)}
    for control in plan.controls:
        if control.name in taken:
            continue
        before, after = stage.copied(), stage.copied()
        ticks = [after.step(press=control.name) for _ in range(math.ceil(_PRESSED / plan.period))]
        rest = [before.step() for _ in ticks][-1]
        actions = [action for tick in ticks for action in tick.actions]
        chosen = [
            f"{name.replace('_', ' ')} {now}"
            for name, was, now in zip(rest.chosen._fields, rest.chosen, ticks[-1].chosen, strict=True)
            if was != now and name in ("mode", "rates", "level", "steering", "rear_share")
        ]
        changed = {name: level for name, level in ticks[-1].outputs.items() if level != rest.outputs[name]}
        if actions or chosen or changed:
            raw = ticks[-1].raw[control.name]
            yield TruthRow("", control.name, control.reads, 1.0, raw, STANDSTILL, {}, changed, (*actions, *chosen))


def _guards(plan: Plan) -> set[str | None]:
    """Name the controls that are the guard's own."""
    guard = plan.guard
    reads = {switch.name: switch.reads for switch in plan.selection.switches}
    named = {guard.hold_to_run, guard.hold_to_run_2, guard.stop, guard.emergency_stop, guard.emergency_stop_2,
             guard.enable, guard.reset, guard.takes_over}  # fmt: skip
    return named | {reads.get(name) for name in named if name is not None}


def _odd(chassis: Chassis, rows: list[TruthRow]) -> Iterator[Finding]:
    """List what is odd about the rows of the controls that drive."""
    moves: dict[str, list[TruthRow]] = {}
    for row in rows:
        if row.actuators:
            moves.setdefault(row.control, []).append(row)
    for control, own in moves.items():
        if not any(_moves(chassis, row) for row in own):
            yield warning(f"controls.{control}", "it moves nothing, in no mode")
        yield from _contradicts(control, own)
    for one, other in combinations(moves, 2):
        both = list(zip(moves[one], moves[other], strict=False))
        if len(moves[one]) == len(moves[other]) and all(_alike(chassis, a, b) for a, b in both):
            yield warning(f"controls.{other}", f"it does the same as {one}")


def _angles(chassis: Chassis, row: TruthRow) -> list[float]:
    """Return the angles of the wheels that steer, rad."""
    bounds = chassis.bounds()
    return [value for name, value in row.actuators.items() if bounds[name].quantity is Quantity.STEERING_ANGLE]


def _moves(chassis: Chassis, row: TruthRow) -> bool:
    return not _near(row.command, row.rest) or any(abs(angle) > _SAME for angle in _angles(chassis, row))


def _alike(chassis: Chassis, one: TruthRow, other: TruthRow) -> bool:
    own, others = _angles(chassis, one), _angles(chassis, other)
    same = all(abs(a - b) < _SAME for a, b in zip(own, others, strict=True))
    return _moves(chassis, one) and same and _near(one.command, other.command) and one.mode == other.mode


def _contradicts(control: str, rows: list[TruthRow]) -> Iterator[Finding]:
    """Say that a control goes another way than its name says; left and right of what goes ahead are sides of it."""
    axes, sign = _WAYS.get(control, ((), 0.0))
    for row in rows:
        moved = VelocityCommand(*(does - rest for does, rest in zip(row.command, row.rest, strict=True)))
        if control in ("left", "right") and abs(moved.vx) > _SAME:
            continue
        if any(getattr(moved, axis) * sign * row.position < -_SAME for axis in axes):
            text = f"{row.reads} at {row.raw:g} goes against its name: {_way(moved)}"
            yield warning(f"controls.{control}", text, "turn it round with reverse, or give it another name")
            return


def _way(command: VelocityCommand) -> str:
    words = {"vx": ("forward", "backward"), "vy": ("left", "right"), "vz": ("up", "down"),
             "yaw_rate": ("turns left", "turns right")}  # fmt: skip
    return ", ".join(words[axis][value < 0.0] for axis, value in command._asdict().items() if abs(value) > _SAME)
