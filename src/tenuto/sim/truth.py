"""The truth table of a profile: each control alone at its ends, in each mode, driving the simulated robot."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from itertools import combinations
from typing import NamedTuple

from tenuto.basics.findings import Finding, error, warning
from tenuto.driving.guard import State
from tenuto.driving.limits import Limits
from tenuto.driving.plan import Plan, Planned
from tenuto.driving.tick import Tick
from tenuto.profile.profile import PreparedProfile, Profile
from tenuto.sim.truth_link import guard_rows, link_rows, speed_of
from tenuto.sim.truth_presses import press_rows
from tenuto.sim.truth_rows import Held, TruthRow
from tenuto.sim.worst import DrivenRobot, in_each_mode
from tenuto.vehicles.base import Arcs, Chassis, Sides
from tenuto.vehicles.units import Units
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# How long a robot is watched after a stick, or hold-to-run, is released, s.
_WATCHED = 60.0
# Thresholds: a corner that differs from both sticks alone, m/s and rad/s; a motion without a stick, as a share of
# full speed; the use of a limit, as a share of it.
_DIFFERS, _UNASKED, _REACHED = 1e-3, 0.02, 0.5
# Limits without effect, m/s² and rad/s².
_AT_ONCE = Limits(acceleration=1e6, turn_acceleration=1e6, vertical_acceleration=1e6)
# The full speed of an axis without one of its own, m/s and rad/s.
_SLOW = 0.1
# Each limit: the axes of the velocity, and whether it is for speeding up.
_LIMITS = {
    "acceleration": ((0, 1), True), "deceleration": ((0, 1), False), "vertical_acceleration": ((2,), True),
    "turn_acceleration": ((3,), True), "turn_deceleration": ((3,), False),
}  # fmt: skip
# Two velocities that differ by less than this, m/s and rad/s, are equal.
_SAME = 1e-5
# The direction in the name of a control: the axis of the velocity, and its sign; left and right are two axes.
_WAYS = {
    "forward": (("vx",), 1.0), "backward": (("vx",), -1.0), "back": (("vx",), -1.0), "up": (("vz",), 1.0),
    "down": (("vz",), -1.0), "climb": (("vz",), 1.0), "left": (("vy", "yaw_rate"), 1.0),
    "right": (("vy", "yaw_rate"), -1.0),
}  # fmt: skip


class TruthTable(NamedTuple):
    """The truth table of a profile, and its findings."""

    rows: tuple[TruthRow, ...]
    findings: tuple[Finding, ...]

    def shown(self) -> list[TruthRow]:
        """Return the rows without the corners in which the robot does the sum of both sticks alone."""
        return [row for row in self.rows if row.second is None or row.differs]


def truth_table(profile: Planned) -> TruthTable:
    """Drive each control alone to both ends in each mode, and each corner of two; press all others; lose the link.

    The driver of the highest rank drives, at the highest level; sensors see nothing, and inhibit inputs permit.

    Args:
        profile: of the robot.

    Returns:
        The truth table, and findings: a control without effect, two with the same effect, a direction against its
        name, a side that moves with its stick at rest, a motion without a stick, a stick that does not stop when
        it is released, a robot that nothing stops or that starts by itself, a limit that is never reached. The table is
        empty for a robot that could not be driven, and a finding gives the reason.
    """
    # The numbers for the wire are not needed here, and take a quarter of a tick.
    plan = replace(profile.plan(), actuators=())
    rows: list[TruthRow] = []
    findings: list[Finding] = []
    quickest, unasked = _Rates(), dict[str, Finding]()
    ends: list[tuple[Plan, TruthRow]] = []
    for fixed, mode in zip(in_each_mode(plan), _modes(plan), strict=True):
        resting = DrivenRobot.begun(fixed, {}, rolls=False)
        if resting.tick is None or not resting.settle():
            text = f"it could not be driven, so nothing was tried: {resting.why}"
            return TruthTable((), (warning("guard", text, "do what is asked for there, or change it"),))
        alone: list[TruthRow] = []
        sluggish = False
        rest, stage = resting.tick, resting.copied()
        for control, position in _ends(fixed):
            if not stage.turn({control: position}):
                findings.append(warning(f"controls.{control}", f"held at its end it stops the robot: {stage.why}"))
                stage = resting.copied()
                continue
            alone.append(_row(stage, mode, control, position, rest))
            for finding in _unasked(stage, alone[-1]):
                unasked.setdefault(control, finding)
            slow = list(_let_go(stage, control, rest.command))
            findings, sluggish = findings + slow, sluggish or bool(slow)
        quickest.see(stage)
        rows += alone
        corners, wrong = _corners(stage, alone, mode, rest)
        # A stick that does not stop alone does not do so in a corner: this is reported once.
        rows, findings = rows + corners, findings + ([] if sluggish else wrong)
        ends += [(fixed, row) for row in alone]
    rows += press_rows(plan)
    fastest = max(ends, key=lambda one: speed_of(one[1]), default=None)
    linked, wrong = link_rows(*fastest) if fastest is not None else ([], [])
    linked = (guard_rows(*fastest) if fastest is not None else []) + linked
    chassis = plan.chassis
    findings += [*unasked.values(), *wrong, *quickest.never_reached(_said(profile), chassis.units)]
    findings += _odd(chassis, rows)
    found = {(finding.where, finding.text): finding for finding in findings}
    return TruthTable((*rows, *linked), tuple(found.values()))


def _said(profile: Planned) -> frozenset[str]:
    """Name the limits that a profile sets itself; all of them for a plan that was made in code."""
    profile = profile.profile if isinstance(profile, PreparedProfile) else profile
    if not isinstance(profile, Profile):
        return frozenset(_LIMITS)
    tables = [profile.limits, *(mode.limits for mode in profile.modes.values() if mode.limits is not None)]
    return frozenset(key for table in tables for key in table.model_fields_set)


def _modes(plan: Plan) -> Iterator[str]:
    """Name the modes that `in_each_mode` yields."""
    for mode in plan.modes:
        for steering in plan.selection.steering.order:
            yield ", ".join(part for part in (mode.name, steering) if part)


def _ends(plan: Plan) -> Iterator[tuple[str, float]]:
    """Return each control that drives, with each of its ends."""
    for control in plan.mode.style.controls():
        one_way = next(one for one in plan.controls if one.name == control).one_way
        yield from ((control, position) for position in ((1.0,) if one_way else (1.0, -1.0)))


def _corners(stage: DrivenRobot, alone: list[TruthRow], mode: str, rest: Tick) -> tuple[list[TruthRow], list[Finding]]:
    """Push a second stick to its end while a first one is at its own, for all pairs; and release both again."""
    rows: list[TruthRow] = []
    findings: list[Finding] = []
    # The final command does not depend on the ramps.
    mode_at_once = replace(stage.plan.mode, limits=_AT_ONCE)
    resting = DrivenRobot.driven(replace(stage.plan, modes=(mode_at_once,)), {}, rolls=False)
    if resting is None:
        return rows, findings
    quick = resting.copied()
    for first, second in combinations(alone, 2):
        if first.control == second.control:
            continue
        way = {first.control: first.position, second.control: second.position}
        if not quick.turn(way):
            text = f"with {second.control} at its end too it stops the robot: {quick.why}"
            findings.append(warning(f"controls.{first.control}", text))
            quick = resting.copied()
            continue
        held = Held(second.control, second.reads, second.position, second.raw)
        row = _row(quick, mode, first.control, first.position, rest)
        added = (a + b - still for a, b, still in zip(first.command, second.command, rest.command, strict=True))
        apart = max(abs(does - both) for does, both in zip(row.command, added, strict=True))
        rows.append(row._replace(second=held, differs=apart > _DIFFERS))
        # If it does what both do alone, it stops as each alone does.
        if apart > _DIFFERS and stage.turn(way) and not _comes_to(stage, rest.command):
            text = f"with {second.control} at its end too, the robot still goes {_WATCHED:g} s after both are released"
            findings.append(error(f"controls.{first.control}", text))
    return rows, findings


def _comes_to(stage: DrivenRobot, rest: VelocityCommand) -> bool:
    """Release the sticks; return whether the robot's command becomes that at rest."""
    stage.way = {}
    return any(_near(stage.step().command, rest) for _ in range(round(_WATCHED / stage.plan.period)))


