"""Sinks: logs, serial lines, autopilots and simulated robots. Each gets the ticks, and a stop at the end."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Any

from tenuto.basics.errors import SinkError
from tenuto.basics.short_text import BROKER_KEYS, columns, parse_short_text, read_options
from tenuto.sinks.base import Sink

if TYPE_CHECKING:
    from tenuto.profile import Profile

__all__ = ["FORMS", "Sink", "open_sink", "open_sinks"]

FORMS = (
    "simulated", "log:FILE.csv|.jsonl|.parquet|.mcap", "serial:PORT[,baud=N][,rate=HZ][,answers=S]",
    "sbus|ibus:PORT[,rate=HZ][,channels=A|B]", "mavlink:HOST:PORT|:PORT|PORT[,rate=HZ][,sends=…][,key=FILE]",
    "mqtt:HOST[:PORT]/ROBOT[,rate=HZ][,user=NAME][,password_file=FILE][,ca=FILE]",
    "udp:HOST:PORT,key=FILE[,rate=HZ][,form=compact]",
)  # fmt: skip


def open_sink(what: str) -> Sink:
    """Open a sink from a short text.

    Args:
        what: ``"simulated"`` for the simulated robot, ``"log:FILE.csv"`` for a row a tick (or ``.jsonl``,
            ``.parquet``, ``.mcap``), ``"serial:PORT"`` for the line of docs/protocols.md to a builder's own firmware,
            ``"sbus:PORT"`` or ``"ibus:PORT"`` for servo frames, ``"mavlink:HOST:PORT"`` for an autopilot,
            ``"mqtt:HOST/ROBOT"`` or ``"udp:HOST:PORT,key=FILE"`` for a robot on another machine.

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
                opened.append(stack.enter_context(_open(table.kind, table.place, table.options())))
            except SinkError as error:
                raise SinkError(f"sinks.{name}: {error}") from error
        stack.pop_all()
    return opened


_OPTIONS: Mapping[str, Mapping[str, Callable[[str], object]]] = {
    "simulated": {},
    "log": {},
    "serial": {"baud": int, "rate": float, "answers": float},
    **{key: {"rate": float, "channels": columns} for key in ("sbus", "ibus")},
    "mavlink": {
        "baud": int,
        "rate": float,
        "sends": str,
        "channels": columns,
        "middle": int,
        "yaw": str,
        "key": str,
        **dict.fromkeys(("system", "component", "target_system", "target_component"), int),
    },
    "mqtt": {"rate": float, "driver": str, **dict.fromkeys(BROKER_KEYS, str)},
    "udp": {"rate": float, "driver": str, "key": str, "form": str},
}


def _open(kind: str, place: str, options: dict[str, Any]) -> Sink:
    if kind in ("sbus", "ibus"):
        from tenuto.sinks.servo_frames import ServoFrames

        return ServoFrames(kind, place, **options)
    return _OPENERS[kind](place, options)


def _open_simulated(place: str, options: dict[str, Any]) -> Sink:
    from tenuto.sinks.simulated import SimulatedSink

    return SimulatedSink()


def _open_serial(place: str, options: dict[str, Any]) -> Sink:
    from tenuto.sinks.serial_line import SerialLine

    return SerialLine(place, **options)


def _open_mavlink(place: str, options: dict[str, Any]) -> Sink:
    from tenuto.sinks.mavlink import AutopilotCommand, MavlinkSink

    commands = {name: AutopilotCommand(**said) for name, said in options.pop("commands", {}).items()}
    return MavlinkSink(place, commands=commands, **options)


def _open_mqtt(place: str, options: dict[str, Any]) -> Sink:
    from tenuto.links.broker import take_settings
    from tenuto.sinks.mqtt import MqttSink

    settings, robot = take_settings(place, options, SinkError)
    return MqttSink(robot, settings, **options)


def _open_udp(place: str, options: dict[str, Any]) -> Sink:
    from tenuto.sinks.udp import UdpSink

    if "key" not in options:
        raise SinkError(f"udp:{place}: needs a key file, for nobody else may drive: key=FILE; see tenuto key --help")
    return UdpSink(place, **options)


def _open_log(path: str, options: dict[str, Any]) -> Sink:
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


_OPENERS: Mapping[str, Callable[[str, dict[str, Any]], Sink]] = {
    "simulated": _open_simulated,
    "log": _open_log,
    "serial": _open_serial,
    "mavlink": _open_mavlink,
    "mqtt": _open_mqtt,
    "udp": _open_udp,
}
