"""A simulated device on a real pseudo-terminal: a program that opens it sees a serial port."""

from __future__ import annotations

import contextlib
import fcntl
import math
import os
import struct
import tempfile
import termios
import time
import tty
from abc import ABC, abstractmethod
from collections.abc import Callable
from itertools import count

from tenuto.basics.closing import Closing
from tenuto.clock import REAL, Timer

_HANDED_ON_WITHIN = 1.0
_NUMBERS = count()


def _waiting(port: int) -> float:
    """Return the number of bytes that wait to be read at a port; infinite if there is no port."""
    if port < 0:
        return math.inf
    return float(struct.unpack("i", fcntl.ioctl(port, termios.FIONREAD, bytes(4)))[0])


class SerialDevice(Closing, ABC):
    """A device that sends bytes on a serial line of its own, at a fixed rate.

    Attributes:
        port: the name of the port that a source opens.
    """

    def __init__(self, rate: float, link: str | None = None, clock: Timer = REAL) -> None:
        """Start sending.

        Args:
            rate: how often `next_bytes` is called, Hz.
            link: a path to the port that stays the same when the device was unplugged
                and plugged in again; one of its own by default. While the device is unplugged, it does not exist: the
                system gives the number of a closed terminal to the next program that asks, and a source that looks for
                its device must not open another program's terminal.
            clock: a thread in real time, or moments in simulated time.
        """
        self._rate, self._clock = rate, clock
        own = os.path.join(tempfile.gettempdir(), f"tenuto-port-{os.getpid()}-{next(_NUMBERS)}")
        self._link = own if link is None else link
        self._master = self._slave = -1
        self.port = ""
        self._end: Callable[[], None] | None = None
        self.plug_in()

    @abstractmethod
    def next_bytes(self, seconds: float) -> list[bytes]:
        """Return the pieces to send now; ``seconds`` since the start. Each piece is written separately."""

    def plug_in(self) -> None:
        """Make the port and start sending."""
        self._master, slave = os.openpty()
        tty.setraw(slave)
        self.port = os.ttyname(slave)
        if self._clock is REAL:
            os.close(slave)
        else:
            self._slave = slave
        os.set_blocking(self._master, False)
        if os.path.islink(self._link):
            os.unlink(self._link)
        os.symlink(self.port, self._link)
        self.port = self._link
        self._end = self._clock.every(1.0 / self._rate, self._send, f"device on {self.port}")

    def unplug(self) -> None:
        """Stop sending and remove the port."""
        if self._end is not None:
            self._end()
            self._end = None
            with contextlib.suppress(FileNotFoundError):
                os.unlink(self._link)
            os.close(self._master)
            if self._slave >= 0:
                os.close(self._slave)
                self._slave = -1

    def _send(self, seconds: float) -> None:
        for piece in self.next_bytes(seconds):
            self.write(piece)

    def write(self, data: bytes) -> None:
        """Send bytes at once; bytes that do not fit into a line that nobody reads are lost, as on a real one."""
        with contextlib.suppress(OSError):  # full, or nobody has the port open at the moment
            before = _waiting(self._slave)
            written = os.write(self._master, data)
            # The system passes bytes on at its own time: simulated time waits until they are there.
            patience = time.monotonic() + _HANDED_ON_WITHIN
            while _waiting(self._slave) < before + written and time.monotonic() < patience:
                time.sleep(0.0)

    def close(self) -> None:
        """Unplug it."""
        self.unplug()
