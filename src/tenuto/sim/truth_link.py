"""The effect of what stops the robot at full speed: a lost link, and its return; the controls of the guard."""

from __future__ import annotations

import math
from typing import Any

from tenuto.basics.findings import Finding, error
from tenuto.driving.guard import State
from tenuto.driving.plan import Plan
from tenuto.driving.tick import Tick
from tenuto.sim.truth_rows import TruthRow
from tenuto.sim.worst import DrivenRobot, Fault
from tenuto.vehicles.velocity import STANDSTILL

# How long a robot is watched, s: until it stands, and then with the link back.
_WATCHED, _BACK = 60.0, 1.5
# A smaller change of the height is none, m.
_FLAT = 0.005
# The number of ticks of driving after it was enabled.
_ENABLED = 45
_QUIET = Fault("quiet", 0.0, happens=lambda frame: None)


def link_rows(fixed: Plan, row: TruthRow) -> tuple[list[TruthRow], list[Finding]]:
    """Lose the link while a control is at its end, restore it, and re-enable.

    Args:
        fixed: the plan with nothing to choose. row: of the control with the greatest speed, in the same mode.
    """
    plan, stage = fixed, DrivenRobot.driven(fixed, {row.control: row.position}, rolls=False)
    if stage is None or stage.tick is None or stage.tick.command == STANDSTILL:
        return [], []
    stands, tick = _until_it_stands(stage, fault=_QUIET)
    found = [_link(row.mode, "lost at full speed", stands if tick.send else "nothing is sent")]
    wrong = []
    if any(stage.step().command != STANDSTILL for _ in range(round(_BACK / plan.period))):
        wrong.append(error("guard", "it moves by itself when a lost link is restored"))
    found.append(_link(row.mode, "restored, sticks unchanged", "stands until it is re-enabled"))
    stage.enable()
    for _ in range(_ENABLED):
        tick = stage.step()
    if tick.guard.state is State.DRIVING:
        found.append(_link(row.mode, "restored, re-enabled", "drives"))
    else:
        wrong.append(error("guard", f"after a link loss it cannot be enabled: {tick.guard.reasons[0].text}"))
    return found, wrong


def guard_rows(fixed: Plan, row: TruthRow) -> list[TruthRow]:
    """Release hold-to-run, and operate each control that stops the robot, while a control is at its end.

    Args:
        fixed, row: as for `link_rows`.
    """
    guard, stage = fixed.guard, DrivenRobot.driven(fixed, {row.control: row.position}, rolls=False)
    if stage is None or stage.tick is None or stage.tick.command == STANDSTILL:
        return []
    lever = [one.reads for one in fixed.selection.switches if guard.enable_stays and one.name == guard.enable]
    found = []
    for name in dict.fromkeys((guard.hold_to_run, guard.hold_to_run_2, *lever)):
        if name:
            found.append(_stopped(stage.copied(), name, row.mode, "off at full speed", held=False))
    for name in dict.fromkeys((guard.stop, guard.emergency_stop, guard.emergency_stop_2)):
        if name:
            found.append(_stopped(stage.copied(), name, row.mode, "on at full speed", press=name))
    return found


def _stopped(stage: DrivenRobot, name: str, mode: str, how: str, **does: Any) -> TruthRow:
    """Operate one control of the guard until the robot stands."""
    control = next(one for one in stage.plan.controls if one.name == name)
    stands, tick = _until_it_stands(stage, **does)
    off = "" if tick.power else "the power is off"
    reset = "must be reset" if tick.guard.state is State.EMERGENCY_STOP else ""
    does_what = ", ".join(part for part in (stands, off, reset) if part)
    at, raw = float("press" in does), tick.raw[name]
    return TruthRow(mode, name, control.reads, at, raw, STANDSTILL, {}, {}, (does_what,), how=how)


def _until_it_stands(stage: DrivenRobot, **does: Any) -> tuple[str, Tick]:
    """Drive on until the command is standstill: return its tick, and the time and the way to it in words."""
    ticks, metres, height, period = 0, 0.0, 0.0, stage.plan.period
    tick = stage.tick
    assert tick is not None
    while ticks * period < _WATCHED:
        # A command counts from its tick to the next one.
        ticks, metres = ticks + 1, metres + math.hypot(tick.command.vx, tick.command.vy) * period
        height += tick.command.vz * period
        tick = stage.step(**does)
        if tick.command == STANDSTILL and tick.guard.state is not State.DRIVING:
            break
    text = f"stands after {ticks * period:.2f} s"
    if stage.plan.chassis.units.known:
        text += f" and {metres:.2f} m"
        text += f", {abs(height):.2f} m {'up' if height > 0.0 else 'down'}" if abs(height) > _FLAT else ""
    return text, tick


def speed_of(row: TruthRow) -> tuple[float, float]:
    """Return the speed of a row: m/s in any direction, then rad/s."""
    return math.hypot(*row.command[:3]), abs(row.command.yaw_rate)


def _link(mode: str, how: str, does: str) -> TruthRow:
    return TruthRow(mode, "link", "link", 0.0, 0.0, STANDSTILL, {}, {}, (does,), how=how)
