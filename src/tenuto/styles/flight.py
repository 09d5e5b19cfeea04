"""Flight: a control each for climbing, turning, forward and sideways."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.kinds.options import STEER, Ask, Role, option
from tenuto.styles.base import Style, StyleOptions
from tenuto.styles.mixing import Intent
from tenuto.vehicles.base import Chassis

CLIMB = Ask("climb", "CLIMB", "SINK")
AHEAD = Ask("drive", "fly FORWARD", "fly BACKWARD")
SIDEWAYS = Ask("sideways", "fly LEFT without turning", "fly RIGHT without turning", "sideways")


@dataclass(frozen=True, slots=True)
class Flight(Style):
    """A control each for climbing, turning, forward and sideways; any but ``climb`` may be left out."""

    climb: str
    turn: str | None = None
    forward: str | None = None
    sideways: str | None = None

    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Read the intent from the shaped positions."""
        return Intent(
            shaped[self.forward] if self.forward is not None else 0.0,
            shaped[self.sideways] if self.sideways is not None else 0.0,
            shaped[self.climb],
            shaped[self.turn] if self.turn is not None else 0.0,
        )

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot."""
        return tuple(name for name in (self.climb, self.turn, self.forward, self.sideways) if name is not None)


@dataclass(frozen=True, kw_only=True)
class FlightOptions(StyleOptions):
    """One control each for climbing, turning, forward and sideways."""

    kind: ClassVar[str] = "flight"
    climb: str = option("climbs", role=Role.DRIVES, ask=CLIMB)
    turn: str | None = option("turns", None, role=Role.DRIVES, ask=STEER)
    forward: str | None = option("goes forward", None, role=Role.DRIVES, ask=AHEAD)
    sideways: str | None = option("goes left", None, role=Role.DRIVES, ask=SIDEWAYS)

    def style(self, chassis: Chassis) -> Style:
        """Return the style."""
        return Flight(self.climb, self.turn, self.forward, self.sideways)
