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
        """Turn shares of −1…1 into m/s and rad/s; ``share`` is the speed level, 0…1."""
        forward, sideways, up, turn = intent
        axes = (
            share * forward * (self.forward if forward >= 0.0 else self.backward),
            share * sideways * self.sideways,
            share * up * (self.up if up >= 0.0 else self.down),
            share * turn * self.turn,
        )
        return tuple.__new__(VelocityCommand, axes)  # as VelocityCommand(*axes) does, but faster

    def along(self, velocity: VelocityCommand) -> tuple[float, float, float, float]:
        """Return the speeds that count for the way a velocity points, of vx, vy, vz and yaw rate."""
        return (
            self.forward if velocity.vx > 0.0 else self.backward, self.sideways,
            self.up if velocity.vz > 0.0 else self.down, self.turn,
        )  # fmt: skip

    def shares(self, velocity: VelocityCommand) -> VelocityCommand:
        """Turn m/s and rad/s into shares of these speeds, −1…1 within them; 0 along an axis that has no speed."""
        both = zip(velocity, self.along(velocity), strict=True)
        return VelocityCommand(*(axis / most if most > 0.0 else 0.0 for axis, most in both))

    def capped(self, velocity: VelocityCommand, left: float = 1.0) -> VelocityCommand:
        """Slow a velocity down, on the same arc, to what is ``left`` of these speeds on each axis that has one, 0…1."""
        pairs = zip(velocity, self.along(velocity), strict=True)
        share = max((abs(axis) / (left * most) for axis, most in pairs if left * most > 0.0), default=0.0)
        return velocity if share <= 1.0 else VelocityCommand(*(axis / share for axis in velocity))

    def slow(self, velocity: VelocityCommand, share: float = 1.0) -> VelocityCommand:
        """Slow a velocity down to a share of these speeds, on the same arc."""
        kept = 1.0
        for asked, most in zip(velocity, self.along(velocity), strict=True):
            if asked != 0.0:
                kept = min(kept, share * most / abs(asked))
        return velocity if kept >= 1.0 else VelocityCommand(*(axis * kept for axis in velocity)) if kept else STANDSTILL


@dataclass(frozen=True, slots=True)
class Turning:
    """What the turning stick sets: a turning speed, or the radius of the arc.

    Attributes:
        radius: the smallest radius, at the end of the stick, m; None where the stick sets the turning speed.
        spot_below: at standstill the stick still turns the robot on the spot, and less and less up to this speed, m/s;
            0 for a robot that cannot turn on the spot.
        backing: "same" (the stick to the left always turns left) or "as a car" (it keeps its arc when backing).
    """

    radius: float | None = None
    spot_below: float = 0.0
    backing: str = "same"

    def apply(self, demand: VelocityCommand, turn: float) -> VelocityCommand:
        """Return the demand with its turning speed as this says.

        With stick share s, speed v, turning speed w on the spot and radius R, the yaw rate is s·√((w·f)² + (v/R)²).
        f falls from 1 at standstill to 0 at ``spot_below`` as (1 − (v/spot_below)²)², so there is no kink on the way.

        Args:
            demand: with the turning speed that the stick would have on the spot. turn: the stick's share, −1…1.
        """
        vx, vy, vz, yaw_rate = demand
        speed = math.hypot(vx, vy)
        if self.radius is not None:
            slow = speed / self.spot_below if self.spot_below > 0.0 else 1.0
            on_the_spot = yaw_rate * max(0.0, 1.0 - slow * slow) ** 2
            yaw_rate = math.copysign(math.hypot(on_the_spot, turn * speed / self.radius), turn)
        if self.backing == "as a car" and vx < 0.0:
            # Over the same low speeds the turn goes over from one side to the other, without a jump.
            yaw_rate *= 1.0 - 2.0 * (min(1.0, -vx / self.spot_below) if self.spot_below > 0.0 else 1.0)
        return VelocityCommand(vx, vy, vz, yaw_rate)
