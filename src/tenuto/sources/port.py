"""A serial port that is read without waiting, and that may disappear and come back."""

from __future__ import annotations

import os
import select
import threading
from collections import deque
from collections.abc import Mapping
from typing import TYPE_CHECKING, NamedTuple

from tenuto.basics.errors import SourceError
from tenuto.clock import REAL, Timer
from tenuto.links.black_box import BlackBox, Tap, read_black_box
from tenuto.links.serial_ports import why_not
from tenuto.protocols.marks import Unmarker
from tenuto.protocols.uart import LineSettings
from tenuto.sources.base import Source

if TYPE_CHECKING:
    import serial

# The interval of attempts to open a lost port again, s.
_RETRY_SECONDS = 0.5
_AT_ONCE = 4096
# Bytes within this time are read together, s: a thousand readings a second are enough for every protocol.
_TOGETHER = 0.0005
# The greatest number of pieces that are kept until they are read.
_KEPT = 10_000


class Piece(NamedTuple):
    """Bytes that arrived together.

    Attributes:
        at: the arrival of the last of them, s, on the port's clock. data: the bytes.
        damaged: the positions in ``data`` of those with a wrong parity or without a stop bit.
        pause: how long the line was idle before the first of them, s; 0 if it is not known.
    """

    at: float
    data: bytes
    damaged: tuple[int, ...] = ()
    pause: float = 0.0

    @property
    def text(self) -> bytes:
        """The bytes, with zeros for damaged ones, which occur in no line of numbers."""
        if not self.damaged:
            return self.data
        data = bytearray(self.data)
        for place in self.damaged:
            data[place] = 0
        return bytes(data)


class Timing:
    """Detects by the times of pieces when the line was idle."""

    def __init__(self, byte_time: float) -> None:
        self._byte_time = byte_time
        self._before: float | None = None

    def piece(self, data: bytes, damaged: tuple[int, ...], at: float) -> list[Piece]:
        """Return a piece whose last byte arrived at a time, s; none if there are no bytes."""
        if not data:
            return []
        began = at - len(data) * self._byte_time
        pause = max(0.0, began - self._before) if self._before is not None else 0.0
        self._before = at
        return [Piece(at, data, damaged, pause)]


class PlayedPort:
    """A port of a black box: each piece comes at its time, counted from the first call of `pieces`.

    Attributes:
        problem, byte_time, line: as for `Port`.

    Raises:
        RecordingError: it cannot be read, or has no such port.
    """

    problem = ""

    def __init__(self, path: str, name: str, line: LineSettings, clock: Timer) -> None:
        self._played, self._clock = read_black_box(path, name), clock
        self.line = _set_as(self._played.settings, line)
        byte_time = self.byte_time = self.line.byte_time
        self._marks = Unmarker(marked=self._played.settings.get("marked") == "True")
        self._timing, self._next = Timing(byte_time), 0
        self._started: float | None = None

    @property
    def finished(self) -> bool:
        """Whether it is at its end."""
        return self._next == len(self._played.pieces)

    def pieces(self, now: float) -> list[Piece]:
        """Return the pieces that are due."""
        self._started = now if self._started is None else self._started
        found: list[Piece] = []
        while not self.finished and (at := self._played.pieces[self._next][0]) <= now - self._started:
            came = self._clock.now() - (now - self._started - at)
            found += self._timing.piece(*self._marks.feed(self._played.pieces[self._next][1]), came)
            self._next += 1
        return found

    def record_raw(self, box: BlackBox) -> None:
        """Do nothing: it is a recording already."""

    def close(self) -> None:
        """Do nothing: it is read."""


def _set_as(settings: Mapping[str, str], usual: LineSettings) -> LineSettings:
    """Return the settings of a recorded port, as far as its box has them."""
    try:
        return LineSettings(int(settings["baud"]), settings["parity"], int(settings["stop_bits"]))
    except (KeyError, ValueError):
        return usual


def open_port(name: str, baud: int, parity: str = "N", stop_bits: int = 1, clock: Timer = REAL) -> Port | PlayedPort:
    """Open a serial port, or a port of a black box: ``FILE.mcap``, or ``FILE.mcap@PORT`` if it has several.

    Raises:
        SourceError, RecordingError: it cannot be opened.
    """
    path, _, port = name.partition(".mcap@")
    if port or name.endswith(".mcap"):
        line = LineSettings(baud, parity, stop_bits)
        return PlayedPort(f"{path}.mcap" if port else name, port, line, clock)
    return Port(name, baud, parity, stop_bits, clock)


