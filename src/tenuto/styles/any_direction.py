"""Any direction: two translations and a turn."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.kinds.options import DRIVE, STEER, Ask, Role, option
from tenuto.styles.base import Setting, Style, StyleOptions
from tenuto.styles.mixing import Intent
from tenuto.styles.speeds import Speeds
from tenuto.vehicles.base import Chassis
from tenuto.vehicles.velocity import VelocityCommand, field_to_body


@dataclass(frozen=True, slots=True)
class AnyDirection(Style):
    """Two translations and a turn.

    Attributes:
        heading: a control whose position is the robot's heading, −1…1 for −180…180 deg, left positive. Forward is then
            the field's forward, independent of the robot's heading. None: forward is where the robot faces.
    """

    forward: str
    sideways: str
    turn: str
    heading: str | None = None

    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Read the intent from the shaped positions."""
        return Intent(shaped[self.forward], shaped[self.sideways], 0.0, shaped[self.turn])

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot."""
        return (self.forward, self.sideways, self.turn)

    def demand(
        self, intent: Intent[float], speeds: Speeds, setting: Setting, shaped: Mapping[str, float]
    ) -> VelocityCommand:
        """Return the velocity, turned from the field's axes to the robot's if a heading is known."""
        asked = speeds.demand(intent, setting.level)
        if self.heading is None:
            return asked
        return field_to_body(asked, shaped[self.heading] * math.pi - setting.heading_zero)


@dataclass(frozen=True, kw_only=True)
class AnyDirectionOptions(StyleOptions):
    """Two translations and a turn."""

    kind: ClassVar[str] = "any_direction"
    forward: str = option("goes forward", role=Role.DRIVES, ask=DRIVE)
    sideways: str = option(
        "goes left",
        role=Role.DRIVES,
        ask=Ask("sideways", "go LEFT without turning", "go RIGHT without turning", "sideways"),
    )
    turn: str = option("turns", role=Role.DRIVES, ask=STEER)
    heading: str | None = option(": the heading", None, role=Role.READS)
    heading_zero: str | None = option("", None, role=Role.PRESSED)

    def measured_heading(self) -> tuple[str, str | None] | None:
        """Return the control that measures the heading."""
        return None if self.heading is None else (self.heading, self.heading_zero)

    def style(self, chassis: Chassis) -> Style:
        """Return the style."""
        return AnyDirection(self.forward, self.sideways, self.turn, self.heading)
