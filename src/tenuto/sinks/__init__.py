"""Sinks: logs, serial lines, autopilots and simulated robots. Each gets the ticks, and a stop at the end."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import ExitStack
from dataclasses import fields, replace
from typing import Protocol

from tenuto.basics.errors import SinkError
from tenuto.kinds.options import about
from tenuto.kinds.texts import form_of, read_text
from tenuto.sinks.base import SINKS, Sink, SinkOptions

__all__ = ["Sink", "forms", "open_as_said", "open_sink", "open_sinks"]


class HasSinks(Protocol):
    """Anything with sinks, such as a profile."""

    @property
    def sinks(self) -> Mapping[str, SinkOptions]:
        """By their names."""
        ...


def forms() -> list[str]:
    """List the forms of the short texts of all kinds."""
    return [form_of(options) for options in SINKS.all.values()]


def open_sink(what: str) -> Sink:
    """Open a sink from a short text.

    Args:
        what: ``"simulated"`` for the simulated robot, ``"log:FILE.csv"`` for one row per tick (or ``.jsonl``,
            ``.parquet``, ``.mcap``), ``"serial:PORT"`` for the velocity line of docs/protocols.md to your own firmware,
            ``"sbus:PORT"``, ``"crsf:PORT"`` or ``"ibus:PORT"`` for servo frames, ``"mavlink:HOST:PORT"`` for an
            autopilot, ``"mqtt:HOST/ROBOT"`` or ``"udp:HOST:PORT,key=FILE"`` for a robot on another machine.

    Raises:
        SinkError: the text names no sink, the file cannot be written, or the port does not open.
    """
    options = read_text(what, SINKS, SinkError)
    opened = options.open()
    opened.label = options.kind
    return opened


def open_as_said(texts: Sequence[str], profile: HasSinks) -> list[Sink]:
    """Open sinks from short texts, for a profile. Raises as `open_sink`, and closes those already open.

    Settings that a short text cannot have, such as the commands of an autopilot or a template of a line, are taken from
    the profile's sink of that kind, if it has one.
    """
    with ExitStack() as stack:
        opened = []
        for text in texts:
            options = read_text(text, SINKS, SinkError)
            alike = [one for one in profile.sinks.values() if one.kind == options.kind]
            if len(alike) == 1:
                unsaid = [one.name for one in fields(options) if not about(one).word]
                kept = {name: getattr(alike[0], name) for name in unsaid if name not in ("address", "port")}
                options = replace(options, **kept)
            opened.append(stack.enter_context(options.open()))
            opened[-1].label = options.kind
        stack.pop_all()
    return opened


def open_sinks(profile: HasSinks) -> list[Sink]:
    """Open the sinks of a profile. Raises as `open_sink`, with the name of the sink, and closes those already open."""
    with ExitStack() as stack:
        opened = []
        for name, options in profile.sinks.items():
            try:
                opened.append(stack.enter_context(options.open()))
                opened[-1].label = name
            except SinkError as error:
                raise SinkError(f"sinks.{name}: {error}") from error
        stack.pop_all()
    return opened
