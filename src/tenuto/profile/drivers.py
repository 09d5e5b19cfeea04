"""The tables of a profile for other drivers, sensors, inhibits and feedback."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import TYPE_CHECKING, Annotated, Any, Literal

from pydantic import BeforeValidator, Field, ValidationInfo

from tenuto.kinds.quantities import SPEED, TURN_SPEED
from tenuto.kinds.table import Name, Table, quantity
from tenuto.kinds.tables import any_of
from tenuto.profile.controls import ControlTable
from tenuto.profile.quantities import Length, Time
from tenuto.sources.base import SOURCES, HeldOptions

# Keys that belong to one device: if ``reads`` is set again, they are not inherited from the first driver.
_OF_THE_DEVICE = ("reads", "minus", "low", "centre", "rests", "high", "reverse", "push_button", "dead_zone")


if TYPE_CHECKING:
    AnySource = HeldOptions
else:
    AnySource = any_of(SOURCES, lambda options: options.in_profiles)


def _speed_or_turn(*, signed: bool = False) -> Callable[[object, ValidationInfo], float]:
    """Make a validator for a turning speed or a speed, depending on ``of``."""

    def read(value: object, table: ValidationInfo) -> float:
        return quantity(TURN_SPEED if table.data.get("of") == "turn" else SPEED, signed=signed)(value)

    return read


class DriverTable(Table):
    """``[drivers.NAME]``: another driver, by decreasing rank in the order of the file."""

    sends: Literal["sticks", "velocities"] = Field(default="sticks", description='"sticks" or "velocities"')
    source: AnySource | None = Field(default=None, description="a table [drivers.NAME.source]")
    controls: dict[str, ControlTable] = Field(default={}, description="tables [drivers.NAME.controls.NAME]")
    given_by: Name | None = Field(default=None, description="a switch, or a control that is pressed")
    permit: Name | None = Field(default=None, description="a control that must be on")
    alone: bool = Field(default=False, description="true or false")
    speed_share: float = Field(default=1.0, gt=0.0, le=1.0, description="a share above 0, up to 1")
    link_timeout: Time | None = Field(default=None, description='a time, such as "300 ms"')


class InputTable(Table):
    """The common keys of all inputs: the source of a number, and its largest age."""

    source: AnySource | None = Field(default=None, description="a table with the keys of [source]")
    source_of: Name | None = Field(default=None, description="a sensor or an inhibit that has a source")
    far_end: Name | None = Field(default=None, description="a sink of the profile whose far end reports the number")
    reads: Name = Field(description="the name of the number at its source, such as a column")
    timeout: Time | None = Field(default=None, description='a time, such as "200 ms"')

    @property
    def has_source(self) -> bool:
        """Whether it has a source: its own, another input's, or a far end."""
        return self.source is not None or self.source_of is not None or self.far_end is not None


class DistanceTable(InputTable):
    """``[distances.NAME]``: a distance sensor, which limits the speed towards an obstacle."""

    scale: Length = Field(default=1.0, description='the length for a number of 1, such as "1 mm"')
    towards: Literal["forward", "backward", "left", "right", "up", "down"] = Field(
        default="forward", description='its direction: "forward", "backward", "left", "right", "up" or "down"'
    )
    keep: Length = Field(description='the distance to keep, such as "0.5 m"')
    reach: Length | None = Field(default=None, description='its range, such as "4 m"')


class InhibitTable(InputTable):
    """``[inhibits.NAME]``: an input that stops the robot, or lowers its speed: a bumper, a gate, a low battery."""

    normally: Literal["closed", "open"] = Field(default="closed", description='"closed" or "open"')
    on_from: float = Field(default=0.5, allow_inf_nan=False, description="the number from which on the input is on")
    stop_category: Literal[0, 1, 2] | None = Field(default=None, description="0, 1 or 2")
    speed_share: float | None = Field(default=None, gt=0.0, lt=1.0, description="a share above 0, below 1")


class MeasuredTable(InputTable):
    """``[measured.NAME]``: a measured speed, which must match the command."""

    of: Literal["forward", "sideways", "up", "turn"] = Field(
        default="forward", description='what it measures: "forward", "sideways", "up" or "turn"'
    )
    scale: Annotated[float, BeforeValidator(_speed_or_turn(signed=True))] = Field(
        default=1.0, description='the speed for a number of 1, such as "1 mm/s"; for a turn "1 deg/s"'
    )
    tolerance: Annotated[float, BeforeValidator(_speed_or_turn())] = Field(
        description='a speed, such as "0.2 m/s"; of a turn "20 deg/s"'
    )
    within: Time = Field(default=0.5, description='how long the robot takes to follow, such as "500 ms"')


class FeedbackTable(Table):
    """``[feedback]``: signals to the driver."""

    by: Literal["rumble", "bell", "both", "nothing"] = Field(
        default="rumble", description='"rumble", "bell", "both" or "nothing"'
    )


def filled_drivers(tables: dict[str, Any]) -> dict[str, Any]:
    """Merge the first driver's controls with those of another driver."""
    drivers, base = tables["drivers"], tables.get("controls")
    if not isinstance(base, dict):
        return tables
    return {**tables, "drivers": {name: _filled(table, base) for name, table in drivers.items()}}


def _filled(table: Any, base: dict[str, Any]) -> Any:
    if not isinstance(table, dict) or not isinstance(table.get("controls"), dict):
        return table
    controls = {
        name: _over(own, base[name]) if isinstance(own, dict) and isinstance(base.get(name), dict) else own
        for name, own in table["controls"].items()
    }
    return {**table, "controls": controls}


def _over(own: dict[str, Any], base: dict[str, Any]) -> dict[str, Any]:
    if "reads" in own:
        base = {key: value for key, value in base.items() if key not in _OF_THE_DEVICE}
    return {**base, **own}


def reach_of(table: DistanceTable) -> float:
    """Return the range of a sensor, m."""
    return math.inf if table.reach is None else table.reach
