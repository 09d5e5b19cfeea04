"""Errors between the other drivers, the distance sensors, the inhibits and the rest of a profile."""

from __future__ import annotations

from collections.abc import Iterator

from tenuto.basics.findings import Finding, unexpected
from tenuto.profile.build import enable_stays, seen_by
from tenuto.profile.checks.names import unknown
from tenuto.profile.drivers import DriverTable, InputTable
from tenuto.profile.schema import Tables
from tenuto.sources.base import SOURCES
from tenuto.vehicles.velocity import VelocityCommand


def drivers_errors(profile: Tables) -> Iterator[Finding]:
    """List the errors of the other drivers, except for those of their controls."""
    for name, table in profile.drivers.items():
        key = f"drivers.{name}"
        if name == profile.source.driver or name in profile.inputs:
            yield unexpected(key, "a name that no other driver and no input has", f'"{name}"')
        if table.given_by is None and table.permit is None and not table.alone:
            hint = "without it, this driver could never be given the robot"
            yield unexpected(f"{key}.given_by", DriverTable.model_fields["given_by"].description or "", "nothing", hint)
        if table.sends == "velocities":
            yield from _velocities(key, table)
        else:
            yield from _enabling(profile, name)


def _enabling(profile: Tables, name: str) -> Iterator[Finding]:
    """Refuse an enabling switch that stays for one driver and springs back for another: the guard has one rule."""
    stays, first = enable_stays(seen_by(profile, name)), enable_stays(profile)
    if stays != first and None not in (stays, first):
        kinds = ("a push-button, which springs back", "a switch that keeps its position")
        hint = "set push_button for a column or a channel, or enable by the same kind of control on both devices"
        text = f"{kinds[bool(first)]}, as the first driver's guard.enable"
        yield unexpected(f"drivers.{name}.controls", text, kinds[bool(stays)], hint)


def inputs_errors(profile: Tables) -> Iterator[Finding]:
    """List the errors of the distance sensors, the inhibits and the measured speeds."""
    known = {profile.source.driver}
    for tables in ("distances", "inhibits", "measured"):
        inputs: dict[str, InputTable] = getattr(profile, tables)
        for name, table in inputs.items():
            yield from _read(profile, f"{tables}.{name}", table)
            if name in known:
                yield unexpected(f"{tables}.{name}", "a name that no driver and no other input has", f'"{name}"')
        known |= set(inputs)
    for name, inhibit in profile.inhibits.items():
        key = f"inhibits.{name}"
        if inhibit.speed_share is not None and inhibit.stop_category is not None:
            hint = "it stops the robot, or it lowers the speed"
            yield unexpected(f"{key}.speed_share", "nothing beside stop_category", f"{inhibit.speed_share:g}", hint)


def _read(profile: Tables, key: str, table: InputTable) -> Iterator[Finding]:
    """Return the errors of an input's source."""
    source = table.source
    if table.far_end is not None:
        yield from _far_end(profile, key, table)
        return
    if table.source_of is not None:
        inputs = profile.inputs
        known = [name for name, one in inputs.items() if one.source is not None]
        if table.source is not None:
            yield unexpected(f"{key}.source_of", "nothing beside source", f'"{table.source_of}"', "remove one")
        elif table.source_of not in known:
            yield unknown(f"{key}.source_of", "an input with a source", table.source_of, known)
            return
        else:
            source = inputs[table.source_of].source
    columns = source.columns_said() if source is not None else None
    if source is None and profile.source.control(table.reads) is None:
        hint = f"or say where it comes from: [{key}.source], or {key}.source_of"
        yield unexpected(f"{key}.reads", f"a control of a {profile.source.kind}", f'"{table.reads}"', hint)
    if columns is not None and table.reads not in columns:
        yield unexpected(f"{key}.reads", f"one of the columns {', '.join(columns)}", f'"{table.reads}"')


def _far_end(profile: Tables, key: str, table: InputTable) -> Iterator[Finding]:
    """Return the errors of an input from a far end."""
    for other in ("source", "source_of"):
        if getattr(table, other) is not None:
            yield unexpected(f"{key}.far_end", f"nothing beside {other}", f'"{table.far_end}"', "remove one")
    sink = profile.sinks.get(table.far_end or "")
    if sink is None:
        yield unknown(f"{key}.far_end", "a sink of the profile", table.far_end or "", profile.sinks)
    elif table.reads not in sink.numbers:
        said = ", ".join(sink.numbers) or "nothing"
        yield unexpected(
            f"{key}.reads", f"a number that the far end of {table.far_end} says: {said}", f'"{table.reads}"'
        )


def _velocities(key: str, table: DriverTable) -> Iterator[Finding]:
    for unfit, given in (("controls", bool(table.controls)), ("alone", table.alone)):
        if given:
            yield unexpected(f"{key}.{unfit}", 'nothing with sends = "velocities"', "something", "remove it")
    axes = VelocityCommand._fields
    columns = table.source.columns_said() if table.source is not None else None
    if table.source is not None and not table.source.sends_velocities:
        able = ", ".join(f'"{name}"' for name, options in SOURCES.all.items() if options.sends_velocities)
        yield unexpected(f"{key}.source.kind", f"{able}, the kind that can send velocities", f'"{table.source.kind}"')
    elif columns is not None and not set(columns) & set(axes):
        yield unexpected(f"{key}.source.columns", f"some of {', '.join(axes)}", ", ".join(columns))
