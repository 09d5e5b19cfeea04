"""What happens after the last frame that is heard, stage by stage: how long each lasts, and how far the robot goes."""

from __future__ import annotations

import math
from typing import NamedTuple

from tenuto.driving.plan import Plan
from tenuto.vehicles.velocity import VelocityCommand


class Stage(NamedTuple):
    """One stage of a lost link, at full speed in the fastest mode.

    Attributes:
        what: in plain words. seconds: how long it lasts at most; infinite for what has no end of its own.
        metres: how far the robot goes along the ground in it. sinks: how far it comes down, m.
    """

    what: str
    seconds: float
    metres: float
    sinks: float = 0.0


def fastest(plan: Plan) -> float:
    """Return the fastest speed along the ground in any mode, of what the vehicle can do, m/s."""
    found = 0.0
    for mode in plan.modes:
        ahead = max(mode.speeds.forward, mode.speeds.backward)
        for command in (VelocityCommand(ahead), VelocityCommand(ahead, mode.speeds.sideways)):
            reached, _ = plan.chassis.within_reach(command)
            found = max(found, math.hypot(reached.vx, reached.vy))
    return found


def link_loss_stages(plan: Plan) -> list[Stage]:
    """List the stages from the last frame that was heard to the end.

    v·t while the last command holds, and v²/(2·a) for an even deceleration.
    """
    guard, speed = plan.guard, fastest(plan)
    stages = [Stage("nothing is noticed: the last command holds", guard.link_timeout, speed * guard.link_timeout)]
    if guard.grace:
        stages.append(Stage("grace: the last command holds", guard.grace, speed * guard.grace))
    ramp = speed / guard.stop_deceleration
    braking = speed * ramp / 2.0
    if guard.on_link_loss == "silent":
        alone = speed * guard.command_timeout
        stages.append(Stage("nothing is sent: the far end waits for a command", guard.command_timeout, alone))
        stages.append(Stage("the far end does what it does by itself", math.inf, 0.0))
        return stages
    if guard.fault_category == 0:
        stages.append(Stage("the power is off at once: it rolls out", math.inf, 0.0))
        return stages
    stages.append(Stage("it slows down to standstill", ramp, braking))
    if guard.on_link_loss == "descend":
        left = max(guard.descend_for - ramp, 0.0)
        stages.append(Stage("it comes down", left, 0.0, guard.descend_speed * guard.descend_for))
    stages.append(Stage("the power is off" if guard.fault_category == 1 else "it stands with power on", math.inf, 0.0))
    return stages
