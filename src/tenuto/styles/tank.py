"""Tank: a stick for each side."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.kinds.options import Ask, Role, option
from tenuto.styles import mixing
from tenuto.styles.base import Style, StyleOptions
from tenuto.styles.mixing import Intent
from tenuto.vehicles.base import Chassis


@dataclass(frozen=True, slots=True)
class Tank(Style):
    """A stick for each side."""

    left: str
    right: str

    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Read the intent from the shaped positions."""
        forward, turn = mixing.tank(shaped[self.left], shaped[self.right])
        return Intent(forward, 0.0, 0.0, turn)

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot."""
        return (self.left, self.right)


@dataclass(frozen=True, kw_only=True)
class TankOptions(StyleOptions):
    """A stick for each side."""

    kind: ClassVar[str] = "tank"
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
        return Tank(self.left, self.right)
