"""Sinks: logs, serial lines and simulated robots. Each gets the ticks, and a stop at the end."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from tenuto.core.errors import SinkError
from tenuto.core.short_text import columns, parse_short_text, read_options
from tenuto.sinks.base import Sink

__all__ = ["FORMS", "Sink", "open_sink"]

FORMS = ("simulated", "log:FILE.csv|.jsonl|.parquet|.mcap", "serial:PORT[,baud=N][,rate=HZ][,answers=S]",
         "sbus|ibus:PORT[,rate=HZ][,channels=A|B]")  # fmt: skip
LOG_SUFFIXES = (".csv", ".jsonl", ".parquet", ".mcap")


def open_sink(what: str) -> Sink:
    """Open a sink from a short text.

    Args:
        what: ``"simulated"`` for the simulated robot, ``"log:FILE.csv"`` for a row a tick (or ``.jsonl``,
            ``.parquet``, ``.mcap``), or
            ``"serial:PORT"`` for the line of docs/protocols.md to a builder's own firmware, ``"sbus:PORT"`` or
            ``"ibus:PORT"`` for servo frames.

    Raises:
        SinkError: the text names no sink, the file cannot be written, or the port does not open.
    """
    parts = parse_short_text(what, SinkError)
    suffix = Path(parts.place).suffix
    if parts.kind == "log" and suffix in LOG_SUFFIXES:
        read_options(what, parts.options, {}, SinkError)
        return _open_log(parts.place, suffix)
    if parts.kind == "serial" and parts.place:
        from tenuto.sinks.serial_line import SerialLine

        known = {"baud": int, "rate": float, "answers": float}
        options: dict[str, Any] = read_options(what, parts.options, known, SinkError)
        return SerialLine(parts.place, **options)
    if parts.kind in ("sbus", "ibus") and parts.place:
        from tenuto.sinks.servo_frames import ServoFrames

        told: dict[str, Any] = read_options(what, parts.options, {"rate": float, "channels": columns}, SinkError)
        return ServoFrames(parts.kind, parts.place, **told)
    if what == "simulated":
        from tenuto.sinks.simulated import SimulatedSink

        return SimulatedSink()
    raise SinkError(f'expected a sink, {"; ".join(FORMS)}; found "{what}"')


def _open_log(path: str, suffix: str) -> Sink:
    if suffix == ".mcap":
        from tenuto.sinks.mcap_log import McapLog

        return McapLog(path)
    from tenuto.sinks.log_file import CsvLog, JsonLinesLog, ParquetLog

    if suffix == ".parquet":
        return ParquetLog(path)
    return CsvLog(path) if suffix == ".csv" else JsonLinesLog(path)
