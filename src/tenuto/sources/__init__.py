"""Sources: gamepads, receivers, keyboards, text lines and recordings, all as one stream of frames."""

from __future__ import annotations

import math
from collections.abc import Mapping
from pathlib import Path
from typing import Any, Protocol

from tenuto.basics.errors import SourceError, TenutoError
from tenuto.basics.frame import LinkCounts
from tenuto.basics.layouts import ControlInfo
from tenuto.clock import REAL, Timer
from tenuto.kinds.texts import form_of, read_text
from tenuto.sources.base import SOURCES, Source, SourceOptions

__all__ = ["LinkCounts", "Source", "forms", "known_infos", "open_others", "open_source", "source_options"]


class HasSource(Protocol):
    """Anything with a source, such as a profile."""

    @property
    def source(self) -> SourceOptions:
        """That of the first in rank."""
        ...

    @property
    def drivers(self) -> Mapping[str, Any]:
        """The other drivers, by their names; each has a ``source``, or None."""
        ...

    @property
    def inputs(self) -> Mapping[str, Any]:
        """The inputs, by name: sensors, inhibits, measured speeds; each has a ``source``, or None."""
        ...


def forms() -> list[str]:
    """List the forms of the short texts of all kinds."""
    return [form_of(options) for options in SOURCES.all.values()]


def known_infos(source: Source) -> tuple[ControlInfo, ...]:
    """Describe a recording's controls by the usual names of devices; unknown names have an unknown range."""
    usual = {info.name: info for options in SOURCES.all.values() for info in options.layout}
    return tuple(
        usual.get(info.name)
        or SOURCES.all["gamepad"].control(info.name)
        or ControlInfo(info.name, -math.inf, math.inf, info.rest)
        for info in source.controls()
    )


def source_options(what: str | Path | HasSource) -> SourceOptions:
    """Read the settings of a source from a profile, a short text or the path of a recording. Raises `SourceError`."""
    if not isinstance(what, (str, Path)):
        return what.source
    text = str(what)
    if ":" not in text and text.endswith((".csv", ".parquet")):
        text = f"recording:{text}"
    return read_text(text, SOURCES, SourceError)


def open_source(what: str | Path | HasSource, *, clock: Timer = REAL) -> Source:
    """Open a source from a profile, from a short text, or from the path of a recording.

    Args:
        what: a profile (its ``[source]`` is opened), a path that ends in ``.csv`` or ``.parquet``, or one of
            the short texts of docs/sources.md, such as ``"gamepad"`` or ``"sbus:/dev/ttyAMA0"``.
        clock: of simulated devices, and of a wait while a port is opened; by default the real one.

    Raises:
        SourceError: the text names no source, or the device is missing.
        RecordingError: the recording cannot be read.
    """
    return source_options(what).open(clock)


def open_others(
    profile: HasSource, instead: Mapping[str, str] | None = None, *, clock: Timer = REAL
) -> dict[str, Source]:
    """Open the sources of a profile's other drivers, sensors, inhibits and measured speeds, by their names.

    Args:
        profile: its ``[drivers]`` and inputs are used.
        instead: name → another source, as a text for `open_source`. clock: see there.

    Raises:
        SourceError: one cannot be opened, has no source in the profile, or is unknown; those already open are closed.
    """
    instead = instead or {}
    tables: dict[str, SourceOptions | None] = {name: table.source for name, table in profile.drivers.items()}
    tables |= {name: table.source for name, table in profile.inputs.items() if table.source is not None}
    # The values of a far end may come from another source instead, such as a recording.
    tables |= {name: None for name, table in profile.inputs.items() if table.far_end is not None and name in instead}
    for name in instead:
        if name not in tables:
            known = ", ".join(tables) or "none"
            raise SourceError(f"the profile has no driver, sensor or inhibit {name} with a source; it has {known}")
    opened: dict[str, Source] = {}
    for name, table in tables.items():
        try:
            options = source_options(instead[name]) if name in instead else table
            if options is None:
                raise SourceError("it has no source: add one to the profile, or say which to use")
            opened[name] = options.open(clock)
        except TenutoError as error:
            for source in opened.values():
                source.close()
            raise SourceError(f"{name}: {error}") from error
    return opened
