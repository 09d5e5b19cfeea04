"""What every chassis promises, and what follows from it."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Mapping
from typing import ClassVar, NamedTuple

from tenuto.basics.number import Value
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# So that a command which was scaled to the limit is still within it after rounding.
ROUNDING = 1e-9
# What loads an actuator so much cannot be done, however slowly.
_NEVER = 1e9
# A part of a velocity below this, m/s or rad/s, is no wish.
_NOTHING = 1e-9


class ChassisLimits(NamedTuple):
    """What a chassis can do at most.

    Attributes:
        straight: the fastest straight ahead, m/s. sideways, up: likewise; 0 where it cannot.
        turn: the fastest turn, on the spot where it can, rad/s.
        smallest_radius: of the path of its reference point, m; 0 where it turns on the spot.
    """

    straight: float
    sideways: float
    up: float
    turn: float
    smallest_radius: float


class Chassis(ABC):
    """A vehicle: what its actuators must do for a velocity, what velocity they make, and which it can do.

    The velocity is that of the reference point, in the robot's own frame (ISO 8855): see `VelocityCommand`.
    """

    __slots__ = ()
    # How its velocity is to change: see `tenuto.driving.limits.Ramp`.
    ramp_way: ClassVar[str] = "each"

    @abstractmethod
    def inverse(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> dict[str, Value]:
        """Give what each actuator must do for a velocity; not limited here, see `within_reach`.

        Args:
            vx, vy, vz, yaw_rate: m/s and rad/s, numbers or arrays of one shape.

        Returns:
            Actuator → wheel speed (rad/s), wheel angle (rad), thrust (N) or share (−1…1), as its name says.
        """

    @abstractmethod
    def forward(self, actuators: Mapping[str, Value]) -> tuple[Value, Value, Value, Value]:
        """Give the velocity that the actuators make: vx, vy, vz, yaw_rate. The inverse of `inverse`.

        Where there are more actuators than ways to move, and they do not agree, it is the least-squares fit.
        """

    @abstractmethod
    def load(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> Value:
        """Give how hard the hardest-working actuator has to work, as a share of what it can; 1 is its limit."""

    @abstractmethod
    def bounds(self) -> dict[str, tuple[float, float]]:
        """Give the lowest and highest value of each actuator, in the order of `inverse`; infinite where unknown."""

    def possible(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> tuple[Value, Value, Value, Value]:
        """Give the nearest velocity of a kind that it can do at all, however slowly; here: all of it."""
        return vx, vy, vz, yaw_rate

    def limits(self) -> ChassisLimits:
        """Say the fastest straight, sideways, up and turn, and the smallest radius."""

        def fastest(command: VelocityCommand) -> float:
            if max(map(abs, self.possible(*command))) < _NOTHING:
                return 0.0
            load = self.load(*command)
            return 1.0 / load if load > 0.0 else math.inf

        return ChassisLimits(
            fastest(VelocityCommand(vx=1.0)),
            fastest(VelocityCommand(vy=1.0)),
            fastest(VelocityCommand(vz=1.0)),
            fastest(VelocityCommand(yaw_rate=1.0)),
            0.0,
        )

    def actuators(
        self,
        command: VelocityCommand,
        before: Mapping[str, float] | None = None,
        dt: float = 0.0,
        aim: VelocityCommand | None = None,
    ) -> dict[str, float]:
        """Give what each actuator must do for a command that is within reach.

        Args:
            command: the velocity.
            before: what this gave the last time, for what cannot change at once.
            dt: seconds since then.
            aim: at standstill, the velocity that steered wheels should point for; otherwise they stay as they are.
        """
        return self.inverse(*command)

    def fits(self, command: VelocityCommand) -> bool:
        """Tell whether it can do a command."""
        possible = self.possible(*command)
        same = all(abs(a - b) <= ROUNDING for a, b in zip(possible, command, strict=True))
        return same and self.load(*command) <= 1.0 + ROUNDING

    def within_reach(self, command: VelocityCommand) -> tuple[VelocityCommand, float]:
        """Slow a velocity down to what it can do, on the same arc: all of it by one share.

        Clipping only what is too fast would leave the arc.

        Returns:
            The velocity, and the share 0…1 of the one asked for: 1 when nothing had to give, 0 when it cannot go
            that way at all.
        """
        possible = VelocityCommand(*self.possible(*command))
        load = self.load(*possible)
        if load <= 1.0:
            return possible, 1.0
        if load > _NEVER:
            return STANDSTILL, 0.0
        return VelocityCommand(*(axis / load for axis in possible)), 1.0 / load

    def cannot(self, command: VelocityCommand) -> tuple[str, ...]:
        """Name the parts of a velocity that it cannot do as asked, such as ``("sideways",)``."""
        possible, share = self.within_reach(command)
        if share > 0.0:
            possible = VelocityCommand(*self.possible(*command))
        return tuple(
            name
            for name, asked, does in zip(("forward", "sideways", "up", "turn"), command, possible, strict=True)
            if abs(asked - does) > 1e-6
        )
