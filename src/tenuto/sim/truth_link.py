"""The effect of a lost link: lost at full speed, back with the sticks as they were, and re-enabled."""

from __future__ import annotations

import math

from tenuto.basics.findings import Finding, error
from tenuto.driving.guard import State
from tenuto.driving.plan import Plan
from tenuto.sim.truth_rows import TruthRow
from tenuto.sim.worst import DrivenRobot, Fault
from tenuto.vehicles.velocity import STANDSTILL

# How long a robot is watched, s: until it stands, and then with the link back.
_WATCHED, _BACK = 60.0, 1.5
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
    ticks, metres = 0, 0.0
    while ticks * plan.period < _WATCHED:
        tick = stage.step(fault=_QUIET)
        ticks, metres = ticks + 1, metres + math.hypot(tick.command.vx, tick.command.vy) * plan.period
        if tick.command == STANDSTILL and tick.guard.state is not State.DRIVING:
            break
    seconds = ticks * plan.period
    stands = f"stands after {seconds:.2f} s" + (f" and {metres:.2f} m" if plan.chassis.units.known else "")
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


def speed_of(row: TruthRow) -> tuple[float, float]:
    """Return the speed of a row: m/s in any direction, then rad/s."""
    return math.hypot(*row.command[:3]), abs(row.command.yaw_rate)


def _link(mode: str, how: str, does: str) -> TruthRow:
    return TruthRow(mode, "link", "link", 0.0, 0.0, STANDSTILL, {}, {}, (does,), how=how)
