"""A serial port that a sink writes to."""

from __future__ import annotations

import contextlib
import os
from typing import Any

from tenuto.basics.errors import SinkError


class OutPort:
    """A serial port, opened for this program alone; a write may block, but only the sink's own thread.

    Raises:
        SinkError: it cannot be opened, or goes away; the message names it.
    """

    def __init__(self, name: str, baud: int, parity: str = "N", stop_bits: int = 1) -> None:
        import serial

        self._name = name
        try:
            self._serial = serial.Serial(name, baud, parity=parity, stopbits=stop_bits, timeout=0, exclusive=True)
        except Exception as error:  # pyserial lets errors of the system through as they are, of several kinds
            raise SinkError(f"{name} does not open: {_why(error)}") from error

    def write(self, data: bytes) -> None:
        """Send bytes.

        Raises:
            SinkError: the port is gone.
        """
        try:
            self._serial.write(data)
        except OSError as error:
            raise SinkError(f"{self._name} is gone: {_why(error)}") from error

    def answered(self) -> bool:
        """Tell whether anything has come since the last call; it is thrown away."""
        return bool(self.read_bytes())

    def read_bytes(self) -> bytes:
        """Return what has come since the last call.

        Raises:
            SinkError: the port is gone.
        """
        try:
            return bytes(self._serial.read(max(1, self._serial.in_waiting)))
        except OSError as error:
            raise SinkError(f"{self._name} is gone: {_why(error)}") from error

    def close(self) -> None:
        """Close the port; a write that hangs is broken off."""
        with contextlib.suppress(OSError):
            self._serial.cancel_write()
            self._serial.close()


def _why(error: Any) -> str:
    number = getattr(error, "errno", None) or (error.args[0] if error.args else None)
    return os.strerror(number) if isinstance(number, int) else str(error)
