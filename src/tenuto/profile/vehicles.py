"""The tables of a profile about the vehicle: its speeds, its limits and its measures."""

from __future__ import annotations

import math
from typing import Annotated, Literal

from pydantic import Field

from tenuto.core.chassis import Aircraft, Chassis, Differential
from tenuto.core.demand import Speeds
from tenuto.core.limits import Limits
from tenuto.profile.quantities import (
    Acceleration,
    Jerk,
    Length,
    Speed,
    TurnAcceleration,
    TurnJerk,
    TurnSpeed,
)
from tenuto.profile.table import Table


class SpeedsTable(Table):
    """``[speeds]``: how fast the robot goes at the ends of the sticks."""

    forward: Speed = Field(description='a speed, such as "1.2 m/s"')
    backward: Speed | None = Field(default=None, description='a speed, such as "0.5 m/s"')
    turn: TurnSpeed = Field(description='a turning speed, such as "90 deg/s"')
    sideways: Speed | None = Field(default=None, description='a speed, such as "0.5 m/s"')
    up: Speed | None = Field(default=None, description='a speed, such as "1 m/s"')
    down: Speed | None = Field(default=None, description='a speed, such as "0.5 m/s"')

    def speeds(self) -> Speeds:
        """Give them with what is left out filled in."""
        return Speeds(
            self.forward,
            self.backward or self.forward,
            self.turn,
            self.sideways or self.forward,
            self.up or 0.0,
            self.down or self.up or 0.0,
        )


class LimitsTable(Table):
    """``[limits]``: how fast the command may change while somebody drives."""

    acceleration: Acceleration = Field(description='an acceleration, such as "0.8 m/s^2"')
    deceleration: Acceleration | None = Field(default=None, description='an acceleration, such as "1.2 m/s^2"')
    turn_acceleration: TurnAcceleration = Field(
        default=math.pi, description='a turning acceleration, such as "180 deg/s^2"'
    )
    turn_deceleration: TurnAcceleration | None = Field(
        default=None, description='a turning acceleration, such as "360 deg/s^2"'
    )
    vertical_acceleration: Acceleration | None = Field(default=None, description='an acceleration, such as "1 m/s^2"')
    jerk: Jerk | None = Field(default=None, description='a jerk, such as "3 m/s^3"')
    turn_jerk: TurnJerk | None = Field(default=None, description='a turning jerk, such as "720 deg/s^3"')

    def limits(self) -> Limits:
        """Give them with what is left out filled in."""
        return Limits(
            self.acceleration,
            self.turn_acceleration,
            self.deceleration,
            self.turn_deceleration,
            self.vertical_acceleration or self.acceleration,
            self.jerk or math.inf,
            self.turn_jerk or math.inf,
        )


class DifferentialTable(Table):
    """``[chassis]`` with ``kind = "differential"``: two driven wheels."""

    kind: Literal["differential"] = Field(description="a kind of vehicle")
    track: Length = Field(description='the distance between the middles of the tyres, such as "0.62 m"')
    wheel_radius: Length = Field(description='a length, such as "0.11 m"')
    max_wheel_speed: TurnSpeed | None = Field(default=None, description='a turning speed, such as "120 rev/min"')

    def chassis(self) -> Chassis:
        """Give the vehicle."""
        return Differential(self.track, self.wheel_radius, self.max_wheel_speed or math.inf)


class AircraftTable(Table):
    """``[chassis]`` with ``kind = "aircraft"``: an autopilot takes the velocity."""

    kind: Literal["aircraft"] = Field(description="a kind of vehicle")
    max_speed: Speed | None = Field(default=None, description='a speed, such as "5 m/s"')
    max_climb: Speed | None = Field(default=None, description='a speed, such as "2 m/s"')

    def chassis(self) -> Chassis:
        """Give the vehicle."""
        return Aircraft(self.max_speed or math.inf, self.max_climb or math.inf)


ChassisTable = Annotated[DifferentialTable | AircraftTable, Field(discriminator="kind")]
