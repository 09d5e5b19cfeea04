"""Two driven sides: two wheels on one axle line, four wheels that skid, or two tracks."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

from tenuto.basics.number import Value, larger
from tenuto.vehicles.base import ROUNDING, Chassis
from tenuto.vehicles.velocity import VelocityCommand


@dataclass(frozen=True, slots=True)
class Differential(Chassis):
    """A chassis with a driven wheel on each side, and something to keep it level.

    With wheel radius r and track b (the distance between the middles of the two tyres), rolling without
    slip gives v = r·(right + left)/2 and yaw rate = r·(right − left)/b: see any textbook on mobile
    robots, e.g. "Introduction to Autonomous Mobile Robots", MIT Press, 2nd edition, section 3.2.

    Attributes:
        track: m. wheel_radius: m.
        max_wheel_speed: the fastest that either wheel can turn, rad/s.
    """

    track: float
    wheel_radius: float
    max_wheel_speed: float = math.inf

    def inverse(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> dict[str, Value]:
        """Give the speed of each wheel, rad/s, positive when it rolls the robot forward."""
        half = yaw_rate * (self.track / 2.0)
        radius = self.wheel_radius
        return {"left_wheel": (vx - half) / radius, "right_wheel": (vx + half) / radius}

    def forward(self, actuators: Mapping[str, Value]) -> tuple[Value, Value, Value, Value]:
        """Give the velocity that two wheel speeds make."""
        left, right = actuators["left_wheel"], actuators["right_wheel"]
        none = 0.0 * left
        return self.wheel_radius * (right + left) / 2.0, none, none, self.wheel_radius * (right - left) / self.track

    def load(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> Value:
        """Give the rim speed of the faster wheel as a share of the fastest."""
        return (abs(vx) + abs(yaw_rate) * (self.track / 2.0)) / (self.max_wheel_speed * self.wheel_radius)

    def possible(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> tuple[Value, Value, Value, Value]:
        """Leave out what goes sideways or up."""
        return vx, 0.0 * vy, 0.0 * vz, yaw_rate

    def bounds(self) -> dict[str, tuple[float, float]]:
        """Give the limits of each wheel, rad/s."""
        return dict.fromkeys(("left_wheel", "right_wheel"), (-self.max_wheel_speed, self.max_wheel_speed))

    # The same as in the base, by the shortest way: this is the chassis of most robots, and is asked at every tick.
    def fits(self, command: VelocityCommand) -> bool:
        """Tell whether no wheel has to turn faster than it can."""
        vx, vy, vz, yaw_rate = command
        rim = abs(vx) + abs(yaw_rate) * self.track / 2.0
        return vy == vz == 0.0 and rim <= self.max_wheel_speed * self.wheel_radius * (1.0 + ROUNDING)

    def within_reach(self, command: VelocityCommand) -> tuple[VelocityCommand, float]:
        """Slow both wheels by one share. Clipping only the faster one would straighten the curve."""
        vx, vy, vz, yaw_rate = command
        if vy or vz:
            command = VelocityCommand(vx, 0.0, 0.0, yaw_rate)
        rim = abs(vx) + abs(yaw_rate) * self.track / 2.0
        most = self.max_wheel_speed * self.wheel_radius
        if rim <= most:
            return command, 1.0
        share = most / rim
        return VelocityCommand(vx * share, 0.0, 0.0, yaw_rate * share), share


@dataclass(frozen=True, slots=True)
class SkidSteer(Chassis):
    """Wheels or tracks along both sides, which must slip to turn.

    Each side moves as if it turned about an instantaneous centre of its own, which lies outside the tyres or tracks:
    at distances l to the left and r to the right of the middle, left = (vx − yaw rate·l)/R and right = (vx + yaw
    rate·r)/R. J. L. Martínez, A. Mandow, J. Morales, S. Pedraza and A. García-Cerezo, "Approximating kinematics for
    tracked mobile robots", The International Journal of Robotics Research 24 (2005). The sum l + r is the effective
    track: measure it by turning on the spot and counting wheel turns.

    Attributes:
        centre_left, centre_right: distances of the centres from the middle, m; usually 1.3 to 2 times half the track.
        wheel_radius: of the wheel or the sprocket, m. max_wheel_speed: rad/s.
        sides: what the two sides are called, "wheel" or "track".
    """

    centre_left: float
    centre_right: float
    wheel_radius: float
    max_wheel_speed: float = math.inf
    sides: str = "wheel"

    def inverse(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> dict[str, Value]:
        """Give the speed of the wheels or of the sprocket of each side, rad/s."""
        return {
            f"left_{self.sides}": (vx - yaw_rate * self.centre_left) / self.wheel_radius,
            f"right_{self.sides}": (vx + yaw_rate * self.centre_right) / self.wheel_radius,
        }

    def forward(self, actuators: Mapping[str, Value]) -> tuple[Value, Value, Value, Value]:
        """Give the velocity that the two sides make."""
        left, right = (actuators[f"{side}_{self.sides}"] * self.wheel_radius for side in ("left", "right"))
        track = self.centre_left + self.centre_right
        none = 0.0 * left
        return (right * self.centre_left + left * self.centre_right) / track, none, none, (right - left) / track

    def load(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> Value:
        """Give the speed of the faster side as a share of the fastest."""
        left, right = self.inverse(vx, vy, vz, yaw_rate).values()
        return larger(abs(left), abs(right)) / self.max_wheel_speed

    def possible(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> tuple[Value, Value, Value, Value]:
        """Leave out what goes sideways or up."""
        return vx, 0.0 * vy, 0.0 * vz, yaw_rate

    def bounds(self) -> dict[str, tuple[float, float]]:
        """Give the limits of each side, rad/s."""
        names = (f"left_{self.sides}", f"right_{self.sides}")
        return dict.fromkeys(names, (-self.max_wheel_speed, self.max_wheel_speed))
