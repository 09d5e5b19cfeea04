"""A style: two handles, as of a wheelbarrow. Both drive; one pushed further turns the robot."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.kinds.options import Ask, Role, option
from tenuto.styles.base import Style, StyleOptions
from tenuto.styles.mixing import Intent
from tenuto.vehicles.base import Chassis


@dataclass(frozen=True, slots=True)
class Nudge(Style):
    """Forward is the mean of both handles; half of their difference, times ``nudge``, turns."""

    left: str
    right: str
    nudge: float

    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Read the intent from the shaped positions."""
        left, right = shaped[self.left], shaped[self.right]
        return Intent((left + right) / 2.0, 0.0, 0.0, self.nudge * (right - left) / 2.0)

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot."""
        return (self.left, self.right)


@dataclass(frozen=True, kw_only=True)
class NudgeOptions(StyleOptions):
    """Two handles: both drive, the difference turns."""

    kind: ClassVar[str] = "nudge"
    left: str = option("is the left handle", role=Role.DRIVES, ask=Ask("left", "push the LEFT handle", "pull it"))
    right: str = option("is the right handle", role=Role.DRIVES, ask=Ask("right", "push the RIGHT handle", "pull it"))
    nudge: float = option("a share of the turning speed from 0 to 1", 0.5, low=0.0, high=1.0)

    def style(self, chassis: Chassis) -> Style:
        """Return the style."""
        return Nudge(self.left, self.right, self.nudge)
