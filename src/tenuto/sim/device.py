"""A simulated device on a real pseudo-terminal: what opens it cannot tell it from a serial port."""

from __future__ import annotations

import contextlib
import os
import threading
import time
import tty
from abc import ABC, abstractmethod

from tenuto.core.closing import Closing


class SerialDevice(Closing, ABC):
    """Something that sends bytes on a serial line of its own, at a fixed rate, from a thread.

    Attributes:
        port: the name of the port that a source opens.
    """

    def __init__(self, rate: float, link: str | None = None) -> None:
        """Start sending.

        Args:
            rate: how often `next_bytes` is asked, Hz.
            link: a path under which the port can also be opened, and which stays the same when the device
                is unplugged and plugged in again.
        """
        self._rate = rate
        self._link = link
        self._master = -1
        self.port = ""
        self._done = threading.Event()
        self._thread: threading.Thread | None = None
        self.plug_in()

    @abstractmethod
    def next_bytes(self, seconds: float) -> list[bytes]:
        """Give the pieces to send now; ``seconds`` since the start. Each piece is written by itself."""

    def plug_in(self) -> None:
        """Make the port and begin to send."""
        self._master, slave = os.openpty()
        tty.setraw(slave)
        self.port = os.ttyname(slave)
        os.close(slave)
        os.set_blocking(self._master, False)
        if self._link is not None:
            if os.path.islink(self._link):
                os.unlink(self._link)
            os.symlink(self.port, self._link)
            self.port = self._link
        self._done.clear()
        self._thread = threading.Thread(target=self._send, name=f"device on {self.port}", daemon=True)
        self._thread.start()

    def unplug(self) -> None:
        """Stop sending and take the port away."""
        if self._thread is not None:
            self._done.set()
            self._thread.join()
            self._thread = None
            os.close(self._master)

    def _send(self) -> None:
        start = time.monotonic()
        number = 0
        while not self._done.wait(max(0.0, start + number / self._rate - time.monotonic())):
            for piece in self.next_bytes(time.monotonic() - start):
                self.write(piece)
            number = max(number + 1, int((time.monotonic() - start) * self._rate))

    def write(self, data: bytes) -> None:
        """Send bytes at once; what does not fit into a line that nobody reads is lost, as on a real one."""
        with contextlib.suppress(OSError):  # full, or nobody has the port open just now
            os.write(self._master, data)

    def close(self) -> None:
        """Unplug it."""
        self.unplug()