def _unasked(stage: DrivenRobot, row: TruthRow) -> Iterator[Finding]:
    """Report a side that moves while its stick rests, or a direction without a stick."""
    mode, where = stage.plan.mode, f"controls.{row.control}"
    moved = VelocityCommand(*(does - rest for does, rest in zip(row.command, row.rest, strict=True)))
    way = mode.style.way(mode.speeds)
    if isinstance(way, Sides):
        if stage.plan.chassis.sides() is None:
            return  # its sides are only names of a style: a wing has none, and cannot reverse
        if any(row.rest):
            return  # a trimmed side does not rest, and its speed depends on which way both go
        other, own = sorted(map(abs, way.of(moved)))
        if other > _UNASKED * own + _SAME:
            others, owns = (stage.plan.chassis.units.speed.shown(speed) for speed in (other, own))
            yield error(where, f"the side whose stick rests goes at {others}, its own side at {owns}")
        return
    if stage.tick is None or isinstance(stage.plan.chassis.ramp_way, Arcs):
        return  # the direction of steered wheels and their speed are one motion
    full = mode.speeds.along(moved)
    extra = VelocityCommand(*(
        goes if share == 0.0 and abs(goes) > _UNASKED * max(most, _SLOW) else 0.0
        for goes, share, most in zip(moved, stage.tick.intent, full, strict=True)
    ))  # fmt: skip
    if extra != STANDSTILL:
        asked, too = _way(VelocityCommand(*(a - b for a, b in zip(moved, extra, strict=True)))), _way(extra)
        yield warning(where, f"its end demands {asked}, and causes {too} too")


