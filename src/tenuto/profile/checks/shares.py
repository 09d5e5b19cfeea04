"""Checks of a vehicle without measures: settings in metres are refused."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import fields

from tenuto.basics.findings import Finding, unexpected
from tenuto.kinds.options import about
from tenuto.kinds.quantities import LENGTH, SPEED
from tenuto.profile.build import styles_of
from tenuto.profile.schema import Tables
from tenuto.styles.base import StyleOptions

_NOTHING = "nothing with a vehicle without measures"
_MEASURE = "measure the vehicle, and set its dimensions in [chassis]"


def no_metres_errors(profile: Tables) -> Iterator[Finding]:
    """Refuse settings in metres or m/s for a vehicle without measures."""
    if not profile.chassis.in_shares:
        return
    yield from _inputs(profile)
    for name, driver in profile.drivers.items():
        if driver.sends == "velocities":
            yield unexpected(f"drivers.{name}.sends", f'"sticks": {_NOTHING[8:]} m/s mean nothing', '"velocities"')
    for name, sink in profile.sinks.items():
        if sink.in_metres:
            hint = f"{_MEASURE}; or {sink.without_metres}" if sink.without_metres else _MEASURE
            yield unexpected(f"sinks.{name}", _NOTHING, f"a {sink.kind}, which sends m/s", hint)
    for place, style in styles_of(profile):
        for key, value in said_in_metres(style):
            yield unexpected(f"{place}.{key}", _NOTHING, f"{value:g}", _MEASURE)


def said_in_metres(style: StyleOptions) -> Iterator[tuple[str, float]]:
    """List the given options of a style that are in metres: key and value."""
    for one in fields(style):
        value = getattr(style, one.name)
        if about(one).dimension in (LENGTH, SPEED) and value != one.default:
            yield one.name, value


def _inputs(profile: Tables) -> Iterator[Finding]:
    for name in profile.distances:
        hint = f"{_MEASURE}, or take a switch of distance as an inhibit, which needs no metres"
        yield unexpected(f"distances.{name}", _NOTHING, "a distance in m", hint)
    for name in profile.measured:
        yield unexpected(f"measured.{name}", _NOTHING, "a measured speed", _MEASURE)
