"""A black box: the bytes of ports and sockets, with their times, as they came and went, in an MCAP file.

A channel for each direction of each port: ``/raw/NAME/in`` and ``/raw/NAME/out``; a message is what came together, its
log time that of its last byte, ns since 1970. The channel's metadata say how the port was set: ``baud``, ``parity``,
``stop_bits``, and ``marked`` where the system marked damaged bytes (`tenuto.protocols.marks`). See docs/formats.md.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from tenuto.basics.closing import Closing
from tenuto.basics.errors import RecordingError, SinkError
from tenuto.basics.extras import how_to_get, needs
from tenuto.basics.text import shortened
from tenuto.clock import REAL, Clock
from tenuto.files import UnreadableError, read_bytes

if TYPE_CHECKING:
    from mcap.writer import Writer

# What is handed bytes that came or went just now.
Tap = Callable[[bytes], None]
_FLUSH_SECONDS = 1.0
_START, _IN, _OUT = "/raw/", "/in", "/out"


class BlackBox(Closing):
    """Writes what ports and sockets hand over, from any thread. What a killed process leaves is readable.

    Attributes:
        problem: why it writes no more, such as a full disk; empty while it does. Nothing else is held up by that.

    Raises:
        SinkError: the file cannot be written, or mcap is not installed.
    """

    def __init__(self, path: str | Path, clock: Clock = REAL) -> None:
        try:
            import mcap.writer
        except ImportError as error:
            raise SinkError(how_to_get("mcap")) from error
        if Path(path).suffix != ".mcap":
            raise SinkError(f"{path}: expected a black box that ends in .mcap")
        self._path, self.problem = path, ""
        self._lock = threading.Lock()
        try:
            self._file = open(path, "wb")  # noqa: SIM115  # see close()
            self._writer: Writer = mcap.writer.Writer(self._file, use_chunking=False, enable_crcs=False)
            self._writer.start(profile="", library="tenuto")
        except OSError as error:
            raise SinkError(f"{path}: cannot write a black box there: {error.strerror or error}") from error
        self._clock, self._began = clock, time.time() - clock.now()
        self._flushed = 0.0

    def taps(self, name: str, settings: Mapping[str, str] | None = None) -> tuple[Tap, Tap]:
        """Return what takes the bytes that come in at a port, and those that go out.

        Args:
            name: of the port. settings: how it is set.
        """
        return self._tap(f"{_START}{name}{_IN}", settings or {}), self._tap(f"{_START}{name}{_OUT}", settings or {})

    def _tap(self, topic: str, settings: Mapping[str, str]) -> Tap:
        with self._lock:
            channel = self._writer.register_channel(topic, "", 0, dict(settings))

        def take(data: bytes) -> None:
            now = self._clock.now()
            at = int((self._began + now) * 1e9)
            with self._lock:
                if self.problem or self._file.closed:
                    return
                try:
                    self._writer.add_message(channel, log_time=at, data=data, publish_time=at)
                    if now - self._flushed > _FLUSH_SECONDS:
                        self._file.flush()
                        self._flushed = now
                except OSError as error:
                    self.problem = f"{self._path}: the black box ends here: {error.strerror or error}"

        return take

    def close(self) -> None:
        """Finish the file; what hinders that stands in `problem`."""
        with self._lock:
            try:
                if not self.problem and not self._file.closed:
                    self._writer.finish()  # type: ignore[no-untyped-call]
                self._file.close()
            except OSError as error:
                self.problem = self.problem or f"{self._path}: the black box ends here: {error.strerror or error}"


class Played(NamedTuple):
    """What came in at one port.

    Attributes:
        name: of the port. settings: how it was set. pieces: s after the first one, and the bytes.
    """

    name: str
    settings: Mapping[str, str]
    pieces: tuple[tuple[float, bytes], ...]


def read_black_box(path: str | Path, name: str = "") -> Played:
    """Read what came in at a port.

    Args:
        path: a black box; one that was cut off is read as far as it goes. name: of the port; the only one if empty.

    Raises:
        RecordingError: it is none, has no such port, or more than one and no name is given.
    """
    needs("mcap")
    channels, found = dict[int, tuple[str, Mapping[str, str]]](), dict[int, list[tuple[int, bytes]]]()
    try:
        _collect(BytesIO(read_bytes(path)), channels, found)
    except UnreadableError as error:
        raise RecordingError(f"{path}: {error}") from error
    except Exception as error:  # the library raises whatever its parts raise
        if not channels:
            raise RecordingError(f"{path}: cannot be read as MCAP: {error or type(error).__name__}") from error
    names = {known: number for number, (known, _) in channels.items() if found.get(number)}
    if name and name not in names:
        raise RecordingError(f"{path}: no bytes came in at {shortened(name)}; there are {', '.join(names) or 'none'}")
    if not name and len(names) != 1:
        have = f"{path}@{' or @'.join(names)}" if names else "none in it"
        raise RecordingError(f"{path}: expected a black box with the bytes of one port; say which: {have}")
    number = names[name or next(iter(names))]
    first = found[number][0][0]
    pieces = tuple((max(0.0, (at - first) * 1e-9), data) for at, data in found[number])
    return Played(*channels[number], pieces)


def _collect(
    file: BytesIO, channels: dict[int, tuple[str, Mapping[str, str]]], found: dict[int, list[tuple[int, bytes]]]
) -> None:
    from mcap.records import Channel, Message
    from mcap.stream_reader import StreamReader

    for record in StreamReader(file, record_size_limit=len(file.getbuffer()) + 1).records:
        if isinstance(record, Channel) and record.topic.startswith(_START) and record.topic.endswith(_IN):
            channels[record.id] = record.topic[len(_START) : -len(_IN)], record.metadata
        elif isinstance(record, Message) and record.channel_id in channels:
            found.setdefault(record.channel_id, []).append((record.log_time, record.data))
