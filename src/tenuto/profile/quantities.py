"""Quantities as keys of a profile: a number in SI, or text with a unit such as ``"90 deg/s"``."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any

from pydantic import BeforeValidator
from pydantic_core import PydanticCustomError

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
TurnJerk = Annotated[float, BeforeValidator(quantity(TURN_JERK))]


def _halves(low: float, high: float) -> Callable[[object], tuple[float, float]]:
    """Make a reader of one number for both halves of a stick, or a list of two, the positive half's first."""

    def good(number: object) -> bool:
        return isinstance(number, (int, float)) and not isinstance(number, bool) and low <= number <= high

    def read(value: Any) -> tuple[float, float]:
        numbers = value if isinstance(value, (list, tuple)) else [value, value]
        if len(numbers) != 2 or not all(good(number) for number in numbers):
            raise PydanticCustomError("quantity", "{hint}", {"hint": "or a list of two, the positive half's first"})
        return float(numbers[0]), float(numbers[1])

    return read


# Of expo, and of a power.
ExpoHalves = Annotated[tuple[float, float], BeforeValidator(_halves(0.0, 1.0))]
PowerHalves = Annotated[tuple[float, float], BeforeValidator(_halves(1.0, 5.0))]
