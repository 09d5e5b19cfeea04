"""What everything does that neither drives nor belongs to the guard: buttons pressed, switches put everywhere."""

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
from tenuto.switches.base import SwitchPlan
from tenuto.switches.positions import PositionsPlan
from tenuto.vehicles.velocity import STANDSTILL

# How long a press lasts, and a pause between two, s.
_PRESSED = 0.4
_TIMES = {1: "pressed", 2: "pressed twice"}
_CHOSEN = ("mode", "rates", "level", "steering", "rear_share")


def press_rows(plan: Plan) -> list[TruthRow]:
    """Press every control that neither drives nor belongs to the guard, as often as its switch has positions.

    One that goes to any of its positions at once is put at each of them.
    """
    guard = replace(plan.guard, attention=math.inf, test_at_start=(), start_warning=0.0)
    stage = DrivenRobot.driven(replace(plan, guard=guard, below=()), {}, rolls=False)
    if stage is None:
        return []
    taken = {*plan.driving_controls(), *_guards(plan)}
    return [row for control in plan.controls if control.name not in taken for row in _pressed(stage, control)]


def _pressed(stage: DrivenRobot, control: ControlPlan) -> Iterator[TruthRow]:
    """Press one control over and over, or put it at every place that its switches tell apart."""
    switches = [one for one in stage.plan.selection.switches if one.reads == control.name]
    places = _places(switches, control)
    presses = max([one.count for one in switches if not isinstance(one, PositionsPlan)], default=1)
    presses = max(presses, _levels(stage.plan, control))
    after, seen = stage.copied(), set[object]()
    for number in range(len(places) or presses):
        before = after.copied()
        at = places[number] if places else 1.0
        ticks = [after.step(press=control.name, at=at) for _ in range(math.ceil(_PRESSED / stage.plan.period))]
        if not places:
            ticks += [after.step() for _ in ticks]  # let go of, for the next press
        rest = stage.copied().step() if places else before.step()
        row = _row(stage, control, rest, ticks)
        times = _TIMES.get(number + 1, f"pressed {number + 1} times")
        how = f"at position {number + 1} of {len(places)}" if places else times
        if row is not None and (key := (row.does, tuple(row.outputs.items()))) not in seen:
            seen.add(key)
            yield row._replace(how=how, position=at)


def _places(switches: list[SwitchPlan], control: ControlPlan) -> list[float]:
    """Return the places of a switch that goes to any of its positions at once, where it has more than two."""
    found = max((one.thresholds for one in switches if isinstance(one, PositionsPlan)), key=len, default=())
    between = [(low + high) / 2.0 for low, high in pairwise(found)]
    return [0.0 if control.one_way else -1.0, *between, 1.0] if between else []


def _row(stage: DrivenRobot, control: ControlPlan, rest: Tick, ticks: list[Tick]) -> TruthRow | None:
    """Return what is different after some ticks; None where nothing is."""
    now = ticks[-1]
    actions = tuple(action for tick in ticks for action in tick.actions)
    chosen = tuple(
        f"{name.replace('_', ' ')} {after}"
        for name, was, after in zip(rest.chosen._fields, rest.chosen, now.chosen, strict=True)
        if was != after and name in _CHOSEN
    )
    most = {name: max((tick.outputs[name] for tick in ticks), key=abs) for name in now.outputs}
    changed = {name: level for name, level in most.items() if level != rest.outputs[name]}
    if not (actions or chosen or changed):
        return None
    raw = ticks[0].raw[control.name]
    return TruthRow("", control.name, control.reads, 1.0, raw, STANDSTILL, {}, changed, (*actions, *chosen))


def _levels(plan: Plan, control: ControlPlan) -> int:
    """Return how many presses go through all levels."""
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
