"""Four ways: four buttons, or the four directions of a pad."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from tenuto.kinds.options import Ask, Role, option
from tenuto.styles.base import Style, TurningOptions
from tenuto.styles.triggers import Pressed
from tenuto.vehicles.base import Chassis


@dataclass(frozen=True, kw_only=True)
class FourWayOptions(TurningOptions):
    """Four buttons, or a four-way pad."""

    kind: ClassVar[str] = "four_way"
    forward: str = option("goes forward", role=Role.DRIVES, ask=Ask("ahead", "drive FORWARD", ""))
    backward: str = option("goes backward", role=Role.DRIVES, ask=Ask("back_up", "drive BACKWARD", ""))
    left: str = option("turns left", role=Role.DRIVES, ask=Ask("to_left", "turn LEFT", ""))
    right: str = option("turns right", role=Role.DRIVES, ask=Ask("to_right", "turn RIGHT", ""))

    def style(self, chassis: Chassis) -> Style:
        """Return the style."""
        return Pressed(self.forward, self.backward, self.left, self.right, self.corner or "scale", self.turning())