class Port:
    """A serial port for this program alone.

    In real time a thread reads it, so that each piece has its time of arrival, and pauses of the line are seen.
    In simulated time it is read by `pieces`.

    Raises:
        SourceError: it cannot be opened; the message names the port.

    Attributes:
        problem: why it cannot be read now; empty while it can.
        byte_time: the duration of one byte on the line, s. line: the settings of the port.
        finished: no more bytes will come.
        tap: gets all bytes as the system delivers them; None for no tap.
    """

    finished = False

    def __init__(self, name: str, baud: int, parity: str = "N", stop_bits: int = 1, clock: Timer = REAL) -> None:
        self.name = name
        self.problem = ""
        self.line = LineSettings(baud, parity, stop_bits)
        self.byte_time = self.line.byte_time
        self._baud, self._parity, self._stop_bits, self._clock = baud, parity, stop_bits, clock
        self._retry = 0.0
        self._serial: serial.Serial | None = None
        self._marks = Unmarker()
        self._timing = Timing(self.byte_time)
        self._pieces: deque[Piece] = deque(maxlen=_KEPT)
        self._thread: threading.Thread | None = None
        self._over = threading.Event()
        self.tap: Tap | None = None
        self._open()
        if self._serial is None:
            raise SourceError(f"{self.problem}; tenuto devices lists the ports that are there")

    def _open(self) -> None:
        import serial

        try:
            self._serial = serial.Serial(
                self.name, self._baud, parity=self._parity, stopbits=self._stop_bits, timeout=0, exclusive=True
            )
        except (OSError, ValueError) as error:
            self.problem = f"{self.name} cannot be opened: {why_not(self.name, error)}"
            return
        self.problem, self._timing = "", Timing(self.byte_time)
        self._marks = Unmarker(marked=_mark_damage(self._serial.fileno()))
        if self._clock is REAL and os.name == "posix":
            self._over = threading.Event()
            self._thread = threading.Thread(
                target=self._listen, args=(self._serial, self._over), name=f"port {self.name}", daemon=True
            )
            self._thread.start()

    def _listen(self, port: serial.Serial, over: threading.Event) -> None:
        """Read bytes as soon as they arrive."""
        try:
            number = port.fileno()
            while not over.is_set():
                if select.select([number], [], [], 0.1)[0]:
                    over.wait(_TOGETHER)
                    data = os.read(number, _AT_ONCE)
                    if not data:
                        raise OSError(0, "it is at its end")
                    self._keep(data, self._clock.now())
        except (OSError, ValueError, TypeError) as error:
            if not over.is_set():
                self.problem = f"{self.name} is gone: {getattr(error, 'strerror', None) or error}"

    def record_raw(self, box: BlackBox) -> None:
        """Send all bytes to a black box from now on."""
        settings = {"baud": f"{self._baud}", "parity": self._parity, "stop_bits": f"{self._stop_bits}"}
        self.tap, _ = box.taps(self.name, settings | {"marked": f"{self._marks.marked}"})

    def _keep(self, raw: bytes, at: float) -> None:
        if self.tap is not None:
            self.tap(raw)
        self._pieces.extend(self._timing.piece(*self._marks.feed(raw), at))

    def pieces(self, now: float) -> list[Piece]:
        """Return the pieces since the last call; try to open a lost port again from time to time.

        Args:
            now: s, always on the same clock.
        """
        if self.problem and self._serial is not None:
            self.close()
            self._retry = now
            return []
        if self._serial is None:
            if now < self._retry:
                return []
            self._retry = now + _RETRY_SECONDS
            self._open()
        if self._thread is None and self._serial is not None:
            self._read_now()
        return [self._pieces.popleft() for _ in range(len(self._pieces))]

    def _read_now(self) -> None:
        assert self._serial is not None
        try:
            data = bytes(self._serial.read(max(1, self._serial.in_waiting)))
        except OSError as error:
            self.problem = f"{self.name} is gone: {error.strerror or error}"
            return
        if data:
            self._keep(data, self._clock.now())

    def close(self) -> None:
        """Close the port."""
        self._over.set()
        if self._thread is not None and self._thread is not threading.current_thread():
            self._thread.join(1.0)
            self._thread = None
        if self._serial is not None:
            self._serial.close()
            self._serial = None


def _mark_damage(number: int) -> bool:
    """Make the system mark bytes with a wrong parity or without a stop bit; return whether it does."""
    try:
        import termios

        settings = termios.tcgetattr(number)
        settings[0] = (settings[0] | termios.INPCK | termios.PARMRK) & ~(termios.IGNPAR | termios.ISTRIP)
        termios.tcsetattr(number, termios.TCSANOW, settings)
    except (ImportError, OSError, ValueError):
        return False
    return True


class PortSource(Source):
    """The base class of sources on a serial port, or on a port of a black box."""

    _port: Port | PlayedPort

    @property
    def finished(self) -> bool:
        """Whether a black box is at its end."""
        return self._port.finished

    def record_raw(self, box: BlackBox) -> bool:
        """Send the bytes of the port to a black box."""
        self._port.record_raw(box)
        return True

    def close(self) -> None:
        """Close the port."""
        self._port.close()
