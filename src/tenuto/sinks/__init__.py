"""Sinks: logs and simulated robots. Each gets every tick, and a stop at the end."""

from __future__ import annotations

from tenuto.core.errors import SinkError
from tenuto.sinks.base import Sink

__all__ = ["Sink", "open_sink"]

_FORMS = '"log:FILE.csv" or "simulated"'


def open_sink(what: str) -> Sink:
    """Open a sink from a short text.

    Args:
        what: ``"log:FILE.csv"`` for a row a tick, or ``"simulated"`` for the simulated robot.

    Raises:
        SinkError: the text names no sink, or the file cannot be written.
    """
    kind, _, place = what.partition(":")
    if kind == "log" and place.endswith(".csv"):
        from tenuto.sinks.csv_log import CsvLog

        return CsvLog(place)
    if what == "simulated":
        from tenuto.sinks.simulated import SimulatedSink

        return SimulatedSink()
    raise SinkError(f'expected a sink, {_FORMS}, found "{what}"')