class _Rates:
    """The greatest observed changes of the axes, relative to their limits; for several modes, in any of them."""

    def __init__(self) -> None:
        self._largest: dict[tuple[str, float], float] = {}

    def see(self, stage: DrivenRobot) -> None:
        """Take the ticks of one drive."""
        for key, (axes, grows) in _LIMITS.items():
            seen = stage.grew if grows else stage.shrank
            limit = getattr(stage.plan.mode.limits, key)
            if limit is not None:
                before = self._largest.get((key, limit), 0.0)
                self._largest[key, limit] = max(before, *(seen[axis] for axis in axes))

    def never_reached(self, said: frozenset[str], units: Units) -> Iterator[Finding]:
        """Return each limit of the profile that the motion hardly uses."""
        for (key, limit), most in self._largest.items():
            if key in said and 0.0 < most < _REACHED * limit:
                value = units.change_of("yaw_rate" if "turn" in key else "vx").shown(limit, ".3g")
                text = f"the robot never uses more than {100 * most / limit:.0f} % of {value}"
                yield warning(f"limits.{key}", text, "its sticks, its jerk limit or its speeds limit it first")


def _row(stage: DrivenRobot, mode: str, control: str, position: float, rest: Tick) -> TruthRow:
    tick = stage.tick
    assert tick is not None
    plan = next(one for one in stage.plan.controls if one.name == control)
    # Of two contacts that are one axis, the pressed one.
    other = plan.minus is not None and position < 0.0
    raw, reads = tick.raw[plan.raw_names[other]], plan.all_reads[other]
    outputs = {
        one.name: tick.outputs[one.name] for one in stage.plan.mode.outputs
        if not one.by_guard and tick.outputs[one.name] != rest.outputs[one.name]
    }  # fmt: skip
    actuators = dict(tick.actuators)
    return TruthRow(mode, control, reads, position, raw, tick.command, actuators, outputs, (), rest.command)


def _let_go(stage: DrivenRobot, control: str, rest: VelocityCommand) -> Iterator[Finding]:
    """Release the stick, and then hold-to-run: the command must become that at rest, and then standstill."""
    stopping = stage.copied()
    steps = round(_WATCHED / stage.plan.period)
    if not _comes_to(stage, rest):
        text = f"the robot still goes {_WATCHED:g} s after the stick is released"
        yield error(f"controls.{control}", text)
    guard = stage.plan.guard
    stopping.end()
    if not any(_stands(stopping.step(held=False)) for _ in range(steps)):
        again = guard.hold_to_run is None and guard.enable is not None
        text = f"releasing it, or {guard.enable} again, does not stop it" if again else "a release does not stop it"
        yield error("guard", text, "the driver cannot stop this robot: set guard.hold_to_run or guard.enable")


def _near(one: VelocityCommand, other: VelocityCommand) -> bool:
    return all(abs(a - b) < _SAME for a, b in zip(one, other, strict=True))


def _stands(tick: Tick) -> bool:
    return tick.command == STANDSTILL and tick.guard.state is not State.DRIVING


def _odd(chassis: Chassis, rows: list[TruthRow]) -> Iterator[Finding]:
    """List the findings about the rows of the controls that drive."""
    moves: dict[str, list[TruthRow]] = {}
    for row in rows:
        if row.actuators and row.second is None:
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
    """Return the positions of all that steers, rad or a share."""
    bounds = chassis.bounds()
    return [value for name, value in row.actuators.items() if not bounds[name].quantity.drives]


def _moves(chassis: Chassis, row: TruthRow) -> bool:
    return not _near(row.command, row.rest) or any(abs(angle) > _SAME for angle in _angles(chassis, row))


def _alike(chassis: Chassis, one: TruthRow, other: TruthRow) -> bool:
    own, others = _angles(chassis, one), _angles(chassis, other)
    same = all(abs(a - b) < _SAME for a, b in zip(own, others, strict=True))
    return _moves(chassis, one) and same and _near(one.command, other.command) and one.mode == other.mode


def _contradicts(control: str, rows: list[TruthRow]) -> Iterator[Finding]:
    """Report a control that moves against its name; left and right of a forward motion are sides of it."""
    axes, sign = _WAYS.get(control, ((), 0.0))
    for row in rows:
        moved = VelocityCommand(*(does - rest for does, rest in zip(row.command, row.rest, strict=True)))
        if control in ("left", "right") and abs(moved.vx) > _SAME:
            continue
        if any(getattr(moved, axis) * sign * row.position < -_SAME for axis in axes):
            text = f"{row.reads} at {row.raw:g} goes against its name: {_way(moved)}"
            yield warning(f"controls.{control}", text, "set reverse, or give it another name")
            return


def _way(command: VelocityCommand) -> str:
    words = {"vx": ("forward", "backward"), "vy": ("left", "right"), "vz": ("up", "down"),
             "yaw_rate": ("turns left", "turns right")}  # fmt: skip
    return ", ".join(words[axis][value < 0.0] for axis, value in command._asdict().items() if abs(value) > _SAME)
