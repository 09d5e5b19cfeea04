"""Aircraft: those that take a velocity, or a tilt for it."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

from tenuto.basics.number import Value, hypot, larger
from tenuto.vehicles.base import Chassis


@dataclass(frozen=True, slots=True)
class Aircraft(Chassis):
    """A body that goes along every axis by itself, up to a speed along the ground and speeds up, down and turning.

    An autopilot turns the velocity into rotor speeds. One that takes a tilt instead is given the share of its steepest
    tilt that is the share of its fastest speed: at a steady speed the tilt is what holds it against the air.

    Attributes:
        max_speed: along the ground, in any direction, m/s. max_climb, max_sink: m/s. max_turn: rad/s.
        max_tilt: the steepest tilt, rad, where the autopilot takes a tilt; None where it takes the velocity.
    """

    max_speed: float = math.inf
    max_climb: float = math.inf
    max_sink: float = math.inf
    max_turn: float = math.inf
    max_tilt: float | None = None

    def inverse(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> dict[str, Value]:
        """Give the velocity, m/s and rad/s; or roll and pitch, rad, right-handed about x and y, climb and yaw rate."""
        if self.max_tilt is None:
            return {"forward": vx, "sideways": vy, "climb": vz, "yaw_rate": yaw_rate}
        steep = self.max_tilt / self.max_speed
        # Nose down, a positive pitch, goes forward; left side down, a negative roll, goes left.
        return {"roll": -steep * vy, "pitch": steep * vx, "climb": vz, "yaw_rate": yaw_rate}

    def forward(self, actuators: Mapping[str, Value]) -> tuple[Value, Value, Value, Value]:
        """Give the velocity again."""
        if self.max_tilt is None:
            return actuators["forward"], actuators["sideways"], actuators["climb"], actuators["yaw_rate"]
        speed = self.max_speed / self.max_tilt
        return speed * actuators["pitch"], -speed * actuators["roll"], actuators["climb"], actuators["yaw_rate"]

    def load(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> Value:
        """Give the largest of the shares of its fastest speeds."""
        level = larger(hypot(vx, vy) / self.max_speed, abs(yaw_rate) / self.max_turn)
        return larger(level, larger(vz / self.max_climb, -vz / self.max_sink))

    def bounds(self) -> dict[str, tuple[float, float]]:
        """Give the limits of what the autopilot is told."""
        level = self.max_speed if self.max_tilt is None else self.max_tilt
        names = ("forward", "sideways") if self.max_tilt is None else ("roll", "pitch")
        return {
            **dict.fromkeys(names, (-level, level)),
            "climb": (-self.max_sink, self.max_climb),
            "yaw_rate": (-self.max_turn, self.max_turn),
        }
