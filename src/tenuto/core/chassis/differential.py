"""Two driven wheels on one axle line, and something to keep the robot level."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

from tenuto.core.demand import VelocityCommand

# So that a command which was scaled to the limit is still within it after rounding.
_ROUNDING = 1.0 + 1e-9


class WheelSpeeds(NamedTuple):
    """Turning speed of each wheel in rad/s, positive when it rolls the robot forward."""

    left_wheel: float
    right_wheel: float


@dataclass(frozen=True, slots=True)
class Differential:
    """A chassis with a driven wheel on each side.

    With wheel radius r and track b (the distance between the middles of the two tyres), rolling without
    slip gives v = r·(right + left)/2 and yaw rate = r·(right − left)/b: see any textbook on mobile
    robots, e.g. "Introduction to Autonomous Mobile Robots", MIT Press, 2nd edition, section 3.2.

    Attributes:
        track: m. wheel_radius: m.
        max_wheel_speed: the fastest that either wheel can turn, rad/s.
    """

    track: float
    wheel_radius: float
    max_wheel_speed: float

    def wheel_speeds(self, command: VelocityCommand) -> WheelSpeeds:
        """Give the wheel speeds for a velocity; they are not limited here, see `within_reach`."""
        half = command.yaw_rate * self.track / 2.0
        vx = command.vx
        return WheelSpeeds((vx - half) / self.wheel_radius, (vx + half) / self.wheel_radius)

    def actuators(self, command: VelocityCommand) -> dict[str, float]:
        """Give the wheel speeds by name, rad/s."""
        left, right = self.wheel_speeds(command)
        return {"left_wheel": left, "right_wheel": right}

    def velocity(self, wheels: WheelSpeeds) -> VelocityCommand:
        """Give the velocity that two wheel speeds make: the inverse of `wheel_speeds`."""
        left, right = wheels
        return VelocityCommand(
            vx=self.wheel_radius * (right + left) / 2.0, yaw_rate=self.wheel_radius * (right - left) / self.track
        )

    def fits(self, command: VelocityCommand) -> bool:
        """Tell whether no wheel has to turn faster than it can."""
        vx, vy, vz, yaw_rate = command
        rim = abs(vx) + abs(yaw_rate) * self.track / 2.0
        return vy == vz == 0.0 and rim <= self.max_wheel_speed * self.wheel_radius * _ROUNDING

    def within_reach(self, command: VelocityCommand) -> tuple[VelocityCommand, float]:
        """Slow a velocity down to what the wheels can do, on the same arc.

        Both wheels are scaled by one share. Clipping only the faster one would straighten the curve.

        Returns:
            The velocity, and the share 0…1 of the one asked for (1 when nothing had to give).
        """
        vx, vy, vz, yaw_rate = command
        if vy or vz:
            command = VelocityCommand(vx=vx, yaw_rate=yaw_rate)
        rim = abs(vx) + abs(yaw_rate) * self.track / 2.0
        most = self.max_wheel_speed * self.wheel_radius
        if rim <= most:
            return command, 1.0
        share = most / rim
        return VelocityCommand(vx=vx * share, yaw_rate=yaw_rate * share), share
