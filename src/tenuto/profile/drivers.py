"""The tables of a profile about who and what else has a say: other drivers, sensors of distance, feedback."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Any, Literal

from pydantic import Field

from tenuto.basics.errors import Problem
from tenuto.kinds.table import Name, Table
from tenuto.kinds.tables import any_of
from tenuto.profile.controls import ControlTable
from tenuto.profile.quantities import Length, Time
from tenuto.sources.base import SOURCES, HeldOptions
from tenuto.vehicles.velocity import VelocityCommand

if TYPE_CHECKING:
    from tenuto.profile.schema import Profile

# What another device has of its own: not to be taken over from the first driver's when ``reads`` is said anew.
_OF_THE_DEVICE = ("reads", "minus", "low", "centre", "rests", "high", "reverse", "dead_zone")


if TYPE_CHECKING:
    AnySource = HeldOptions
else:
    AnySource = any_of(SOURCES, lambda options: options.in_profiles)


class DriverTable(Table):
    """``[drivers.NAME]``: somebody or something else that may drive, by falling rank in the order of the file."""

    sends: Literal["sticks", "velocities"] = Field(default="sticks", description='"sticks" or "velocities"')
    source: AnySource | None = Field(default=None, description="a table [drivers.NAME.source]")
    controls: dict[str, ControlTable] = Field(default={}, description="tables [drivers.NAME.controls.NAME]")
    given_by: Name | None = Field(default=None, description="a switch, or a control that is pressed")
    permit: Name | None = Field(default=None, description="a control that must be on")
    alone: bool = Field(default=False, description="true or false")
    speed_share: float = Field(default=1.0, gt=0.0, le=1.0, description="a share above 0, up to 1")
    link_timeout: Time | None = Field(default=None, description='a time, such as "300 ms"')


class DistanceTable(Table):
    """``[distances.NAME]``: a sensor of distance, which lowers the speed towards what it sees."""

    source: AnySource | None = Field(default=None, description="a table [distances.NAME.source]")
    reads: Name = Field(description="what its source calls the number, such as a column")
    scale: Length = Field(default=1.0, description='what a number of 1 stands for, such as "1 mm"')
    towards: Literal["forward", "backward", "left", "right", "up", "down"] = Field(
        default="forward", description='where it looks: "forward", "backward", "left", "right", "up" or "down"'
    )
    keep: Length = Field(description='the distance to keep, such as "0.5 m"')
    reach: Length | None = Field(default=None, description='from where on it sees nothing, such as "4 m"')
    timeout: Time | None = Field(default=None, description='a time, such as "200 ms"')


class FeedbackTable(Table):
    """``[feedback]``: how the driver is told without looking."""

    by: Literal["rumble", "bell", "both", "nothing"] = Field(
        default="rumble", description='"rumble", "bell", "both" or "nothing"'
    )


def filled_drivers(tables: dict[str, Any]) -> dict[str, Any]:
    """Put the first driver's controls under those that another one gives."""
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


def seen_by(profile: Profile, name: str) -> Profile:
    """Give the profile as one of the other drivers has it: with that one's source and controls."""
    table = profile.drivers[name]
    controls: Mapping[str, ControlTable] = {**profile.controls, **table.controls}
    source = table.source or profile.source.another()
    return profile.model_copy(update={"source": source, "controls": controls, "drivers": {}, "distances": {}})


def drivers_problems(profile: Profile) -> Iterator[Problem]:
    """List what is wrong with the other drivers and the sensors, but for what is wrong with their controls."""
    for name, table in profile.drivers.items():
        key = f"drivers.{name}"
        if name == profile.source.driver or name in profile.distances:
            yield Problem(key, "a name that no other driver and no sensor has", f'"{name}"')
        if table.given_by is None and table.permit is None and not table.alone:
            hint = "without it nobody could ever give the robot to it"
            yield Problem(f"{key}.given_by", DriverTable.model_fields["given_by"].description or "", "nothing", hint)
        if table.sends == "velocities":
            yield from _velocities(key, table)
    for name, sensor in profile.distances.items():
        columns = sensor.source.columns_said() if sensor.source is not None else None
        if columns is not None and sensor.reads not in columns:
            yield Problem(f"distances.{name}.reads", f"one of the columns {', '.join(columns)}", f'"{sensor.reads}"')


def _velocities(key: str, table: DriverTable) -> Iterator[Problem]:
    for unfit, given in (("controls", bool(table.controls)), ("alone", table.alone)):
        if given:
            yield Problem(f"{key}.{unfit}", 'nothing with sends = "velocities"', "something", "take it out")
    axes = VelocityCommand._fields
    columns = table.source.columns_said() if table.source is not None else None
    if table.source is not None and not table.source.sends_velocities:
        able = ", ".join(f'"{name}"' for name, options in SOURCES.all.items() if options.sends_velocities)
        yield Problem(f"{key}.source.kind", f"{able}, the kind that can send velocities", f'"{table.source.kind}"')
    elif columns is not None and not set(columns) & set(axes):
        yield Problem(f"{key}.source.columns", f"some of {', '.join(axes)}", ", ".join(columns))


def reach_of(table: DistanceTable) -> float:
    """Give from where on a sensor sees nothing, m."""
    return math.inf if table.reach is None else table.reach
