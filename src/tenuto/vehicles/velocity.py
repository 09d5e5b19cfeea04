"""Velocity: the driver's demand and the command, in m/s and rad/s."""

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
# An angle this near to a quarter turn is one, rad.
ALONG = 1e-6


def field_to_body(demand: VelocityCommand, heading: float) -> VelocityCommand:
    """Turn a demand along the field's axes into the robot's own frame; its heading is ``heading`` to the left, rad."""
    # A quarter turn is exact: rounding must not decide to which side wheels steer.
    c, s = (part if abs(part) > ALONG else 0.0 for part in (math.cos(heading), math.sin(heading)))
    return VelocityCommand(demand.vx * c + demand.vy * s, demand.vy * c - demand.vx * s, demand.vz, demand.yaw_rate)
