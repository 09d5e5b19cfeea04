"""Sinks: logs, serial lines and simulated robots. Each gets the ticks, and a stop at the end."""

from __future__ import annotations

from typing import Any

from tenuto.core.errors import SinkError
from tenuto.core.short_text import parse_short_text, read_options
from tenuto.sinks.base import Sink

__all__ = ["FORMS", "Sink", "open_sink"]

FORMS = ("simulated", "log:FILE.csv", "serial:PORT[,baud=N][,rate=HZ][,answers=S]")


def open_sink(what: str) -> Sink:
    """Open a sink from a short text.

    Args:
        what: ``"simulated"`` for the simulated robot, ``"log:FILE.csv"`` for a row a tick, or
            ``"serial:PORT"`` for the line of docs/protocols.md to a builder's own firmware.

    Raises:
        SinkError: the text names no sink, the file cannot be written, or the port does not open.
    """
    parts = parse_short_text(what, SinkError)
    if parts.kind == "log" and parts.place.endswith(".csv"):
        from tenuto.sinks.csv_log import CsvLog

        read_options(what, parts.options, {}, SinkError)
        return CsvLog(parts.place)
    if parts.kind == "serial" and parts.place:
        from tenuto.sinks.serial_line import SerialLine

        known = {"baud": int, "rate": float, "answers": float}
        options: dict[str, Any] = read_options(what, parts.options, known, SinkError)
        return SerialLine(parts.place, **options)
    if what == "simulated":
        from tenuto.sinks.simulated import SimulatedSink

        return SimulatedSink()
    raise SinkError(f'expected a sink, {"; ".join(FORMS)}; found "{what}"')
