"""Four-wheel steering: throttle and steering of both axles."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar, Literal

from tenuto.kinds.options import DRIVE, STEER, Role, option
from tenuto.kinds.quantities import ANGLE
from tenuto.styles.base import Misfit, Setting, Steered, Style, StyleOptions
from tenuto.styles.mixing import Intent
from tenuto.styles.speeds import Speeds
from tenuto.vehicles.base import Chassis
from tenuto.vehicles.steered import SteeredWheels
from tenuto.vehicles.velocity import VelocityCommand

# The kinds of steering of four steered wheels: the shares of the stick's angle for the front and the rear wheels.
STEERING_KINDS = {
    "front": (1.0, 0.0),
    "rear": (0.0, -1.0),
    "counter": (1.0, -1.0),
    "crab": (1.0, 1.0),
}


def four_wheel_demand(
    vx: float, steer: float, front: float, rear: float, max_angle: float, wheelbase: float
) -> VelocityCommand:
    """Return the velocity of a robot with steered axles whose middle goes ``vx`` ahead.

    An axle at the angle a, at x from the middle, moves along a: vy + yaw rate·x = vx·tan(a). Of both axles,
    yaw rate = vx·(tan front − tan rear)/wheelbase and vy = vx·(tan front + tan rear)/2.

    Args:
        vx: m/s. steer: the stick, −1…1. front, rear: the share of its angle for each axle, −1…1.
        max_angle: at the end of the stick, rad. wheelbase: m.
    """
    ahead, behind = math.tan(steer * front * max_angle), math.tan(steer * rear * max_angle)
    return VelocityCommand(vx, vx * (ahead + behind) / 2.0, 0.0, vx * (ahead - behind) / wheelbase)


@dataclass(frozen=True, slots=True)
class FourWheel(Steered):
    """Throttle and steering of a robot that steers both axles; the steering of the rear one is chosen while driving.

    Attributes:
        max_angle: of the axles at the end of the stick, rad. wheelbase: m.
        steering: "front", "rear", "counter" or "crab"; None for the one that is chosen.
    """

    throttle: str
    steer: str
    max_angle: float
    wheelbase: float
    steering: str | None = None

    def demand(
        self, intent: Intent[float], speeds: Speeds, setting: Setting, shaped: Mapping[str, float]
    ) -> VelocityCommand:
        """Return the velocity at which both axles move along their wheels."""
        return self._at(speeds.demand(intent, setting.level).vx, intent.turn, setting)

    def aim(self, intent: Intent[float], setting: Setting) -> VelocityCommand | None:
        """Point the wheels in the direction of the stick."""
        return self._at(1.0, intent.turn, setting)

    def _at(self, vx: float, steer: float, setting: Setting) -> VelocityCommand:
        kind = self.steering or setting.steering
        front, rear = STEERING_KINDS[kind]
        if kind == "counter":
            rear *= setting.rear_share
        return four_wheel_demand(vx, steer, front, rear, self.max_angle, self.wheelbase)


@dataclass(frozen=True, kw_only=True)
class FourWheelOptions(StyleOptions):
    """Throttle and steering of both axles."""

    kind: ClassVar[str] = "four_wheel"
    switched_steering: ClassVar[bool] = True
    throttle: str = option("drives", role=Role.DRIVES, ask=DRIVE)
    steer: str = option("steers", role=Role.DRIVES, ask=STEER)
    steering: Literal["front", "rear", "counter", "crab"] | None = option('"front", "rear", "counter" or "crab"', None)
    max_angle: float | None = option('an angle, such as "30 deg"', None, dimension=ANGLE)

    def style(self, chassis: Chassis) -> Style:
        """Return the style; by default the end of the stick is the greatest angle of the wheels."""
        assert isinstance(chassis, SteeredWheels)
        wheelbase = max(wheel.x for wheel in chassis.wheels) - min(wheel.x for wheel in chassis.wheels)
        most = self.max_angle or 0.9 * min(wheel.max_angle for wheel in chassis.wheels)
        return FourWheel(self.throttle, self.steer, most, wheelbase, self.steering)

    def misfit(self, chassis: Chassis) -> Misfit | None:
        """Refuse a vehicle that does not steer all its wheels."""
        if isinstance(chassis, SteeredWheels) and all(wheel.max_angle > 0.0 for wheel in chassis.wheels):
            return None
        return Misfit("kind", 'a style for this vehicle; "four_wheel" is for kind four_wheel_steer', '"four_wheel"')
