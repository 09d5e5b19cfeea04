"""The base of the decoders of radio receivers."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

from tenuto.basics.frame import Signal


class ChannelFrame(NamedTuple):
    """One frame of a receiver.

    Attributes:
        channels: the channels in order, each as its pulse, µs; NaN for one that was not received.
        switches: on/off channels beside them.
        lost: the receiver reports that it did not receive this frame, and repeats an older one.
        failsafe: the receiver reports that it has lost its transmitter; it made up the channels itself.
        signal: the newest link statistics of the receiver, if there are any.
        end: number of bytes that the decoder was fed up to the end of this frame.
    """

    channels: tuple[float, ...]
    switches: tuple[bool, ...] = ()
    lost: bool = False
    failsafe: bool = False
    signal: Signal | None = None
    end: int = 0


@dataclass(slots=True)
class Counts:
    """Counts of a decoder: good frames, bad ones, and good ones that the receiver marks as lost."""

    good: int = 0
    bad: int = 0
    lost: int = 0


class Decoder(ABC):
    """Finds frames in a stream of bytes, and finds them again after any garbage.

    The result depends on the bytes only, not on how they are split, and no bytes raise. What a port reports
    besides is used as evidence: where the line was idle, and which bytes were damaged.

    Attributes:
        counts: see `Counts`.
        signal: the newest link statistics of the receiver, if there are any.
        passed_over: other complete frames that are not used, and their counts.
    """

    def __init__(self) -> None:
        self.counts = Counts()
        self.signal: Signal | None = None
        self.passed_over: Counter[str] = Counter()
        self._buffer = bytearray()
        self._gone = 0  # bytes before the buffer
        self._damaged: list[int] = []

    def feed(self, data: bytes, *, pause: bool = False, damaged: Sequence[int] = ()) -> list[ChannelFrame]:
        """Take the next bytes of the stream, and return the frames that they complete.

        Args:
            data: the bytes. pause: before the first of them the line was idle for longer than within a frame.
            damaged: the positions in ``data`` of bytes that the port reported with a wrong parity or no stop bit.
        """
        buffer = self._buffer
        if pause:
            self._after_pause()
        if damaged:
            self._damaged += [self._gone + len(buffer) + place for place in damaged]
        buffer += data
        frames: list[ChannelFrame] = []
        at = 0
        while step := self._take(buffer, at, frames):
            at += step
            if frames and not frames[-1].end:
                frames[-1] = frames[-1]._replace(end=self._gone + at)
        self._drop(at)
        return frames

    def _after_pause(self) -> None:  # noqa: B027  # most protocols need not know
        """Use the knowledge that a frame can begin with the next byte."""

    def _drop(self, count: int) -> None:
        del self._buffer[:count]
        self._gone += count
        if self._damaged:
            self._damaged = [place for place in self._damaged if place >= self._gone]

    def _is_whole(self, at: int, length: int) -> bool:
        """Return whether none of these bytes was damaged."""
        first = self._gone + at
        return not any(first <= place < first + length for place in self._damaged)

    @abstractmethod
    def _take(self, buffer: bytearray, at: int, frames: list[ChannelFrame]) -> int:
        """Check the bytes from ``at`` on, and append a frame if one starts there.

        Returns:
            The number of bytes that are processed, or 0 if more bytes are needed to decide.
        """

    def _add(self, frame: ChannelFrame, frames: list[ChannelFrame]) -> None:
        """Count a frame that ends with the processed bytes, and append it."""
        self.counts.good += 1
        self.counts.lost += frame.lost
        frames.append(frame)


CHANNEL_BYTES = 22
_SHIFTS = tuple(range(0, 176, 11))


def unpack_channels(data: bytes | bytearray) -> tuple[float, ...]:
    """Read sixteen channels of 11 bits, least significant bit first, from 22 bytes; µs.

    172, 992 and 1811 stand for 988, 1500 and 2012 µs: 5/8 µs a count, and exactly 1500 µs at 992.
    """
    bits = int.from_bytes(data, "little")
    return tuple([1500.0 + 0.625 * (((bits >> shift) & 0x7FF) - 992) for shift in _SHIFTS])


def pack_channels(channels: Sequence[float]) -> bytes:
    """Write sixteen channels, µs, into 22 bytes; values outside 11 bits are clipped."""
    bits = 0
    for shift, pulse in zip(_SHIFTS, channels, strict=True):
        bits |= min(max(round((pulse - 1500.0) / 0.625) + 992, 0), 0x7FF) << shift
    return bits.to_bytes(CHANNEL_BYTES, "little")
