"""A serial port that is read without waiting, and that may go away and come back."""

from __future__ import annotations

import os
import select
import threading
from collections import deque
from typing import TYPE_CHECKING, NamedTuple

from tenuto.basics.errors import SourceError
from tenuto.clock import REAL, Timer
from tenuto.protocols.marks import Unmarker

if TYPE_CHECKING:
    import serial

# How often a port that has gone is tried again, s.
_RETRY_SECONDS = 0.5
_AT_ONCE = 4096
# What comes within so long is read together, s: a thousand readings a second are enough for every protocol.
_TOGETHER = 0.0005
# What nobody has asked for is kept up to so many pieces.
_KEPT = 10_000


class Piece(NamedTuple):
    """Bytes that came together.

    Attributes:
        at: when the last of them came, s, on the port's clock. data: the bytes.
        damaged: the places in ``data`` of those that came with a wrong parity or without a stop bit.
        pause: how long the line was idle before the first of them, s; 0 where that is not known.
    """

    at: float
    data: bytes
    damaged: tuple[int, ...] = ()
    pause: float = 0.0

    @property
    def text(self) -> bytes:
        """The bytes, with zeros for those that came damaged: no line of numbers has them."""
        if not self.damaged:
            return self.data
        data = bytearray(self.data)
        for place in self.damaged:
            data[place] = 0
        return bytes(data)


class Port:
    """A serial port, opened for this program alone.

    In real time a thread reads it, so that each piece has the time at which it came, and pauses of the line are seen.
    In simulated time it is read when it is asked.

    Raises:
        SourceError: it cannot be opened; the message names the port.

    Attributes:
        problem: why it cannot be read just now; empty while it can.
        byte_time: how long one byte is on the line, s.
    """

    def __init__(self, name: str, baud: int, parity: str = "N", stop_bits: int = 1, clock: Timer = REAL) -> None:
        self.name = name
        self.problem = ""
        self.byte_time = (1 + 8 + (parity != "N") + stop_bits) / baud
        self._baud, self._parity, self._stop_bits, self._clock = baud, parity, stop_bits, clock
        self._retry = 0.0
        self._serial: serial.Serial | None = None
        self._marks = Unmarker()
        self._before: float | None = None
        self._pieces: deque[Piece] = deque(maxlen=_KEPT)
        self._thread: threading.Thread | None = None
        self._over = threading.Event()
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
            self.problem = f"{self.name} does not open: {_why(self.name, error)}"
            return
        self.problem, self._before = "", None
        self._marks = Unmarker(marked=_mark_damage(self._serial.fileno()))
        if self._clock is REAL and os.name == "posix":
            self._over = threading.Event()
            self._thread = threading.Thread(
                target=self._listen, args=(self._serial, self._over), name=f"port {self.name}", daemon=True
            )
            self._thread.start()

    def _listen(self, port: serial.Serial, over: threading.Event) -> None:
        """Read whatever comes, at the moment in which it comes."""
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

    def _keep(self, raw: bytes, at: float) -> None:
        data, damaged = self._marks.feed(raw)
        if not data:
            return
        began = at - len(data) * self.byte_time
        pause = max(0.0, began - self._before) if self._before is not None else 0.0
        self._before = at
        self._pieces.append(Piece(at, data, damaged, pause))

    def pieces(self, now: float) -> list[Piece]:
        """Return what has come since the last call, or nothing; try a lost port again now and then.

        Args:
            now: s, on a clock that is always the same.
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
        self._pieces.extend(Piece(self._clock.now(), *self._marks.feed(data)) for _ in range(bool(data)))

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
    """Let the system mark bytes with a wrong parity or without a stop bit; tell whether it does."""
    try:
        import termios

        settings = termios.tcgetattr(number)
        settings[0] = (settings[0] | termios.INPCK | termios.PARMRK) & ~(termios.IGNPAR | termios.ISTRIP)
        termios.tcsetattr(number, termios.TCSANOW, settings)
    except (ImportError, OSError, ValueError):
        return False
    return True


def _why(name: str, error: OSError | ValueError) -> str:
    """Say why a port does not open, and what to do where it is a matter of rights."""
    text = os.strerror(error.errno) if isinstance(error, OSError) and error.errno else str(error)
    if isinstance(error, OSError) and isinstance(error.errno, int) and not os.access(name, os.R_OK | os.W_OK):
        return f"{text}{_rights(name)}"
    return text


def _rights(name: str) -> str:
    try:
        import grp

        group = grp.getgrgid(os.stat(name).st_gid).gr_name
    except (ImportError, OSError, KeyError):
        return ""
    return f": sudo usermod -aG {group} $USER, and log in again"
