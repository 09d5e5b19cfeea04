"""What a remote robot reports as measured, as a message and as telemetry."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Annotated

from pydantic import AfterValidator, BaseModel, ConfigDict, Field

from tenuto.basics.text import readable
from tenuto.driving.telemetry import FarEnds, Telemetry

MOST_NUMBERS, LONGEST_NAME = 4, 24
Named = Annotated[
    dict[Annotated[str, Field(min_length=1, max_length=LONGEST_NAME)], float], Field(max_length=MOST_NUMBERS)
]


class MeasuredState(BaseModel):
    """What the robot has measured, or its own far end has reported. Unknown values are left out."""

    model_config = ConfigDict(frozen=True, extra="forbid", strict=True, allow_inf_nan=False)

    armed: bool | None = Field(default=None, description="its motors are armed")
    mode: Annotated[str, AfterValidator(readable)] | None = Field(default=None, max_length=LONGEST_NAME)
    flying: bool | None = Field(default=None, description="it is in the air")
    height: float | None = Field(default=None, description="m above the origin of its position")
    x: float | None = Field(default=None, description="m; at the origin it looks along x")
    y: float | None = Field(default=None, description="m, to the left")
    heading: float | None = Field(default=None, description="rad from x, to the left")
    vx: float | None = Field(default=None, description="m/s, forward, as measured")
    vy: float | None = Field(default=None, description="m/s, to the left, as measured")
    vz: float | None = Field(default=None, description="m/s, up, as measured")
    yaw_rate: float | None = Field(default=None, description="rad/s, to the left, as measured")
    wheels: Named = Field(default={}, description="name: measured speed, rad/s")
    distances: Named = Field(default={}, description="name: m")
    voltage: float | None = Field(default=None, description="of its battery, V")
    charge: float | None = Field(default=None, description="charge of its battery, 0…1")


# What a remote robot can report: its state, and its measurements.
SAYS = frozenset((*MeasuredState.model_fields, "follows", "state", "reasons", "round_trip", "loss"))


def measured_of(far: FarEnds) -> MeasuredState | None:
    """Return what the far ends of a robot report, each value from the first that has it; None if there is nothing."""
    found: dict[str, object] = {}
    for one in reversed([*far.values()]):
        said = {name: getattr(one, name) for name in MeasuredState.model_fields if name in one.says}
        found |= {name: made for name, value in said.items() if (made := _sent(value)) is not None}
    return MeasuredState(**found) if found else None  # type: ignore[arg-type]


def _sent(value: object) -> object:
    """Return a value as it is sent; None for an unknown one."""
    if isinstance(value, Mapping):
        kept = [(str(name)[:LONGEST_NAME], number) for name, number in value.items() if math.isfinite(number)]
        return dict(kept[:MOST_NUMBERS]) or None
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    return value[:LONGEST_NAME] or None if isinstance(value, str) else value


def telemetry_of(measured: MeasuredState | None) -> Telemetry:
    """Return what a robot measured as telemetry."""
    said = measured.model_dump(exclude_none=True) if measured is not None else {}
    return Telemetry(**said)
