"""Triggers: a trigger to go forward, one to go backward, and a stick to turn."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.kinds.options import STEER, Ask, Role, option
from tenuto.styles.base import Style, TurningOptions, TurningStick
from tenuto.styles.speeds import Turning
from tenuto.vehicles.base import Chassis


@dataclass(frozen=True, slots=True)
class Pressed(TurningStick):
    """Triggers or the four directions of a pad: a control each for forward and backward; one or two to turn.

    Attributes:
        forward, backward: 0…1 each. left: turns left; right: turns right, or None if ``left`` goes both ways.
    """

    forward: str
    backward: str
    left: str
    right: str | None = None
    corner: str = "free"
    turning: Turning | None = None

    def asked(self, shaped: Mapping[str, float]) -> tuple[float, float]:
        """Return forward and turn as the controls demand them; the sum of two-way controls is limited to 1."""
        turn = shaped[self.left] - (shaped[self.right] if self.right is not None else 0.0)
        forward = shaped[self.forward] - shaped[self.backward]
        return min(max(forward, -1.0), 1.0), min(max(turn, -1.0), 1.0)

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot."""
        return tuple(name for name in (self.forward, self.backward, self.left, self.right) if name is not None)


@dataclass(frozen=True, kw_only=True)
class TriggersOptions(TurningOptions):
    """A trigger to go forward, one to go backward, and a stick to turn."""

    kind: ClassVar[str] = "triggers"
    forward: str = option("goes forward", role=Role.DRIVES, ask=Ask("ahead", "drive FORWARD", ""))
    backward: str = option("goes backward", role=Role.DRIVES, ask=Ask("back_up", "drive BACKWARD", ""))
    turn: str = option("turns", role=Role.DRIVES, ask=STEER)

    def style(self, chassis: Chassis) -> Style:
        """Return the style."""
        return Pressed(self.forward, self.backward, self.turn, None, self.corner or "free", self.turning())
