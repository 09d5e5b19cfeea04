"""Quantities as keys of a profile: a number in SI, or text with a unit such as ``"90 deg/s"``."""

from __future__ import annotations

from typing import Annotated

from pydantic import BeforeValidator

from tenuto.kinds.quantities import (
    ACCELERATION,
    ANGLE,
    FREQUENCY,
    JERK,
    LENGTH,
    SPEED,
    TIME,
    TURN_ACCELERATION,
    TURN_JERK,
    TURN_SPEED,
    VOLTAGE,
)
from tenuto.kinds.table import quantity

Length = Annotated[float, BeforeValidator(quantity(LENGTH))]
SignedLength = Annotated[float, BeforeValidator(quantity(LENGTH, signed=True))]
Angle = Annotated[float, BeforeValidator(quantity(ANGLE))]
SignedAngle = Annotated[float, BeforeValidator(quantity(ANGLE, signed=True))]
Time = Annotated[float, BeforeValidator(quantity(TIME))]
Frequency = Annotated[float, BeforeValidator(quantity(FREQUENCY))]
Speed = Annotated[float, BeforeValidator(quantity(SPEED))]
SignedSpeed = Annotated[float, BeforeValidator(quantity(SPEED, signed=True))]
SignedTurnSpeed = Annotated[float, BeforeValidator(quantity(TURN_SPEED, signed=True))]
TurnSpeed = Annotated[float, BeforeValidator(quantity(TURN_SPEED))]
Acceleration = Annotated[float, BeforeValidator(quantity(ACCELERATION))]
TurnAcceleration = Annotated[float, BeforeValidator(quantity(TURN_ACCELERATION))]
Jerk = Annotated[float, BeforeValidator(quantity(JERK))]
Voltage = Annotated[float, BeforeValidator(quantity(VOLTAGE))]
TurnJerk = Annotated[float, BeforeValidator(quantity(TURN_JERK))]
