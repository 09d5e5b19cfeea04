"""Aircraft that take a velocity themselves: an autopilot turns it into rotor speeds."""

from __future__ import annotations

import math
from dataclasses import dataclass

from tenuto.core.demand import VelocityCommand

_ROUNDING = 1.0 + 1e-9


@dataclass(frozen=True, slots=True)
class Aircraft:
    """A body that can go along every axis by itself, up to a speed along the ground and one up and down.

    Attributes:
        max_speed: along the ground, in any direction, m/s. max_climb: up or down, m/s.
    """

    max_speed: float = math.inf
    max_climb: float = math.inf

    def actuators(self, command: VelocityCommand) -> dict[str, float]:
        """Give nothing: the velocity itself goes to the autopilot."""
        return {}

    def fits(self, command: VelocityCommand) -> bool:
        """Tell whether it is not too fast."""
        vx, vy, vz, _ = command
        return math.hypot(vx, vy) <= self.max_speed * _ROUNDING and abs(vz) <= self.max_climb * _ROUNDING

    def within_reach(self, command: VelocityCommand) -> tuple[VelocityCommand, float]:
        """Slow a velocity down to what it can do, in the same direction.

        Returns:
            The velocity, and the share 0…1 of the one asked for (1 when nothing had to give).
        """
        vx, vy, vz, yaw_rate = command
        ground, climb = math.hypot(vx, vy), abs(vz)
        share = min(1.0, self.max_speed / ground if ground else 1.0, self.max_climb / climb if climb else 1.0)
        if share == 1.0:
            return command, 1.0
        return VelocityCommand(vx * share, vy * share, vz * share, yaw_rate * share), share
