"""Tank: a stick for each side."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.kinds.options import Ask, Role, option
from tenuto.styles import mixing
from tenuto.styles.base import Setting, Style, StyleOptions
from tenuto.styles.mixing import Intent
from tenuto.styles.speeds import Speeds
from tenuto.vehicles.base import Chassis, Sides, Way
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand


@dataclass(frozen=True, slots=True)
class Tank(Style):
    """A stick for each side.

    A stick at its end is the full speed of its side, forward or backward; a stick at rest is a side that stands. If the
    robot would turn faster than its turning speed with the sticks at their ends in the same ratio, both sides are
    reduced by one share: so a side that stands remains at standstill, and the whole travel of a stick has an effect.

    Attributes:
        left, right: controls.
        sides: of the vehicle; None if it has none. Then the speed of a side is the sum of the forward and
            the turning speed.
    """

    left: str
    right: str
    sides: Sides | None = None

    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Read the intent from the shaped positions."""
        forward, turn = mixing.tank(shaped[self.left], shaped[self.right])
        return Intent(forward, 0.0, 0.0, turn)

    def demand(
        self, intent: Intent[float], speeds: Speeds, setting: Setting, shaped: Mapping[str, float]
    ) -> VelocityCommand:
        """Return the velocity of both sides together."""
        left, right = shaped[self.left], shaped[self.right]
        most = max(abs(left), abs(right))
        if not most:
            return STANDSTILL
        level = setting.level
        left *= level * (speeds.forward if left >= 0.0 else speeds.backward)
        right *= level * (speeds.forward if right >= 0.0 else speeds.backward)
        sides = self._sides(speeds)
        velocity = sides.velocity(left, right)
        turn, fastest = abs(velocity.yaw_rate), level * most * speeds.turn
        share = fastest / turn if turn > fastest else 1.0
        return velocity if share == 1.0 else sides.velocity(share * left, share * right)

    def way(self, speeds: Speeds) -> Way:
        """Let each side change separately."""
        return self._sides(speeds)

    def _sides(self, speeds: Speeds) -> Sides:
        if self.sides is not None:
            return self.sides
        # If the robot cannot go ahead, or cannot turn, any distance will do.
        half = speeds.forward / speeds.turn if speeds.forward and speeds.turn else 1.0
        return Sides(half, half)

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot."""
        return (self.left, self.right)


@dataclass(frozen=True, kw_only=True)
class TankOptions(StyleOptions):
    """A stick for each side."""

    kind: ClassVar[str] = "tank"
    apart: ClassVar[bool] = True
    left: str = option(
        "drives the left side",
        role=Role.DRIVES,
        ask=Ask("left", "drive the LEFT side forward", "drive the LEFT side backward"),
    )
    right: str = option(
        "drives the right side",
        role=Role.DRIVES,
        ask=Ask("right", "drive the RIGHT side forward", "drive the RIGHT side backward"),
    )

    def style(self, chassis: Chassis) -> Style:
        """Return the style."""
        return Tank(self.left, self.right, chassis.sides())
