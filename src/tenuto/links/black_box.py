"""A black box: all received and sent bytes of ports and sockets, with their times, in an MCAP file.

A channel for each direction of each port: ``/raw/NAME/in`` and ``/raw/NAME/out``; a message has the bytes that came
together, its log time is that of the last byte, ns since 1970. The channel's metadata are the settings of the port:
``baud``, ``parity``, ``stop_bits``, and ``marked`` if the system marked damaged bytes (`tenuto.protocols.marks`). See
docs/formats.md.
"""

from __future__ import annotations

import threading
import time
import warnings
from collections.abc import Callable, Mapping
from contextlib import suppress
from pathlib import Path
from queue import Full, Queue
from typing import TYPE_CHECKING, NamedTuple

from tenuto.basics.closing import Closing
from tenuto.basics.errors import CutOffWarning, RecordingError, SinkError
from tenuto.basics.extras import how_to_get, needs
from tenuto.basics.text import shortened
from tenuto.clock import REAL, Clock
from tenuto.files import UnreadableError, check_there, mcap_records, open_to_write

if TYPE_CHECKING:
    from mcap.writer import Writer

# A function that takes bytes which were received or sent just now.
Tap = Callable[[bytes], None]
_FLUSH_SECONDS = 1.0
# The greatest number of messages that wait for a slow disk, and the longest wait for it at the end, s.
_MOST_WAITING, _PATIENCE = 10_000, 2.0
_START, _IN, _OUT = "/raw/", "/in", "/out"


class BlackBox(Closing):
    """Writes the bytes of ports and sockets in a thread of its own: a slow disk delays no port.

    The file of a killed process is readable.

    Attributes:
        problem: why it has stopped writing, such as a full disk; empty while it writes. This delays nothing else.

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
        self._waiting: Queue[tuple[int, int, bytes] | None] = Queue(_MOST_WAITING)
        try:
            self._file = open_to_write(path)
            self._writer: Writer = mcap.writer.Writer(self._file, use_chunking=False, enable_crcs=False)
            self._writer.start(profile="", library="tenuto")
        except OSError as error:
            raise SinkError(f"{path}: cannot write a black box there: {error.strerror or error}") from error
        self._clock, self._began = clock, time.time() - clock.now()
        self._thread = threading.Thread(target=self._write, name="black box", daemon=True)
        self._thread.start()

    def taps(self, name: str, settings: Mapping[str, str] | None = None) -> tuple[Tap, Tap]:
        """Return the functions for the received and the sent bytes of a port.

        Args:
            name, settings: of the port.
        """
        return self._tap(f"{_START}{name}{_IN}", settings or {}), self._tap(f"{_START}{name}{_OUT}", settings or {})

    def _tap(self, topic: str, settings: Mapping[str, str]) -> Tap:
        with self._lock:
            channel = self._writer.register_channel(topic, "", 0, dict(settings))

        def take(data: bytes) -> None:
            try:
                self._waiting.put_nowait((channel, int((self._began + self._clock.now()) * 1e9), data))
            except Full:
                self.problem = self.problem or f"{self._path}: the disk is too slow: bytes are missing in the black box"

        return take

    def _write(self) -> None:
        flushed = time.monotonic()
        while (item := self._waiting.get()) is not None:
            channel, at, data = item
            try:
                with self._lock:
                    self._writer.add_message(channel, log_time=at, data=data, publish_time=at)
                if time.monotonic() - flushed > _FLUSH_SECONDS:
                    self._file.flush()
                    check_there(self._file)
                    flushed = time.monotonic()
            except OSError as error:
                self._end(error)

    def _end(self, error: OSError) -> None:
        self.problem = self.problem or f"{self._path}: the black box ends here: {error.strerror or error}"

    def close(self) -> None:
        """Write the waiting messages, and finish the file; a failure is in `problem`."""
        if not self._thread.is_alive():
            return
        with suppress(Full):
            self._waiting.put(None, timeout=_PATIENCE)
        self._thread.join(_PATIENCE)
        if self._thread.is_alive():
            self.problem = self.problem or f"{self._path}: the disk hangs: the end of the black box is missing"
            return
        try:
            self._writer.finish()  # type: ignore[no-untyped-call]
            self._file.close()
        except OSError as error:
            self._end(error)


class Played(NamedTuple):
    """The received bytes of one port.

    Attributes:
        name, settings: of the port. pieces: s after the first one, and the bytes.
    """

    name: str
    settings: Mapping[str, str]
    pieces: tuple[tuple[float, bytes], ...]


def read_black_box(path: str | Path, name: str = "") -> Played:
    """Read the received bytes of a port.

    Args:
        path: a black box; one that was cut off is read up to its end. name: of the port; the only one if empty.

    Raises:
        RecordingError: it is not a black box, has no such port, or has more than one and no name is given.
    """
    needs("mcap")
    channels, found = dict[int, tuple[str, Mapping[str, str]]](), dict[int, list[tuple[int, bytes]]]()
    try:
        _collect(path, channels, found)
    except UnreadableError as error:
        raise RecordingError(f"{path}: {error}") from error
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
    path: str | Path, channels: dict[int, tuple[str, Mapping[str, str]]], found: dict[int, list[tuple[int, bytes]]]
) -> None:
    from mcap.records import Channel, Message

    for record in mcap_records(path):
        if record is None:
            text = f"{path} was cut off: it was read up to its last complete message"
            warnings.warn(text, CutOffWarning, stacklevel=2)
        elif isinstance(record, Channel) and record.topic.startswith(_START) and record.topic.endswith(_IN):
            channels[record.id] = record.topic[len(_START) : -len(_IN)], record.metadata
        elif isinstance(record, Message) and record.channel_id in channels:
            found.setdefault(record.channel_id, []).append((record.log_time, record.data))
