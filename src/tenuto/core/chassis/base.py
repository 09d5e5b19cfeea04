"""What every chassis promises."""

from __future__ import annotations

from typing import Protocol

from tenuto.core.demand import VelocityCommand


class Chassis(Protocol):
    """A vehicle: what its actuators must do for a velocity, and which velocities it can do."""

    def actuators(self, command: VelocityCommand) -> dict[str, float]:
        """Give what each actuator must do, name → value; the command is within reach."""
        ...

    def fits(self, command: VelocityCommand) -> bool:
        """Tell whether it can do a command."""
        ...

    def within_reach(self, command: VelocityCommand) -> tuple[VelocityCommand, float]:
        """Slow a velocity down to what it can do, on the same way.

        Returns:
            The velocity, and the share 0…1 of the one asked for (1 when nothing had to give).
        """
        ...
