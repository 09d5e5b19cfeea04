"""Dead reckoning: poses along exact arcs, and the path from actuators."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import NamedTuple

import numpy as np

from tenuto.basics.number import Value, cos, sin
from tenuto.vehicles.base import Chassis


class Pose(NamedTuple):
    """A pose: x, y, z in m and heading in rad, left positive (ISO 8855)."""

    x: float = 0.0
    y: float = 0.0
    z: float = 0.0
    heading: float = 0.0


def along_arc(
    x: Value, y: Value, heading: Value, forward: Value, left: Value, turn: Value
) -> tuple[Value, Value, Value]:
    """Move by a velocity that is constant in the robot's own frame: an exact arc.

    The displacement is the exponential of the planar twist, K. M. Lynch and F. C. Park, "Modern Robotics", Cambridge
    University Press, section 3.3: with h = turn/2, its chord is (forward, left)·sin(h)/h, turned by h.

    Args:
        x, y, heading: its pose; m, m, rad. All arguments are numbers, or arrays of one shape.
        forward, left: distances along its own axes, m. turn: how much the heading changes, rad.

    Returns:
        The new pose: x, y, heading.
    """
    half = turn / 2.0
    # sin(h)/h without a division by 0: numpy.sinc(x) is sin(πx)/(πx).
    if isinstance(half, np.ndarray):
        chord = np.sinc(half / math.pi)
    else:
        chord = math.sin(half) / half if abs(half) > 1e-9 else 1.0
    c, s = cos(heading + half), sin(heading + half)
    return x + chord * (forward * c - left * s), y + chord * (forward * s + left * c), heading + turn


class Odometry:
    """Integrates the motion of the actuators of a chassis.

    Attributes:
        pose: the result.
    """

    def __init__(self, chassis: Chassis, pose: Pose | None = None) -> None:
        """Begin at a pose; by default the origin."""
        self._chassis = chassis
        self.pose = pose or Pose()

    def step(self, actuators: Mapping[str, float], dt: float) -> Pose:
        """Take the value of each actuator for ``dt`` s, in the units of the chassis, and return the pose after it."""
        vx, vy, vz, yaw_rate = self._chassis.forward(actuators)
        x, y, heading = along_arc(self.pose.x, self.pose.y, self.pose.heading, vx * dt, vy * dt, yaw_rate * dt)
        self.pose = Pose(x, y, self.pose.z + vz * dt, heading)
        return self.pose
