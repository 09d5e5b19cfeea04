"""Fourth stage: from shares of speed to the demand, in m/s and rad/s."""

from __future__ import annotations

import math
from dataclasses import dataclass

from tenuto.styles.mixing import Intent
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand


@dataclass(frozen=True, slots=True, kw_only=True)
class Speeds:
    """The speeds at the ends of the sticks.

    Attributes:
        forward, backward: m/s, both positive; backing is usually the lower one.
        turn: rad/s.
        sideways: m/s. up, down: m/s, both positive.
    """

    forward: float
    backward: float
    turn: float
    sideways: float = 0.0
    up: float = 0.0
    down: float = 0.0

    def demand(self, intent: Intent[float], share: float = 1.0) -> VelocityCommand:
        """Convert shares of −1…1 to m/s and rad/s; ``share`` is the speed level, 0…1."""
        forward, sideways, up, turn = intent
        axes = (
            share * forward * (self.forward if forward >= 0.0 else self.backward),
            share * sideways * self.sideways,
            share * up * (self.up if up >= 0.0 else self.down),
            share * turn * self.turn,
        )
        return tuple.__new__(VelocityCommand, axes)  # as VelocityCommand(*axes) does, but faster

    def along(self, velocity: VelocityCommand) -> tuple[float, float, float, float]:
        """Return the speeds for the direction of a velocity, of vx, vy, vz and yaw rate."""
        return (
            self.forward if velocity.vx > 0.0 else self.backward, self.sideways,
            self.up if velocity.vz > 0.0 else self.down, self.turn,
        )  # fmt: skip

    def shares(self, velocity: VelocityCommand) -> VelocityCommand:
        """Convert m/s and rad/s to shares of these speeds, −1…1 within them; 0 along an axis that has no speed."""
        both = zip(velocity, self.along(velocity), strict=True)
        return VelocityCommand(*(axis / most if most > 0.0 else 0.0 for axis, most in both))

    def capped(self, velocity: VelocityCommand, left: float = 1.0) -> VelocityCommand:
        """Reduce a velocity, on the same arc, to the share ``left`` of these speeds on each axis that has one, 0…1."""
        pairs = zip(velocity, self.along(velocity), strict=True)
        share = max((abs(axis) / (left * most) for axis, most in pairs if left * most > 0.0), default=0.0)
        return velocity if share <= 1.0 else VelocityCommand(*(axis / share for axis in velocity))

    def slow(self, velocity: VelocityCommand, share: float = 1.0) -> VelocityCommand:
        """Reduce a velocity to a share of these speeds, on the same arc."""
        kept = 1.0
        for asked, most in zip(velocity, self.along(velocity), strict=True):
            if asked != 0.0:
                kept = min(kept, share * most / abs(asked))
        return velocity if kept >= 1.0 else VelocityCommand(*(axis * kept for axis in velocity)) if kept else STANDSTILL


@dataclass(frozen=True, slots=True)
class Turning:
    """What the turning stick sets: a turning speed, or the radius of the arc.

    Attributes:
        radius: the smallest radius, at the end of the stick, m; None if the stick sets the turning speed.
        spot_below: at standstill the stick turns the robot on the spot; this part falls to 0 at this speed, m/s;
            0 for a robot that cannot turn on the spot.
        backing: "same" (the stick to the left always turns left) or "as a car" (it keeps its arc when backing).
    """

    radius: float | None = None
    spot_below: float = 0.0
    backing: str = "same"

    def apply(self, demand: VelocityCommand, turn: float) -> VelocityCommand:
        """Return the demand with this turning speed.

        With stick share s, speed v, turning speed w on the spot and radius R, the yaw rate is s·√((w·f)² + (v/R)²).
        f falls from 1 at standstill to 0 at ``spot_below`` as (1 − (v/spot_below)²)², which is smooth.

        Args:
            demand: with the turning speed of the stick on the spot. turn: the stick's share, −1…1.
        """
        vx, vy, vz, yaw_rate = demand
        speed = math.hypot(vx, vy)
        if self.radius is not None:
            slow = speed / self.spot_below if self.spot_below > 0.0 else 1.0
            on_the_spot = yaw_rate * max(0.0, 1.0 - slow * slow) ** 2
            yaw_rate = math.copysign(math.hypot(on_the_spot, turn * speed / self.radius), turn)
        if self.backing == "as a car" and vx < 0.0:
            # Over the same low speeds the turn changes from one side to the other without a jump.
            yaw_rate *= 1.0 - 2.0 * (min(1.0, -vx / self.spot_below) if self.spot_below > 0.0 else 1.0)
        return VelocityCommand(vx, vy, vz, yaw_rate)
