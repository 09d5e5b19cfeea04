"""Velocity: what the driver asks for and what goes out, in m/s and rad/s."""

from __future__ import annotations

import math
from typing import NamedTuple


class VelocityCommand(NamedTuple):
    """A velocity in the robot's own frame (ISO 8855: x forward, y left, z up).

    Attributes:
        vx: forward speed in m/s, negative when backing.
        vy: sideways speed in m/s, positive to the left.
        vz: climbing speed in m/s, negative when sinking.
        yaw_rate: turning speed in rad/s, positive to the left (anticlockwise from above).
    """

    vx: float = 0.0
    vy: float = 0.0
    vz: float = 0.0
    yaw_rate: float = 0.0


STANDSTILL = VelocityCommand()


def four_wheel_demand(
    vx: float, steer: float, front: float, rear: float, max_angle: float, wheelbase: float
) -> VelocityCommand:
    """Give the velocity of a robot whose axles steer: the one at which its middle goes ``vx`` ahead.

    An axle at the angle a, at x from the middle, moves along a: vy + yaw rate·x = vx·tan(a). Of both axles,
    yaw rate = vx·(tan front − tan rear)/wheelbase and vy = vx·(tan front + tan rear)/2.

    Args:
        vx: m/s. steer: the stick, −1…1. front, rear: the share of its angle that each axle takes, −1…1.
        max_angle: at the end of the stick, rad. wheelbase: m.
    """
    ahead, behind = math.tan(steer * front * max_angle), math.tan(steer * rear * max_angle)
    return VelocityCommand(vx, vx * (ahead + behind) / 2.0, 0.0, vx * (ahead - behind) / wheelbase)


def field_to_body(demand: VelocityCommand, heading: float) -> VelocityCommand:
    """Turn a demand along the field's axes into the robot's own, when it is turned to the left by ``heading``, rad."""
    c, s = math.cos(heading), math.sin(heading)
    return VelocityCommand(demand.vx * c + demand.vy * s, demand.vy * c - demand.vx * s, demand.vz, demand.yaw_rate)
