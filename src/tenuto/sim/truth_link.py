"""What a lost link does: lost at full speed, back with the sticks as they were, and enabled afresh."""

from __future__ import annotations

import math
from collections.abc import Sequence

from tenuto.basics.findings import Finding, error
from tenuto.driving.guard import State
from tenuto.driving.plan import Plan
from tenuto.sim.truth_rows import TruthRow
from tenuto.sim.worst import DrivenRobot, Fault, in_each_mode
from tenuto.vehicles.velocity import STANDSTILL

# For how long a robot is watched, s: until it stands, and then with the link back.
_WATCHED, _BACK = 60.0, 1.5
_QUIET = Fault("quiet", 0.0, happens=lambda frame: None)


def link_rows(plan: Plan, rows: Sequence[TruthRow]) -> tuple[list[TruthRow], list[Finding]]:
    """Lose the link while the control that goes fastest is at its end, let it come back, and enable afresh.

    Args:
        plan: of the robot. rows: of the controls that drive.
    """
    fastest = max((row for row in rows if row.actuators and row.second is None), key=_speed, default=None)
    fixed = next(in_each_mode(plan))
    stage = DrivenRobot.driven(fixed, {fastest.control: fastest.position}, rolls=False) if fastest is not None else None
    if fastest is None or stage is None or stage.tick is None or stage.tick.command == STANDSTILL:
        return [], []
    ticks, metres = 0, 0.0
    while ticks * plan.period < _WATCHED:
        tick = stage.step(fault=_QUIET)
        ticks, metres = ticks + 1, metres + math.hypot(tick.command.vx, tick.command.vy) * plan.period
        if tick.command == STANDSTILL and tick.guard.state is not State.DRIVING:
            break
    seconds = ticks * plan.period
    stands = f"stands after {seconds:.2f} s and {metres:.2f} m"
    found = [_link("lost at full speed", stands if tick.send else "nothing is sent any more")]
    wrong = []
    if any(stage.step().command != STANDSTILL for _ in range(round(_BACK / plan.period))):
        wrong.append(error("guard", "it moves by itself when a lost link comes back"))
    found.append(_link("back; the sticks as they were", "stands until it is enabled afresh"))
    begin = math.ceil(plan.guard.link_good_for / plan.period) + 10
    for number in range(begin + 50):
        tick = stage.step(held=number >= begin, pushed=number >= begin + 5)
    if tick.guard.state is State.DRIVING:
        found.append(_link("back; enabled afresh", "drives"))
    else:
        wrong.append(error("guard", f"after a lost link it cannot be enabled: {tick.guard.reasons[0].text}"))
    return found, wrong


def _speed(row: TruthRow) -> tuple[float, float]:
    return math.hypot(*row.command[:3]), abs(row.command.yaw_rate)


def _link(how: str, does: str) -> TruthRow:
    return TruthRow("", "link", "link", 0.0, 0.0, STANDSTILL, {}, {}, (does,), how=how)
