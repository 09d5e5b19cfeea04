"""Arcade: one control drives, one turns."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar, Literal

from tenuto.kinds.options import DRIVE, STEER, Role, option
from tenuto.styles.base import Style, TurningOptions, TurningStick
from tenuto.styles.speeds import Turning
from tenuto.vehicles.base import Chassis


@dataclass(frozen=True, slots=True)
class Arcade(TurningStick):
    """One control drives, one turns; ``sticks`` is 1 if both are axes of a single stick.

    Attributes:
        corner: see `mixing.in_corner`. turning: what the turning stick sets; None for the turning speed.
    """

    forward: str
    turn: str
    corner: str = "free"
    turning: Turning | None = None

    def asked(self, shaped: Mapping[str, float]) -> tuple[float, float]:
        """Return forward and turn as the controls demand them."""
        return shaped[self.forward], shaped[self.turn]

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot."""
        return (self.forward, self.turn)


@dataclass(frozen=True, kw_only=True)
class ArcadeOptions(TurningOptions):
    """One control drives, one turns."""

    kind: ClassVar[str] = "arcade"
    forward: str = option("drives", role=Role.DRIVES, ask=DRIVE)
    turn: str = option("turns", role=Role.DRIVES, ask=STEER)
    sticks: Literal[1, 2] = option("1 when both are the axes of a single stick, otherwise 2", 2)

    def style(self, chassis: Chassis) -> Style:
        """Return the style; by default a single stick's corner demands no more than its ends."""
        corner = self.corner or ("scale" if self.sticks == 1 else "free")
        return Arcade(self.forward, self.turn, corner, self.turning())
