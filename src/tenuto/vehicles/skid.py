"""Four wheels, or two tracks, that skid to turn."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.basics.number import Value, larger
from tenuto.kinds.options import option
from tenuto.kinds.quantities import LENGTH
from tenuto.vehicles.base import WHEEL_BEGINS, Beginning, Bounds, Chassis, Drawing, Part, Quantity, Sides, WheelsOptions
from tenuto.vehicles.velocity import VelocityCommand


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
        called: the name of a side, "wheel" or "track".
    """

    centre_left: float
    centre_right: float
    wheel_radius: float
    max_wheel_speed: float = math.inf
    called: str = "wheel"

    def inverse(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> dict[str, Value]:
        """Return the speed of the wheels or of the sprocket of each side, rad/s."""
        return {
            f"left_{self.called}": (vx - yaw_rate * self.centre_left) / self.wheel_radius,
            f"right_{self.called}": (vx + yaw_rate * self.centre_right) / self.wheel_radius,
        }

    def forward(self, actuators: Mapping[str, Value]) -> tuple[Value, Value, Value, Value]:
        """Return the velocity for the speeds of the two sides."""
        left, right = (actuators[f"{side}_{self.called}"] * self.wheel_radius for side in ("left", "right"))
        track = self.centre_left + self.centre_right
        none = 0.0 * left
        return (right * self.centre_left + left * self.centre_right) / track, none, none, (right - left) / track

    def load(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> Value:
        """Return the speed of the faster side as a share of the greatest."""
        left, right = self.inverse(vx, vy, vz, yaw_rate).values()
        return larger(abs(left), abs(right)) / self.max_wheel_speed

    def possible(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> tuple[Value, Value, Value, Value]:
        """Leave out the sideways and vertical parts."""
        return vx, 0.0 * vy, 0.0 * vz, yaw_rate

    def sides(self) -> Sides:
        """Return its two sides, each at the distance of its centre."""
        return Sides(self.centre_left, self.centre_right)

    def bounds(self) -> dict[str, Bounds]:
        """Return the limits of each side, rad/s."""
        most = Bounds(-self.max_wheel_speed, self.max_wheel_speed, Quantity.WHEEL_SPEED)
        return {f"left_{self.called}": most, f"right_{self.called}": most}

    def drawing(self) -> Drawing:
        """Return its sides; the centres lie outside the tyres, which are drawn at their usual distance."""
        left, right = self.centre_left / 1.6, -self.centre_right / 1.6
        parts: tuple[Part, ...]
        if self.called == "track":
            parts = (Part("left", 0.0, left, shape="track"), Part("right", 0.0, right, shape="track"))
        else:
            parts = tuple(
                Part(name, x, y) for name, y in (("left", left), ("right", right)) for x in (0.6 * left, -0.6 * left)
            )
        return Drawing(parts, radius=self.wheel_radius)


@dataclass(frozen=True, kw_only=True)
class SkidOptions(WheelsOptions):
    """Four wheels that skid to turn."""

    kind: ClassVar[str] = "skid_steer"
    picture: ClassVar[tuple[str, ...]] = ("[.---.]", " |   | ", "['---']")
    beginning: ClassVar[Beginning | None] = Beginning(
        'effective_track = "0.6 m"  # measure: turn on the spot ten times: what one side rolled, divided by 31.4\n'
        + WHEEL_BEGINS
    )
    turns_by: ClassVar[str] = "effective_track"
    called: ClassVar[str] = "wheel"
    effective_track: float | None = option('a length, such as "0.9 m"', None, dimension=LENGTH)
    centre_left: float | None = option('a length, such as "0.5 m"', None, dimension=LENGTH)
    centre_right: float | None = option('a length, such as "0.5 m"', None, dimension=LENGTH)

    def missing(self) -> str | None:
        """Require the effective track, or both centres."""
        if self.effective_track is None and (self.centre_left is None or self.centre_right is None):
            return "effective_track"
        return None

    def turning_length(self) -> float | None:
        """Return the effective track, m: the sum of the distances of both centres if these are given."""
        if self.centre_left and self.centre_right:
            return self.centre_left + self.centre_right
        return self.effective_track

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Return the vehicle."""
        half = (self.effective_track or 0.0) / 2.0
        left, right = self.centre_left or half, self.centre_right or half
        return SkidSteer(left, right, self.wheel_radius, self.fastest, self.called)


@dataclass(frozen=True, kw_only=True)
class TrackedOptions(SkidOptions):
    """Two tracks that skid to turn."""

    kind: ClassVar[str] = "tracked"
    picture: ClassVar[tuple[str, ...]] = ("#.---.#", "#|   |#", "#'---'#")
    called: ClassVar[str] = "track"
