"""Aircraft: an autopilot that takes a velocity, or a tilt in its place."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.basics.number import Value, hypot, larger
from tenuto.kinds.options import option
from tenuto.kinds.quantities import ANGLE, SPEED, TURN_SPEED
from tenuto.vehicles.base import Beginning, Bounds, Chassis, Inertia, Quantity, VehicleOptions
from tenuto.vehicles.velocity import VelocityCommand


@dataclass(frozen=True, slots=True)
class Aircraft(Chassis):
    """A body that moves along every axis independently, up to a speed along the ground and speeds up, down and turning.

    An autopilot turns the velocity into rotor speeds. If it takes a tilt instead, the tilt is the same share of the
    steepest one as the speed of the fastest one: at a steady speed, the tilt balances the drag of the air.

    Attributes:
        max_speed: along the ground, in any direction, m/s. max_climb, max_sink: m/s. max_turn: rad/s.
        max_tilt: the steepest tilt, rad, if the autopilot takes a tilt; None if it takes the velocity.
    """

    max_speed: float = math.inf
    max_climb: float = math.inf
    max_sink: float = math.inf
    max_turn: float = math.inf
    max_tilt: float | None = None

    @property
    def lessens(self) -> bool:
        """Whether each axis alone can also be reduced: yes."""
        return True

    def inverse(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> dict[str, Value]:
        """Return the velocity, m/s and rad/s; or roll and pitch, rad, right-handed, climb and yaw rate."""
        if self.max_tilt is None:
            return {"forward": vx, "sideways": vy, "climb": vz, "yaw_rate": yaw_rate}
        steep = self.max_tilt / self.max_speed
        # Nose down, a positive pitch, goes forward; left side down, a negative roll, goes left.
        return {"roll": -steep * vy, "pitch": steep * vx, "climb": vz, "yaw_rate": yaw_rate}

    def forward(self, actuators: Mapping[str, Value]) -> tuple[Value, Value, Value, Value]:
        """Return the velocity again."""
        if self.max_tilt is None:
            return actuators["forward"], actuators["sideways"], actuators["climb"], actuators["yaw_rate"]
        speed = self.max_speed / self.max_tilt
        return speed * actuators["pitch"], -speed * actuators["roll"], actuators["climb"], actuators["yaw_rate"]

    def load(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> Value:
        """Return the largest of the shares of its fastest speeds."""
        level = larger(hypot(vx, vy) / self.max_speed, abs(yaw_rate) / self.max_turn)
        return larger(level, larger(vz / self.max_climb, -vz / self.max_sink))

    def bounds(self) -> dict[str, Bounds]:
        """Return the limits of the numbers for the autopilot."""
        level, told, names = self.max_speed, Quantity.SPEED, ("forward", "sideways")
        if self.max_tilt is not None:
            level, told, names = self.max_tilt, Quantity.TILT, ("roll", "pitch")
        return {
            **dict.fromkeys(names, Bounds(-level, level, told)),
            "climb": Bounds(-self.max_sink, self.max_climb, Quantity.SPEED),
            "yaw_rate": Bounds(-self.max_turn, self.max_turn, Quantity.TURN_SPEED),
        }

    def shared_limits(self) -> tuple[tuple[tuple[str, ...], float], ...]:
        """Return that it is as fast along a diagonal as straight ahead."""
        if self.max_tilt is not None:
            return ((("roll", "pitch"), self.max_tilt),)
        return ((("forward", "sideways"), self.max_speed),)

    def inertia(self) -> Inertia:
        """Return fast rotors, and a body that tilts first."""
        return Inertia(motor_lag=0.08, body_lag=0.35)


@dataclass(frozen=True, kw_only=True)
class AircraftOptions(VehicleOptions):
    """An autopilot takes the velocity, or a tilt."""

    kind: ClassVar[str] = "aircraft"
    picture: ClassVar[tuple[str, ...]] = ("o     o", "  \\+/  ", "o     o")
    beginning: ClassVar[Beginning | None] = Beginning(
        'max_speed = "3 m/s"        # what the autopilot is allowed to do\nmax_climb = "1 m/s"\n',
        "flight",
        (("forward", "0.8 m/s"), ("sideways", "0.6 m/s"), ("up", "0.5 m/s"), ("down", "0.3 m/s"), ("turn", "45 deg/s")),
        "0.8 m/s^2",
    )
    # Its speeds are independent: a fast diagonal does not reduce the climb.
    usual_priority: ClassVar[str] = "up"
    max_speed: float | None = option('a speed, such as "5 m/s"', None, dimension=SPEED)
    max_climb: float | None = option('a speed, such as "2 m/s"', None, dimension=SPEED)
    max_sink: float | None = option('a speed, such as "1 m/s"', None, dimension=SPEED)
    max_turn: float | None = option('a turning speed, such as "90 deg/s"', None, dimension=TURN_SPEED)
    max_tilt: float | None = option('an angle, such as "25 deg"', None, dimension=ANGLE)

    def missing(self) -> str | None:
        """Require the speed that belongs to the steepest tilt."""
        return "max_speed" if self.max_tilt is not None and self.max_speed is None else None

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Return the vehicle."""
        climb = self.max_climb or math.inf
        return Aircraft(
            self.max_speed or math.inf, climb, self.max_sink or climb, self.max_turn or math.inf, self.max_tilt
        )
