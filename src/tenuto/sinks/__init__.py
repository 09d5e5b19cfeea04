"""Sinks: logs, serial lines and simulated robots. Each gets the ticks, and a stop at the end."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Any

from tenuto.core.errors import SinkError
from tenuto.core.short_text import columns, parse_short_text, read_options
from tenuto.sinks.base import Sink

if TYPE_CHECKING:
    from tenuto.profile import Profile

__all__ = ["FORMS", "Sink", "open_sink", "open_sinks"]

FORMS = (
    "simulated", "log:FILE.csv|.jsonl|.parquet|.mcap", "serial:PORT[,baud=N][,rate=HZ][,answers=S]",
    "sbus|ibus:PORT[,rate=HZ][,channels=A|B]",
)  # fmt: skip


def open_sink(what: str) -> Sink:
    """Open a sink from a short text.

    Args:
        what: ``"simulated"`` for the simulated robot, ``"log:FILE.csv"`` for a row a tick (or ``.jsonl``,
            ``.parquet``, ``.mcap``), ``"serial:PORT"`` for the line of docs/protocols.md to a builder's own firmware,
            ``"sbus:PORT"`` or ``"ibus:PORT"`` for servo frames.

    Raises:
        SinkError: the text names no sink, the file cannot be written, or the port does not open.
    """
    parts = parse_short_text(what, SinkError)
    known = _OPTIONS.get(parts.kind)
    if known is None or bool(parts.place) != (parts.kind != "simulated"):
        raise SinkError(f'expected a sink, {"; ".join(FORMS)}; found "{what}"')
    return _open(parts.kind, parts.place, read_options(what, parts.options, known, SinkError))


def open_sinks(profile: Profile) -> list[Sink]:
    """Open the sinks of a profile. Raises as `open_sink`, with the name of the sink; those opened are closed then."""
    with ExitStack() as stack:
        opened = []
        for name, table in profile.sinks.items():
            try:
                opened.append(stack.enter_context(_open(table.kind, table.file or table.port or "", table.options())))
            except SinkError as error:
                raise SinkError(f"sinks.{name}: {error}") from error
        stack.pop_all()
    return opened


_OPTIONS: Mapping[str, Mapping[str, Callable[[str], object]]] = {
    "simulated": {},
    "log": {},
    "serial": {"baud": int, "rate": float, "answers": float},
    **{key: {"rate": float, "channels": columns} for key in ("sbus", "ibus")},
}


def _open(kind: str, place: str, options: Mapping[str, Any]) -> Sink:
    if kind == "log":
        return _open_log(place)
    if kind == "serial":
        from tenuto.sinks.serial_line import SerialLine

        return SerialLine(place, **options)
    if kind == "simulated":
        from tenuto.sinks.simulated import SimulatedSink

        return SimulatedSink()
    from tenuto.sinks.servo_frames import ServoFrames

    return ServoFrames(kind, place, **options)


def _open_log(path: str) -> Sink:
    from tenuto.sinks.log_file import CsvLog, JsonLinesLog, ParquetLog

    suffix = Path(path).suffix
    if suffix == ".mcap":
        from tenuto.sinks.mcap_log import McapLog

        return McapLog(path)
    forms = {".csv": CsvLog, ".jsonl": JsonLinesLog, ".parquet": ParquetLog}
    if suffix not in forms:
        raise SinkError(f'expected a sink, {"; ".join(FORMS)}; found "log:{path}"')
    log: Callable[[str], Sink] = forms[suffix]
    return log(path)
