"""The tables of a profile that say what the controls mean for the robot: one a style."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from tenuto.core.styles import Arcade, Flight, Style
from tenuto.profile.table import Name, Table

# Begins the description of every key whose value is the name of a control.
CONTROL = "the name of the control under [controls] that"


class ArcadeTable(Table):
    """``[style]`` with ``kind = "arcade"``: one control drives, one turns."""

    kind: Literal["arcade"] = Field(description="a style")
    forward: Name = Field(description=f"{CONTROL} drives")
    turn: Name = Field(description=f"{CONTROL} turns")
    sticks: Literal[1, 2] = Field(default=2, description="1 when both are the axes of a single stick, otherwise 2")

    def style(self) -> Style:
        """Give the style."""
        return Arcade(self.forward, self.turn, self.sticks)


class FlightTable(Table):
    """``[style]`` with ``kind = "flight"``: a control each for climbing, turning, forward and sideways."""

    kind: Literal["flight"] = Field(description="a style")
    climb: Name = Field(description=f"{CONTROL} climbs")
    turn: Name | None = Field(default=None, description=f"{CONTROL} turns")
    forward: Name | None = Field(default=None, description=f"{CONTROL} goes forward")
    sideways: Name | None = Field(default=None, description=f"{CONTROL} goes left")

    def style(self) -> Style:
        """Give the style."""
        return Flight(self.climb, self.turn, self.forward, self.sideways)


StyleTable = Annotated[ArcadeTable | FlightTable, Field(discriminator="kind")]
