"""The tables of a profile for speeds and their limits."""

from __future__ import annotations

import math

from pydantic import Field

from tenuto.driving.limits import Limits
from tenuto.kinds.table import Table
from tenuto.profile.quantities import (
    Acceleration,
    Jerk,
    Speed,
    TurnAcceleration,
    TurnJerk,
    TurnSpeed,
)
from tenuto.styles.speeds import Speeds
from tenuto.vehicles.velocity import VelocityCommand


class SpeedsTable(Table):
    """``[speeds]``: the speeds at full stick."""

    forward: Speed = Field(description='a speed, such as "1.2 m/s"')
    backward: Speed | None = Field(default=None, description='a speed, such as "0.5 m/s"')
    turn: TurnSpeed = Field(description='a turning speed, such as "90 deg/s"')
    sideways: Speed | None = Field(default=None, description='a speed, such as "0.5 m/s"')
    up: Speed | None = Field(default=None, description='a speed, such as "1 m/s"')
    down: Speed | None = Field(default=None, description='a speed, such as "0.5 m/s"')

    def speeds(self) -> Speeds:
        """Return them with defaults for missing keys."""
        return Speeds(
            forward=self.forward,
            backward=self.backward or self.forward,
            turn=self.turn,
            sideways=self.sideways or self.forward,
            up=self.up or 0.0,
            down=self.down or self.up or 0.0,
        )


def full_velocity(speeds: Speeds) -> VelocityCommand:
    """Return the velocity at the ends of the sticks; 1 for an axis without a speed."""
    return VelocityCommand(speeds.forward, speeds.sideways or 1.0, speeds.up or 1.0, speeds.turn)


class LimitsTable(Table):
    """``[limits]``: how fast the command may change during a drive."""

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
        """Return them with defaults for missing keys."""
        return Limits(
            acceleration=self.acceleration,
            turn_acceleration=self.turn_acceleration,
            deceleration=self.deceleration,
            turn_deceleration=self.turn_deceleration,
            vertical_acceleration=self.vertical_acceleration or self.acceleration,
            jerk=self.jerk or math.inf,
            turn_jerk=self.turn_jerk or math.inf,
        )
