"""Sources: gamepads, receivers, keyboards, text lines and recordings, all as one stream of frames."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from tenuto.basics.errors import SourceError, TenutoError
from tenuto.basics.frame import LinkCounts
from tenuto.basics.short_text import BROKER_KEYS
from tenuto.clock import REAL, Timer
from tenuto.sources.base import Source
from tenuto.sources.text import SourceText, columns, parse_source, read_options

if TYPE_CHECKING:
    from tenuto.profile import Profile
    from tenuto.profile.drivers import SourceTable

__all__ = ["LinkCounts", "Source", "open_others", "open_source"]

FORMS = (
    "gamepad[:IDENTITY]", "sbus:PORT", "crsf:PORT", "ibus:PORT", "lines:PORT[,baud=N][,columns=A|B]",
    "tilt:PORT[,baud=N][,columns=ax|ay|az|gx|gy]", "keyboard", "ppm:FILE.csv", "pwm:FILE.csv",
    "recording:FILE[,speed=X][,start=S][,end=S]", "simulated:sticks", "simulated:gamepad[,recording=FILE]",
    "simulated:sbus|crsf|ibus|lines[,drop=P][,flip=P][,lost=P][,burst=N]",
    "mqtt:HOST[:PORT]/ROBOT[,user=NAME][,password_file=FILE][,ca=FILE]", "udp:HOST:PORT|:PORT,key=FILE",
)  # fmt: skip


def open_source(what: str | Path | Profile, *, clock: Timer = REAL) -> Source:
    """Open a source from a profile, from a short text, or from the path of a recording.

    Args:
        what: a profile (its ``[source]`` is opened), a path that ends in ``.csv`` or ``.parquet``, or one of
            the short texts of docs/sources.md, such as ``"gamepad"`` or ``"sbus:/dev/ttyAMA0"``.
        clock: what a simulated device sends by, and a wait while a port is opened; the real one if not given.

    Raises:
        SourceError: the text names no source, or the device is not there.
        RecordingError: the recording cannot be read.
    """
    if not isinstance(what, (str, Path)):
        return _open_table(what.source, "[source]", clock)
    text = str(what)
    if ":" not in text and text.endswith((".csv", ".parquet")):
        text = f"recording:{text}"
    parts = parse_source(text)
    opener = _OPENERS.get(parts.kind)
    if opener is None or bool(parts.place) < (parts.kind not in _WITHOUT_PLACE):
        raise SourceError(f'expected a source: {"; ".join(FORMS)}; found "{text}"')
    return opener(parts, text, clock)


def open_others(
    profile: Profile, instead: Mapping[str, str] | None = None, *, clock: Timer = REAL
) -> dict[str, Source]:
    """Open the sources of a profile's other drivers and sensors of distance, by their names.

    Args:
        profile: its ``[drivers]`` and ``[distances]`` tables are looked at.
        instead: name → another source, as a text for `open_source`. clock: see there.

    Raises:
        SourceError: one cannot be opened, has none in the profile, or has no such name; those opened are closed.
    """
    instead = instead or {}
    tables = {name: table.source for name, table in profile.drivers.items()}
    tables |= {name: table.source for name, table in profile.distances.items() if table.source is not None}
    for name in instead:
        if name not in tables:
            known = ", ".join(tables) or "none of either"
            raise SourceError(f"the profile has no driver and no sensor {name} with a source; it has {known}")
    opened: dict[str, Source] = {}
    for name, table in tables.items():
        try:
            if name in instead:
                opened[name] = open_source(instead[name], clock=clock)
            elif table is not None:
                opened[name] = _open_table(table, f"[drivers.{name}.source]", clock)
            else:
                raise SourceError("it has no source: add one to the profile, or say which to use")
        except TenutoError as error:
            for source in opened.values():
                source.close()
            raise SourceError(f"{name}: {error}") from error
    return opened


def _open_table(table: SourceTable, where: str, clock: Timer) -> Source:
    place = table.device or table.port or table.file or ""
    options = {"baud": str(table.baud)} if table.baud else {}
    if table.columns:
        options["columns"] = "|".join(table.columns)
    return _OPENERS[table.kind](SourceText(table.kind, place, options), where, clock)


def _gamepad(parts: SourceText, text: str, clock: Timer) -> Source:
    from tenuto.sources.gamepad import Gamepad

    read_options(text, parts.options, {})
    return Gamepad(parts.place or None)


def _receiver(parts: SourceText, text: str, clock: Timer) -> Source:
    from tenuto.sources.receiver import Receiver

    read_options(text, parts.options, {})
    return Receiver(parts.kind, parts.place)


def _lines(parts: SourceText, text: str, clock: Timer) -> Source:
    from tenuto.sources.lines import Lines, Tilt

    options: dict[str, Any] = read_options(text, parts.options, {"baud": int, "columns": columns})
    return (Tilt if parts.kind == "tilt" else Lines)(parts.place, clock=clock, **options)


def _keyboard(parts: SourceText, text: str, clock: Timer) -> Source:
    from tenuto.sources.keyboard import Keyboard

    read_options(text, parts.options, {})
    return Keyboard()


def _edges(parts: SourceText, text: str, clock: Timer) -> Source:
    from tenuto.sources.edges import EdgeFile

    read_options(text, parts.options, {})
    return EdgeFile(parts.kind, parts.place)


def _recording(parts: SourceText, text: str, clock: Timer) -> Source:
    from tenuto.sources.recording import Recording

    options: dict[str, Any] = read_options(text, parts.options, {"speed": float, "start": float, "end": float})
    return Recording(parts.place, **options)


def _simulated(parts: SourceText, text: str, clock: Timer) -> Source:
    from tenuto.sim.sources import open_simulated

    return open_simulated(parts, text, clock)


def _mqtt(parts: SourceText, text: str, clock: Timer) -> Source:
    from tenuto.links.broker import take_settings
    from tenuto.sources.mqtt import MqttSource

    options: dict[str, Any] = read_options(text, parts.options, dict.fromkeys(BROKER_KEYS, str))
    settings, robot = take_settings(parts.place, options, SourceError)
    return MqttSource(robot, settings)


def _udp(parts: SourceText, text: str, clock: Timer) -> Source:
    from tenuto.sources.udp import UdpSource

    options: dict[str, Any] = read_options(text, parts.options, {"key": str})
    if "key" not in options:
        raise SourceError(f"{text}: needs a key file, for nobody else may drive: key=FILE; see tenuto key --help")
    return UdpSource(parts.place, **options)


_OPENERS: dict[str, Callable[[SourceText, str, Timer], Source]] = {
    "gamepad": _gamepad,
    **dict.fromkeys(("sbus", "crsf", "ibus"), _receiver),
    **dict.fromkeys(("lines", "tilt"), _lines),
    "keyboard": _keyboard,
    **dict.fromkeys(("ppm", "pwm"), _edges),
    "recording": _recording,
    "simulated": _simulated,
    "mqtt": _mqtt,
    "udp": _udp,
}
_WITHOUT_PLACE = ("gamepad", "keyboard")
