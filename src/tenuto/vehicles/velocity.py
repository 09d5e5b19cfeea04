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
# What is so near to a quarter of a turn is one, rad.
ALONG = 1e-6


def field_to_body(demand: VelocityCommand, heading: float) -> VelocityCommand:
    """Turn a demand along the field's axes into the robot's own, when it is turned to the left by ``heading``, rad."""
    # A quarter of a turn is exactly one: rounding must not say to which side wheels steer.
    c, s = (part if abs(part) > ALONG else 0.0 for part in (math.cos(heading), math.sin(heading)))
    return VelocityCommand(demand.vx * c + demand.vy * s, demand.vy * c - demand.vx * s, demand.vz, demand.yaw_rate)
