"""Priorities: which part of a command is kept if a vehicle cannot do all of it at once.

=========== ======================================================================================================
priority    what is kept
=========== ======================================================================================================
arc         the arc: all is slowed down by one share
forward     the speed along the ground, then the turn, then the climb
turn        the turn, then the speed along the ground, then the climb
up          the climb, then the speed along the ground, then the turn
=========== ======================================================================================================

The possible velocities are a convex set, `Chassis.fits`. The first part gets as much as is possible alone,
the next as much as fits with it, so nothing that fits is lost.
"""

from __future__ import annotations

from tenuto.vehicles.base import Arcs, Chassis
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# The axes of each part of a velocity, and the order in which the parts are served.
_AXES = {"forward": (0, 1), "turn": (3,), "up": (2,)}
_ORDERS = {"forward": ("forward", "turn", "up"), "turn": ("turn", "forward", "up"), "up": ("up", "forward", "turn")}
# A direction that is possible at all is possible at these speeds, m/s and rad/s.
_SLOW = 1e-3
PRIORITIES = ("arc", *_ORDERS)
SETTLING = 40


def takes_priority(chassis: Chassis, priority: str) -> bool:
    """Return whether a part of a velocity can have priority: if it is possible alone, whatever the others are.

    This is not so where wheels steer, where one axis moves another, or for the turn of a boat without reverse.
    """
    if priority == "arc":
        return True
    if chassis.couples or isinstance(chassis.ramp_way, Arcs):
        return False
    alone = {
        "forward": (VelocityCommand(vx=_SLOW), VelocityCommand(vy=_SLOW), VelocityCommand(vy=-_SLOW)),
        "turn": (VelocityCommand(yaw_rate=_SLOW), VelocityCommand(yaw_rate=-_SLOW)),
        "up": (VelocityCommand(vz=_SLOW),),
    }[priority]
    kept = [chassis.within_reach(one) for one in alone]
    return kept[0][0] != STANDSTILL and all(share > 0.0 for _, share in kept)


def settle(chassis: Chassis, asked: VelocityCommand, priority: str) -> VelocityCommand:
    """Bring a velocity within reach by priority; the nearest on the same arc for "arc"."""
    kept, share = chassis.within_reach(asked)
    if priority == "arc" or share == 1.0:
        return kept
    possible = chassis.possible(*asked)
    found = STANDSTILL
    for part in _ORDERS[priority]:
        wanted = [axis if number in _AXES[part] else 0.0 for number, axis in enumerate(possible)]
        if any(wanted):
            found = _beside(chassis, found, wanted)
    return found


def cause(chassis: Chassis, asked: VelocityCommand, priority: str) -> str:
    """Describe what prevents a command; empty if nothing does. For `explain` only."""
    kept = settle(chassis, asked, priority)
    if priority == "arc" or kept == asked or chassis.cannot(asked):
        return chassis.cause(asked)
    less = [
        f"{part} to {100 * max(abs(kept[axis]) / abs(asked[axis]) for axis in axes if asked[axis]):.0f} %"
        for part, axes in _AXES.items() if any(abs(kept[axis] - asked[axis]) > 1e-6 for axis in axes)
    ]  # fmt: skip
    return f'not all of it fits at once: {" and ".join(less)} (priority = "{priority}")'


def _beside(chassis: Chassis, found: VelocityCommand, wanted: list[float]) -> VelocityCommand:
    """Return as much of the wanted part as fits with what was found, added to it."""

    def with_share(share: float) -> VelocityCommand:
        return VelocityCommand(*(a + share * b for a, b in zip(found, wanted, strict=True)))

    low, high = 0.0, 1.0
    if chassis.fits(with_share(1.0)):
        return with_share(1.0)
    for _ in range(SETTLING):
        share = (low + high) / 2.0
        if chassis.fits(with_share(share)):
            low = share
        else:
            high = share
    return with_share(low)
