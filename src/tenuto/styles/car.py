"""Car: throttle and steering."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.kinds.options import DRIVE, STEER, Role, option
from tenuto.kinds.quantities import LENGTH
from tenuto.styles.base import Misfit, Setting, Steered, Style, StyleOptions
from tenuto.styles.mixing import Intent
from tenuto.styles.speeds import Speeds
from tenuto.vehicles.base import Chassis
from tenuto.vehicles.velocity import VelocityCommand


@dataclass(frozen=True, slots=True)
class Car(Steered):
    """Throttle and steering: the stick sets the radius of the arc, which backing does not change, as in a car.

    Attributes:
        radius: at the end of the stick, m.
    """

    throttle: str
    steer: str
    radius: float

    def demand(
        self, intent: Intent[float], speeds: Speeds, setting: Setting, shaped: Mapping[str, float]
    ) -> VelocityCommand:
        """Return the velocity: the yaw rate is the speed over the radius, with its sign."""
        vx, _, _, _ = speeds.demand(intent, setting.level)
        return VelocityCommand(vx, 0.0, 0.0, vx * intent.turn / self.radius)

    def aim(self, intent: Intent[float], setting: Setting) -> VelocityCommand | None:
        """Point the wheels for the arc of the stick, as in a car at standstill."""
        return VelocityCommand(1.0, 0.0, 0.0, intent.turn / self.radius)


@dataclass(frozen=True, kw_only=True)
class CarOptions(StyleOptions):
    """Throttle and steering."""

    kind: ClassVar[str] = "car"
    throttle: str = option("drives", role=Role.DRIVES, ask=DRIVE)
    steer: str = option("steers", role=Role.DRIVES, ask=STEER)
    smallest_radius: float | None = option('a length, such as "0.8 m"', None, dimension=LENGTH)

    def style(self, chassis: Chassis) -> Style:
        """Return the style; by default the end of the stick is the smallest radius of the vehicle."""
        return Car(self.throttle, self.steer, self.smallest_radius or chassis.limits().smallest_radius)

    def misfit(self, chassis: Chassis) -> Misfit | None:
        """Ask for the radius if the vehicle has none."""
        if self.smallest_radius is None and chassis.limits().smallest_radius <= 0.0:
            expected = "a length: this vehicle turns on the spot, so it has no smallest radius"
            return Misfit("smallest_radius", expected, "nothing")
        return None
