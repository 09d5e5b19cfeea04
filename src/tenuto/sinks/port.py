"""A serial port that a sink writes to."""

from __future__ import annotations

import contextlib
import math
from collections import deque

from tenuto.basics.errors import SinkError
from tenuto.links.black_box import BlackBox, Tap
from tenuto.links.serial_ports import why_not

# The window in which a line is found too slow, s, and the share of skipped commands that is not reported.
_WATCHED, _FEW = 1.0, 0.05


class OutPort:
    """A serial port for this program alone; a write may block, but only the sink's own thread.

    Written bytes wait in buffers of the system, on a slow line for some time. So that they never
    hold more than one command, a writer first checks whether it is `free`.

    Raises:
        SinkError: it cannot be opened, or disappears; the message names it.
    """

    def __init__(self, name: str, baud: int, parity: str = "N", stop_bits: int = 1) -> None:
        import serial

        self._name = name
        self._byte = (2 + 8 + (parity != "N") + stop_bits - 1) / baud
        self._free_at = -math.inf
        self._taps: tuple[Tap, Tap] | None = None
        self._settings = {"baud": f"{baud}", "parity": parity, "stop_bits": f"{stop_bits}"}
        self._passed, self._kept_back = deque[float](), deque[float]()
        try:
            self._serial = serial.Serial(name, baud, parity=parity, stopbits=stop_bits, timeout=0, exclusive=True)
        except Exception as error:  # pyserial passes several kinds of system errors on
            raise SinkError(f"{name} cannot be opened: {why_not(name, error)}") from error

    def record_raw(self, box: BlackBox) -> bool:
        """Send all bytes to a black box from now on."""
        self._taps = box.taps(self._name, self._settings)
        return True

    def free(self, now: float) -> bool:
        """Return whether the line has sent all written bytes by ``now``, s."""
        is_free = now >= self._free_at
        seen = self._passed if is_free else self._kept_back
        seen.append(now)
        for times in (self._passed, self._kept_back):
            while times and times[0] < now - _WATCHED:
                times.popleft()
        return is_free

    def free_in(self, now: float) -> float:
        """Return how long the line still needs for the written bytes, s."""
        return max(0.0, self._free_at - now)

    @property
    def slow(self) -> str:
        """Report that the line carries fewer commands than there are; empty while it carries all, or nearly."""
        passed, kept_back = len(self._passed), len(self._kept_back)
        if kept_back <= _FEW * (passed + kept_back):
            return ""
        return f"its line carries {passed} commands a second of {passed + kept_back}: raise baud, or lower rate"

    def write(self, data: bytes, now: float) -> None:
        """Send bytes, at ``now``, s on the sink's clock.

        Raises:
            SinkError: the port has disappeared.
        """
        self._free_at = max(self._free_at, now) + self._byte * len(data)
        if self._taps is not None:
            self._taps[1](data)
        try:
            self._serial.write(data)
        except OSError as error:
            raise SinkError(f"{self._name} is gone: {why_not(self._name, error)}") from error

    def answered(self) -> bool:
        """Return whether bytes arrived since the last call, and drop them."""
        return bool(self.read_bytes())

    def read_bytes(self) -> bytes:
        """Return the bytes that arrived since the last call.

        Raises:
            SinkError: the port has disappeared.
        """
        try:
            data = bytes(self._serial.read(max(1, self._serial.in_waiting)))
            if data and self._taps is not None:
                self._taps[0](data)
            return data
        except OSError as error:
            raise SinkError(f"{self._name} is gone: {why_not(self._name, error)}") from error

    def close(self) -> None:
        """Close the port, and abort a write that hangs."""
        with contextlib.suppress(OSError):
            self._serial.cancel_write()
            self._serial.close()
