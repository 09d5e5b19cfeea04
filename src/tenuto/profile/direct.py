"""Controls with the device's own names: they need no ``reads``, and sticks of a style need no table."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import fields
from typing import Any

from tenuto.kinds.options import Role, about
from tenuto.sources.base import SOURCES
from tenuto.styles.base import STYLES, StyleOptions


def with_direct_controls(tables: dict[str, Any]) -> dict[str, Any]:
    """Return the tables of a profile, with a complete one under ``[controls]`` for each control of the device's name.

    These are the controls of styles, and tables without ``reads``. Such a stick has a dead zone by default.
    """
    source = tables.get("source")
    kind = source.get("kind") if isinstance(source, dict) else getattr(source, "kind", None)
    device = SOURCES.find(kind) if isinstance(kind, str) else None
    controls = tables.get("controls", {})
    if device is None or not isinstance(controls, dict):
        return tables
    found = dict(controls)
    without = [name for name, table in found.items() if isinstance(table, dict) and "reads" not in table]
    for name in (*without, *(name for name in _driving(tables) if name not in found)):
        info = device.control(name)
        if info is not None and info.travel is not None:
            usual = {"dead_zone": info.usual_dead_zone} if info.kind == "stick" and info.usual_dead_zone else {}
            found[name] = {"reads": name, **usual, **found.get(name, {})}
    return {**tables, "controls": found} if found else tables


def _driving(tables: dict[str, Any]) -> Iterator[str]:
    """List the controls of the styles of a profile and of its modes."""
    modes = tables.get("modes")
    more = modes.values() if isinstance(modes, dict) else ()
    for style in (tables.get("style"), *(mode.get("style") for mode in more if isinstance(mode, dict))):
        if isinstance(style, StyleOptions):
            yield from style.driving().values()
        elif isinstance(style, dict) and isinstance(style.get("kind"), str):
            options = STYLES.find(style["kind"])
            keys = [one.name for one in fields(options) if about(one).role is Role.DRIVES] if options else []
            for key in keys:
                said = style.get(key)
                yield from (
                    one for one in (said.values() if isinstance(said, dict) else (said,)) if isinstance(one, str)
                )
