"""The tables of a profile for the form of actuator commands."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from tenuto.kinds.table import Table


class ActuatorTable(Table):
    """``[actuators.NAME]``: the form of the command of an actuator."""

    form: Literal["rad/s", "rev/min", "deg", "share", "duty", "pulse", "contacts"] | None = Field(
        default=None, description='"rad/s", "rev/min", "deg", "share", "duty", "pulse" or "contacts"'
    )
    full: float | None = Field(default=None, gt=0.0, description="a number above 0: the value of the share 1")
    reverse: bool = Field(default=False, description="true or false")
    gear_ratio: float = Field(default=1.0, gt=0.0, description="turns of the motor for one of the wheel")
    smallest: float = Field(default=0.0, ge=0.0, le=0.5, description="a share from 0 to 0.5")
    bits: int = Field(default=8, ge=8, le=16, description="a whole number from 8 to 16")
    at_zero: Literal["brake", "coast"] = Field(default="coast", description='"brake" or "coast"')
    low_us: float = Field(default=1000.0, ge=500.0, le=2500.0, description="a number of µs from 500 to 2500")
    middle_us: float = Field(default=1500.0, ge=500.0, le=2500.0, description="a number of µs from 500 to 2500")
    high_us: float = Field(default=2000.0, ge=500.0, le=2500.0, description="a number of µs from 500 to 2500")
    sub_trim_us: float = Field(default=0.0, ge=-200.0, le=200.0, description="a number of µs from -200 to 200")
