"""A serial port that is read without waiting, and that may go away and come back."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tenuto.basics.errors import SourceError

if TYPE_CHECKING:
    import serial

# How often a port that has gone is tried again, s.
_RETRY_SECONDS = 0.5


class Port:
    """A serial port, opened for this program alone.

    Raises:
        SourceError: it cannot be opened; the message names the port.

    Attributes:
        problem: why it cannot be read just now; empty while it can.
    """

    def __init__(self, name: str, baud: int, parity: str = "N", stop_bits: int = 1) -> None:
        self.name = name
        self.problem = ""
        self._baud, self._parity, self._stop_bits = baud, parity, stop_bits
        self._retry = 0.0
        self._serial: serial.Serial | None = None
        self._open()
        if self._serial is None:
            raise SourceError(f"{self.problem}; tenuto devices lists the ports that are there")

    def _open(self) -> None:
        import serial

        try:
            self._serial = serial.Serial(
                self.name, self._baud, parity=self._parity, stopbits=self._stop_bits, timeout=0, exclusive=True
            )
            self.problem = ""
        except (OSError, ValueError) as error:
            self.problem = f"{self.name} does not open: {getattr(error, 'strerror', None) or error}"

    def read(self, now: float) -> bytes:
        """Return what has come since the last call, or nothing; try a lost port again now and then.

        Args:
            now: s, on a clock that is always the same.
        """
        if self._serial is None:
            if now < self._retry:
                return b""
            self._retry = now + _RETRY_SECONDS
            self._open()
            if self._serial is None:
                return b""
        try:
            return bytes(self._serial.read(max(1, self._serial.in_waiting)))
        except OSError as error:
            self.close()
            self._retry = now
            self.problem = f"{self.name} is gone: {error.strerror or error}"
            return b""

    def close(self) -> None:
        """Close the port."""
        if self._serial is not None:
            self._serial.close()
            self._serial = None
