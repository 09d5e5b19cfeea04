"""Two driven sides: two wheels on one axle line, four wheels that skid, or two tracks."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.basics.errors import ArgumentError
from tenuto.basics.number import Value
from tenuto.kinds.options import option
from tenuto.kinds.quantities import LENGTH
from tenuto.vehicles.base import (
    ROUNDING,
    TRACK,
    WHEEL_BEGINS,
    Beginning,
    Bounds,
    Chassis,
    Drawing,
    Part,
    Quantity,
    Sides,
    WheelsOptions,
)
from tenuto.vehicles.velocity import VelocityCommand


@dataclass(frozen=True, slots=True)
class Differential(Chassis):
    """A chassis with a driven wheel on each side, and a caster or the like.

    With wheel radius r and track b (the distance between the middles of the two tyres), rolling without
    slip gives v = r·(right + left)/2 and yaw rate = r·(right − left)/b: see any textbook on mobile
    robots, e.g. "Introduction to Autonomous Mobile Robots", MIT Press, 2nd edition, section 3.2.

    Attributes:
        track: m. wheel_radius: m.
        max_wheel_speed: the greatest speed of either wheel, rad/s.
    """

    track: float
    wheel_radius: float
    max_wheel_speed: float = math.inf

    def __post_init__(self) -> None:
        """Refuse impossible measures. Raises `ArgumentError`."""
        for name in ("track", "wheel_radius", "max_wheel_speed"):
            if not getattr(self, name) > 0.0:
                raise ArgumentError(f"{name}: expected a number above 0, found {getattr(self, name):g}")

    @property
    def lessens(self) -> bool:
        """Whether each axis alone can also be reduced: yes."""
        return True

    def inverse(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> dict[str, Value]:
        """Return the speed of each wheel, rad/s, positive when it rolls the robot forward."""
        half = yaw_rate * (self.track / 2.0)
        radius = self.wheel_radius
        return {"left_wheel": (vx - half) / radius, "right_wheel": (vx + half) / radius}

    def forward(self, actuators: Mapping[str, Value]) -> tuple[Value, Value, Value, Value]:
        """Return the velocity for two wheel speeds."""
        left, right = actuators["left_wheel"], actuators["right_wheel"]
        none = 0.0 * left
        return self.wheel_radius * (right + left) / 2.0, none, none, self.wheel_radius * (right - left) / self.track

    def load(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> Value:
        """Return the rim speed of the faster wheel as a share of the greatest."""
        return (abs(vx) + abs(yaw_rate) * (self.track / 2.0)) / (self.max_wheel_speed * self.wheel_radius)

    def possible(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> tuple[Value, Value, Value, Value]:
        """Leave out the sideways and vertical parts."""
        return vx, 0.0 * vy, 0.0 * vz, yaw_rate

    def sides(self) -> Sides:
        """Return its two wheels."""
        return Sides(self.track / 2.0, self.track / 2.0)

    def bounds(self) -> dict[str, Bounds]:
        """Return the limits of each wheel, rad/s."""
        most = Bounds(-self.max_wheel_speed, self.max_wheel_speed, Quantity.WHEEL_SPEED)
        return {"left_wheel": most, "right_wheel": most}

    def drawing(self) -> Drawing:
        """Return two wheels, and a body that extends ahead of them."""
        half = self.track / 2.0
        parts = (Part("left", 0.0, half), Part("right", 0.0, -half))
        return Drawing(parts, front=2.4 * half, radius=self.wheel_radius)

    # The same as in the base class, but faster: most robots have this chassis, and it is called at every tick.
    def fits(self, command: VelocityCommand) -> bool:
        """Return whether no wheel exceeds its limit."""
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


@dataclass(frozen=True, kw_only=True)
class DifferentialOptions(WheelsOptions):
    """Two driven wheels."""

    kind: ClassVar[str] = "differential"
    picture: ClassVar[tuple[str, ...]] = (" .---. ", "[|   |]", " '-o-' ")
    beginning: ClassVar[Beginning | None] = Beginning(
        'track = "0.4 m"            # measure: between the middles of the two tyres on the ground\n' + WHEEL_BEGINS
    )
    turns_by: ClassVar[str] = "track"
    track: float = option(TRACK, dimension=LENGTH)

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Return the vehicle."""
        return Differential(self.track, self.wheel_radius, self.fastest)
