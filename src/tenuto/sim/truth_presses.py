"""The effect of all other controls, neither driving nor the guard's: buttons pressed, switches put everywhere."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import replace
from itertools import pairwise

from tenuto.driving.plan import Plan
from tenuto.driving.tick import Tick
from tenuto.sim.truth_rows import TruthRow
from tenuto.sim.worst import DrivenRobot
from tenuto.sticks.control import ControlPlan
from tenuto.switches.base import Operated, SwitchPlan
from tenuto.switches.positions import PositionsPlan
from tenuto.vehicles.velocity import STANDSTILL

_TIMES = {1: "", 2: " twice"}
# How a control that no switch reads is operated.
_PLAIN = Operated("pressed", ((0.4, 0.4),))
_CHOSEN = ("mode", "rates", "level", "steering", "rear_share")


def press_rows(plan: Plan) -> list[TruthRow]:
    """Operate every control that neither drives nor belongs to the guard, as often as its switch has positions.

    A control that goes to any of its positions at once is put at each of them.
    """
    guard = replace(plan.guard, attention=math.inf, test_at_start=(), start_warning=0.0)
    stage = DrivenRobot.driven(replace(plan, guard=guard, below=()), {}, rolls=False)
    if stage is None:
        return []
    guards = _guards(plan)
    taken = {*plan.driving_controls(), *guards}
    rows = [row for control in plan.controls if control.name not in taken for row in _pressed(stage, control)]
    gestures = [one for one in plan.selection.switches if one.held_at() and one.name not in guards]
    return rows + [row for one in gestures for row in _gestured(stage, one)]


def _pressed(stage: DrivenRobot, control: ControlPlan) -> Iterator[TruthRow]:
    """Operate one control in each way that its switches use, repeatedly, or put it at each of its positions."""
    switches = [one for one in stage.plan.selection.switches if one.reads == control.name]
    placed = [one for one in switches if isinstance(one, PositionsPlan)]
    seen = set[object]()
    rows = list(_placed(stage, control, placed))
    for operated in dict.fromkeys(one.operated() for one in switches if one not in placed) or [_PLAIN] * (not placed):
        times = max([one.count for one in switches if one.operated() == operated], default=1)
        rows += _operated(stage, control, operated, max(times, _levels(stage.plan, control)))
    for row in rows:
        if (key := (row.does, tuple(row.outputs.items()))) not in seen:
            seen.add(key)
            yield row


def _operated(stage: DrivenRobot, control: ControlPlan, operated: Operated, times: int) -> Iterator[TruthRow]:
    """Operate a control several times, one after the other; its row is the state after the last press."""
    after = stage.copied()
    for number in range(1, times + 1):
        rest = after.copied().step()
        ticks: list[Tick] = []
        for on, off in operated.presses:
            let_go = len(ticks)
            ticks += _for(after, on, control.name)
            pressed = len(ticks)
            ticks += _for(after, off, None)
        row = _row(control, rest, ticks[let_go:pressed], ticks)
        if row is not None:
            yield row._replace(how=operated.how + _TIMES.get(number, f" {number} times"))


def _gestured(stage: DrivenRobot, switch: SwitchPlan) -> Iterator[TruthRow]:
    """Hold the sticks of a gesture in its position, for its time."""
    after, sticks, operated = stage.copied(), switch.held_at(), switch.operated()
    controls = [one for one in stage.plan.controls if one.name in sticks]
    rest = after.copied().step()
    ticks: list[Tick] = []
    for on, off in operated.presses:
        after.way = sticks
        ticks += _for(after, on, None)
        after.way = {}
        pressed = len(ticks)
        ticks += _for(after, off, None)
    row = _row(controls[0], rest, ticks[:pressed], ticks)
    if row is not None:
        yield row._replace(control=switch.name, reads=" and ".join(one.reads for one in controls), how=operated.how)


def _placed(stage: DrivenRobot, control: ControlPlan, switches: list[PositionsPlan]) -> Iterator[TruthRow]:
    """Put a control at each of the positions that its switches distinguish."""
    places, after, rest = _places(switches, control), stage.copied(), stage.copied().step()
    seconds = max((on for one in switches for on, _ in one.operated().presses), default=0.0)
    for number, at in enumerate(places, start=1):
        ticks = _for(after, seconds, control.name, at)
        row = _row(control, rest, ticks, ticks)
        if row is not None:
            yield row._replace(how=f"at position {number} of {len(places)}", position=at)


def _for(stage: DrivenRobot, seconds: float, press: str | None, at: float = 1.0) -> list[Tick]:
    """Let time pass, with something pressed."""
    return [stage.step(press=press, at=at) for _ in range(math.ceil(seconds / stage.plan.period))]


def _places(switches: list[PositionsPlan], control: ControlPlan) -> list[float]:
    """Return a position for each switch position, of the switch that has most of them."""
    found = max((one.thresholds for one in switches), key=len, default=())
    between = [(low + high) / 2.0 for low, high in pairwise(found)]
    return [0.0 if control.one_way else -1.0, *between, 1.0] if found else []


def _row(control: ControlPlan, rest: Tick, pressed: list[Tick], ticks: list[Tick]) -> TruthRow | None:
    """Return the changes while it is pressed, and its actions; None without any."""
    now = pressed[-1]
    actions = tuple(action for tick in ticks for action in tick.actions)
    chosen = tuple(
        f"{name.replace('_', ' ')} {after}"
        for name, was, after in zip(rest.chosen._fields, rest.chosen, now.chosen, strict=True)
        if was != after and name in _CHOSEN
    )
    before, after = rest.chosen.trims, now.chosen.trims
    chosen += tuple(f"trim of {name} {after[name]:+z.3g}" for name in after if after[name] != before[name])
    if rest.chosen.heading_zero != now.chosen.heading_zero:
        chosen += ("the heading is forward",)
    changed = {name: level for name, level in now.outputs.items() if level != rest.outputs[name]}
    if not (actions or chosen or changed):
        return None
    raw = now.raw[control.name]
    return TruthRow("", control.name, control.reads, 1.0, raw, STANDSTILL, {}, changed, (*actions, *chosen))


def _levels(plan: Plan, control: ControlPlan) -> int:
    """Return the number of presses through all levels."""
    levels = plan.selection.levels
    reads = {one.name: one.reads for one in plan.selection.switches}
    steps = control.name in (reads.get(levels.faster or ""), reads.get(levels.slower or ""))
    return len(levels.steps) - 1 if steps else 1


def _guards(plan: Plan) -> set[str | None]:
    """Name the controls that are the guard's own."""
    guard = plan.guard
    reads = {switch.name: switch.reads for switch in plan.selection.switches}
    named = {guard.hold_to_run, guard.hold_to_run_2, guard.stop, guard.emergency_stop, guard.emergency_stop_2,
             guard.enable, guard.reset, guard.takes_over}  # fmt: skip
    return named | {reads.get(name) for name in named if name is not None}
