"""A simulated cart with two driven wheels: motors that lag, and a pose on the ground."""

from __future__ import annotations

import math
from typing import NamedTuple

from tenuto.core.chassis import Differential, WheelSpeeds

# Wheel speeds count as constant for this long, in seconds, while the pose is integrated.
_SUBSTEP = 0.005


class PathPoint(NamedTuple):
    """Where the cart is at one moment: s, m, m, rad (left positive), m/s, rad/s."""

    time: float
    x: float
    y: float
    heading: float
    vx: float
    yaw_rate: float


class DifferentialCart:
    """A cart on flat ground that does what its wheels do, without slip.

    Each wheel follows its command as a first-order lag, w' = (command − w)/lag. The pose is integrated
    along exact arcs: at yaw rate ω and speed v the cart turns about a point at distance v/ω, see
    "Introduction to Autonomous Mobile Robots", MIT Press, 2nd edition, section 3.2.

    Attributes:
        path: where it was, a point for each call of `advance`, the start included.
    """

    def __init__(self, chassis: Differential, motor_lag: float = 0.12) -> None:
        """Place a cart at the origin, facing along x.

        Args:
            chassis: its measures.
            motor_lag: time constant of the wheels, s.
        """
        self._chassis = chassis
        self._lag = motor_lag
        self._command = WheelSpeeds(0.0, 0.0)
        self.wheels = WheelSpeeds(0.0, 0.0)
        self.path = [PathPoint(0.0, 0.0, 0.0, 0.0, 0.0, 0.0)]

    @property
    def now(self) -> PathPoint:
        """Where the cart is."""
        return self.path[-1]

    @property
    def standing(self) -> bool:
        """Whether neither wheel turns, to within a thousandth of a rad/s."""
        return max(abs(self.wheels.left_wheel), abs(self.wheels.right_wheel)) < 1e-3

    def command(self, wheels: WheelSpeeds) -> None:
        """Set the wheel speeds to follow from now on, rad/s; the motors go no faster than they can."""
        most = self._chassis.max_wheel_speed
        self._command = WheelSpeeds(*(min(max(speed, -most), most) for speed in wheels))

    def advance(self, seconds: float) -> PathPoint:
        """Let time pass, and give where the cart is then."""
        time, x, y, heading, vx, yaw_rate = self.now
        steps = max(1, math.ceil(seconds / _SUBSTEP))
        dt = seconds / steps
        share = 1.0 - math.exp(-dt / self._lag)
        for _ in range(steps):
            self.wheels = WheelSpeeds(*(w + share * (c - w) for w, c in zip(self.wheels, self._command, strict=True)))
            vx, _, _, yaw_rate = self._chassis.velocity(self.wheels)
            x, y, heading = along_arc(x, y, heading, vx * dt, yaw_rate * dt)
        self.path.append(PathPoint(time + seconds, x, y, heading, vx, yaw_rate))
        return self.now


def along_arc(x: float, y: float, heading: float, distance: float, turn: float) -> tuple[float, float, float]:
    """Go ``distance`` m along an arc on which the heading changes by ``turn`` rad; m, m, rad in and out.

    The chord of the arc is distance·sin(turn/2)/(turn/2) long and points along heading + turn/2.
    """
    half = turn / 2.0
    chord = distance * (math.sin(half) / half if abs(half) > 1e-9 else 1.0)
    return x + chord * math.cos(heading + half), y + chord * math.sin(heading + half), heading + turn
