"""Whether the other drivers and the sensors of distance fit the rest of a profile."""

from __future__ import annotations

from collections.abc import Iterator

from tenuto.basics.findings import Finding, unexpected
from tenuto.profile.drivers import DriverTable
from tenuto.profile.schema import Tables
from tenuto.sources.base import SOURCES
from tenuto.vehicles.velocity import VelocityCommand


def drivers_errors(profile: Tables) -> Iterator[Finding]:
    """List what is wrong with the other drivers and the sensors, but for what is wrong with their controls."""
    for name, table in profile.drivers.items():
        key = f"drivers.{name}"
        if name == profile.source.driver or name in profile.distances:
            yield unexpected(key, "a name that no other driver and no sensor has", f'"{name}"')
        if table.given_by is None and table.permit is None and not table.alone:
            hint = "without it nobody could ever give the robot to it"
            yield unexpected(f"{key}.given_by", DriverTable.model_fields["given_by"].description or "", "nothing", hint)
        if table.sends == "velocities":
            yield from _velocities(key, table)
    for name, sensor in profile.distances.items():
        columns = sensor.source.columns_said() if sensor.source is not None else None
        if columns is not None and sensor.reads not in columns:
            yield unexpected(f"distances.{name}.reads", f"one of the columns {', '.join(columns)}", f'"{sensor.reads}"')


def _velocities(key: str, table: DriverTable) -> Iterator[Finding]:
    for unfit, given in (("controls", bool(table.controls)), ("alone", table.alone)):
        if given:
            yield unexpected(f"{key}.{unfit}", 'nothing with sends = "velocities"', "something", "take it out")
    axes = VelocityCommand._fields
    columns = table.source.columns_said() if table.source is not None else None
    if table.source is not None and not table.source.sends_velocities:
        able = ", ".join(f'"{name}"' for name, options in SOURCES.all.items() if options.sends_velocities)
        yield unexpected(f"{key}.source.kind", f"{able}, the kind that can send velocities", f'"{table.source.kind}"')
    elif columns is not None and not set(columns) & set(axes):
        yield unexpected(f"{key}.source.columns", f"some of {', '.join(axes)}", ", ".join(columns))
