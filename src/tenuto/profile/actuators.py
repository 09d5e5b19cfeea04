"""The tables of a profile for the form of actuator commands."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, PlainValidator
from pydantic_core import PydanticCustomError

from tenuto.kinds.quantities import ANGLE, FORCE, SHARE, SPEED, TURN_SPEED, Dimension, parse_quantity
from tenuto.kinds.table import Table, quantity

_OF_UNIT = {dimension.unit: dimension for dimension in (TURN_SPEED, ANGLE, FORCE, SPEED)}


def dimension_of(unit: str) -> Dimension:
    """Return the dimension of the value of an actuator, by its unit in SI; empty for a share."""
    return _OF_UNIT.get(unit, SHARE)


class Full(float):
    """The value of an actuator for the share 1, in SI, with the dimension that was written; None for a number."""

    dimension: Dimension | None = None


def _full(value: object) -> Full:
    """Read a number in SI, or a text with a unit of any dimension; which one fits, the vehicle decides."""
    if not isinstance(value, str):
        return Full(quantity(TURN_SPEED)(value))
    for dimension in (*_OF_UNIT.values(), SHARE):
        try:
            full = Full(parse_quantity(value, dimension))
        except ValueError:
            continue
        full.dimension = dimension
        return full
    units = ", ".join(unit for dimension in _OF_UNIT.values() for unit in dimension.units())
    raise PydanticCustomError("quantity", "{hint}", {"hint": f"its units are {units}"})


class ActuatorTable(Table):
    """``[actuators.NAME]``: the form of the command of an actuator."""

    form: Literal["rad/s", "rev/min", "deg", "share", "duty", "pulse", "contacts"] | None = Field(
        default=None, description='"rad/s", "rev/min", "deg", "share", "duty", "pulse" or "contacts"'
    )
    full: Annotated[Full, PlainValidator(_full)] | None = Field(
        default=None, description='a quantity above 0, such as "10 rad/s": the value of the share 1'
    )
    reverse: bool = Field(default=False, description="true or false")
    gear_ratio: float = Field(default=1.0, gt=0.0, description="turns of the motor for one of the wheel")
    smallest: float = Field(default=0.0, ge=0.0, le=0.5, description="a share from 0 to 0.5")
    bits: int = Field(default=8, ge=8, le=16, description="a whole number from 8 to 16")
    at_zero: Literal["brake", "coast"] = Field(default="coast", description='"brake" or "coast"')
    low_us: float = Field(default=1000.0, ge=500.0, le=2500.0, description="a number of µs from 500 to 2500")
    middle_us: float = Field(default=1500.0, ge=500.0, le=2500.0, description="a number of µs from 500 to 2500")
    high_us: float = Field(default=2000.0, ge=500.0, le=2500.0, description="a number of µs from 500 to 2500")
    sub_trim_us: float = Field(default=0.0, ge=-200.0, le=200.0, description="a number of µs from -200 to 200")
