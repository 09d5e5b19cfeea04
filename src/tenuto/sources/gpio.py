"""Pulses of a radio receiver on the pins of a small computer: PPM on one line, PWM on one line per channel.

The kernel stamps every edge of a line when it occurs (its GPIO character device), so a busy computer measures a pulse
as well as an idle one.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import NamedTuple, Protocol

from tenuto.basics.errors import SourceError
from tenuto.basics.extras import how_to_get
from tenuto.basics.frame import Frame, LinkCounts, with_earlier
from tenuto.basics.layouts import ControlInfo
from tenuto.clock import Aligned
from tenuto.protocols import PpmDecoder, PwmDecoder
from tenuto.protocols.pulses import MOST
from tenuto.protocols.radio.base import channel_layout, channel_values
from tenuto.sources.base import Source

# The number of edges that the kernel buffers for a late program: a second of twelve channels.
_KEPT = 1024
_NS = 1e-9


def stamped() -> float:
    """Read the clock of the kernel's time stamps, s."""
    return time.monotonic()


class Edge(NamedTuple):
    """One edge: the line's number, whether it rises, and its time, s on the clock of the time stamps."""

    line: int
    rises: bool
    time: float


class EdgeLines(Protocol):
    """Lines whose edges have time stamps."""

    def edges(self) -> Iterable[Edge]:
        """Return the edges since the last call; never waits."""
        ...

    def close(self) -> None:
        """Release the lines."""
        ...


class KernelLines:
    """Lines of a GPIO chip of this computer.

    Raises:
        SourceError: there is no such chip or line, another program uses it, or gpiod is not installed.
    """

    def __init__(self, chip: str, lines: Sequence[int]) -> None:
        try:
            import gpiod
            from gpiod.line import Clock
            from gpiod.line import Edge as Watched
        except ImportError as error:
            raise SourceError(how_to_get("gpiod")) from error
        settings = gpiod.LineSettings(edge_detection=Watched.BOTH, event_clock=Clock.MONOTONIC)
        try:
            self._request = gpiod.request_lines(
                chip, consumer="tenuto", config={tuple(lines): settings}, event_buffer_size=_KEPT
            )
        except (OSError, ValueError) as error:
            said = getattr(error, "strerror", None) or error
            raise SourceError(f"{chip} line {', '.join(map(str, lines))}: {said}; gpioinfo lists the lines") from error
        self._rising = gpiod.EdgeEvent.Type.RISING_EDGE

    def edges(self) -> Iterable[Edge]:
        """Return the edges since the last call."""
        found: list[Edge] = []
        while len(found) < _KEPT and self._request.wait_edge_events(0):
            for event in self._request.read_edge_events(_KEPT):
                found.append(Edge(event.line_offset, event.event_type is self._rising, event.timestamp_ns * _NS))
        return found

    def close(self) -> None:
        """Release the lines."""
        self._request.release()


class GpioPulses(Source):
    """A receiver's pulses on lines of a chip."""

    def __init__(
        self, kind: str, name: str, lines: EdgeLines, numbers: Sequence[int],
        stamped_by: Callable[[], float] | None = None,
    ) -> None:  # fmt: skip
        """Begin to receive.

        Args:
            kind: "ppm" or "pwm". name: of the chip. lines: its lines. numbers: of the lines, from channel 1 on.
            stamped_by: the clock of the edges' times; by default the kernel's.
        """
        self.name = f"{kind} pulses on {name}"
        self.identity = f"{kind}:{name}"
        self._lines, self._aligned = lines, Aligned(stamped_by or stamped)
        self._channels = {number: channel for channel, number in enumerate(numbers)}
        self._ppm = PpmDecoder() if kind == "ppm" else None
        self._pwm = PwmDecoder(len(numbers))
        self._values: Mapping[str, float] = {info.name: info.rest for info in self.controls()}

    def controls(self) -> tuple[ControlInfo, ...]:
        """Describe the channels."""
        return channel_layout(MOST if self._ppm is not None else len(self._channels))

    def counts(self) -> LinkCounts:
        """Describe the number of good frames, and of broken pulses or frames."""
        counts = (self._ppm or self._pwm).counts
        return LinkCounts(counts.good, counts.bad)

    def poll(self, now: float) -> Frame | None:
        """Return the newest frame; its time is that of its last edge."""
        try:
            edges = list(self._lines.edges())
        except OSError as error:
            note = f"{self.name}: {error.strerror or error}"
            return Frame(now, self._values, False, note, counts=self.counts())
        if self._ppm is not None:
            found = self._ppm.feed(edge.time for edge in edges if edge.rises)
        else:
            found = self._pwm.feed((edge.time, self._channels.get(edge.line, -1), edge.rises) for edge in edges)
        came = [Frame(self._aligned.at(at, now), channel_values(frame)) for at, frame in found]
        if came:
            self._values = came[-1].values
            came[-1] = came[-1]._replace(counts=self.counts())
        return with_earlier(came)

    def close(self) -> None:
        """Release the lines."""
        self._lines.close()
