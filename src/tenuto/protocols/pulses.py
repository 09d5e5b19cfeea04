"""Pulses, from the times of their edges: PPM (all channels on one wire) and PWM (a wire a channel)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from tenuto.protocols.radio.decoder import ChannelFrame, Counts

SHORTEST_US, LONGEST_US = 700.0, 2300.0
GAP_US = 2700.0
FEWEST, MOST = 4, 12
# This many equal frames fix the number of channels, and this many others change it.
FIXED_AFTER, CHANGED_AFTER = 3, 50


class PpmDecoder:
    """Finds PPM frames: 4…12 channels, each from one edge to the next, and a gap before the first.

    A sender always has the same number of channels. Three frames in a row with one number fix it: a frame with another
    number has lost an edge, or has one too many, and its channels cannot be assigned. The number changes after
    many frames in a row with another one.

    Attributes:
        counts: see `Counts`; a frame with a pulse out of range, or with too few or too many pulses, is bad.
        channels: their number; 0 until it is known.
    """

    def __init__(self) -> None:
        self.counts = Counts()
        self.channels = 0
        self._alike, self._length = 0, 0
        self._before: float | None = None
        self._pulses: list[float] | None = None  # None before the first gap

    def feed(self, edges: Iterable[float]) -> list[tuple[float, ChannelFrame]]:
        """Take the times of the next edges of one direction, s, and return the frames that they complete.

        A frame is complete with the edge that ends the gap after it. Times that are not numbers or do not
        increase end the frame in which they occur.

        Returns:
            For each frame, the time of the edge that completed it, and the frame.
        """
        frames: list[tuple[float, ChannelFrame]] = []
        for edge in edges:
            width = (edge - self._before) * 1e6 if self._before is not None else GAP_US
            self._before = edge
            if width > GAP_US:
                self._finish(edge, frames)
                self._pulses = []
            elif self._pulses is not None:
                # An impossible width makes the frame bad; this is counted at the gap. A frame that never ends
                # must not fill the memory.
                self._pulses.append(width)
                del self._pulses[MOST + 1 :]
        return frames

    def _finish(self, edge: float, frames: list[tuple[float, ChannelFrame]]) -> None:
        pulses = self._pulses
        if not pulses:
            return
        can_be = FEWEST <= len(pulses) <= MOST and all(SHORTEST_US <= pulse <= LONGEST_US for pulse in pulses)
        if can_be and self._is_usual(len(pulses)):
            self.counts.good += 1
            frames.append((edge, ChannelFrame(tuple(pulses))))
        else:
            self.counts.bad += 1

    def _is_usual(self, length: int) -> bool:
        """Return whether a frame has as many channels as the others."""
        self._alike = self._alike + 1 if length == self._length else 1
        self._length = length
        if self._alike >= (FIXED_AFTER if not self.channels else CHANGED_AFTER):
            self.channels = length
        return length == self.channels


class PwmDecoder:
    """Measures PWM pulses, one wire a channel; a frame is complete when every wire has had a new pulse.

    So a wire that comes off ends the frames, and with them the link.

    Attributes:
        counts: see `Counts`; a pulse out of range is counted as bad.
    """

    def __init__(self, channels: int) -> None:
        self.counts = Counts()
        self._rise: list[float | None] = [None] * channels
        self._pulses: list[float | None] = [None] * channels

    def feed(self, edges: Iterable[tuple[float, int, bool]]) -> list[tuple[float, ChannelFrame]]:
        """Take the next edges, (time in s, channel from 0, rising?), and return the frames that they complete.

        Returns:
            For each frame, the time of the edge that completed it, and the frame.
        """
        frames: list[tuple[float, ChannelFrame]] = []
        for edge, channel, rising in edges:
            if not 0 <= channel < len(self._rise):
                self.counts.bad += 1
            elif rising:
                self._rise[channel] = edge
            else:
                self._fall(edge, channel, frames)
        return frames

    def _fall(self, edge: float, channel: int, frames: list[tuple[float, ChannelFrame]]) -> None:
        rise, self._rise[channel] = self._rise[channel], None
        if rise is None:
            return
        width = (edge - rise) * 1e6
        if not SHORTEST_US <= width <= LONGEST_US:
            self.counts.bad += 1
            return
        self._pulses[channel] = width
        pulses = [pulse for pulse in self._pulses if pulse is not None]
        if len(pulses) == len(self._pulses):
            self.counts.good += 1
            frames.append((edge, ChannelFrame(tuple(pulses))))
            self._pulses = [None] * len(self._pulses)


def encode_ppm(start: float, channels: Sequence[float]) -> list[float]:
    """Return the edge times of one PPM frame from ``start``, s: one more than the number of channels, in µs."""
    edges = [start]
    for pulse in channels:
        edges.append(edges[-1] + pulse * 1e-6)
    return edges


def encode_pwm(start: float, channels: Sequence[float]) -> list[tuple[float, int, bool]]:
    """Return the edges, (time in s, channel, rising?), of one pulse on each wire, one after another, µs."""
    edges: list[tuple[float, int, bool]] = []
    for channel, pulse in enumerate(channels):
        edges += [(start, channel, True), (start + pulse * 1e-6, channel, False)]
        start += pulse * 1e-6
    return edges
