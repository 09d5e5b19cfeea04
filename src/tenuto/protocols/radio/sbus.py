"""SBUS: 25 bytes at 100000 baud 8E2 on an inverted line, every 7 or 14 ms.

A frame has no checksum, only a header and an end byte, and both values also occur inside frames. A decoder that
trusts the first header may lock onto a frame that starts in the middle of another, and stay there for as
long as the sticks are still, with every channel wrong. So a position counts as the start of frames only when two
frames in a row fit there and nowhere else. One broken frame is skipped; after two in a row
the search begins anew.

A port may report more, and then that is used. A frame with a byte whose parity is wrong is bad. After a pause of the
line, a frame begins with the next byte, or within three bytes of noise. Bytes before the pause that are not a frame,
such as the telemetry that some receivers send between two frames, are dropped. A computer that was late sees a pause
where there was none: a frame continues over it if none begins after it.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from typing import ClassVar

from tenuto.protocols.radio.base import RadioProtocol
from tenuto.protocols.radio.decoder import CHANNEL_BYTES, ChannelFrame, Decoder, pack_channels, unpack_channels

LENGTH = 25
_HEADER = 0x0F
_ENDS = frozenset((0x00, 0x04, 0x14, 0x24, 0x34))
_SWITCHES, _LOST, _FAILSAFE = (0x01, 0x02), 0x04, 0x08
# Needed to decide for each of 25 positions whether two frames fit there.
_SEARCH = LENGTH - 1 + 2 * LENGTH
# After a pause there may be this many bytes of noise before a frame.
_NOISE = 3


class SbusDecoder(Decoder):
    """Finds SBUS frames of 16 channels and 2 switches."""

    def __init__(self) -> None:
        super().__init__()
        self._locked = self._begins = False
        self._pauses: deque[int] = deque(maxlen=_SEARCH)

    def _after_pause(self) -> None:
        self._pauses.append(self._gone + len(self._buffer))

    def _take(self, buffer: bytearray, at: int, frames: list[ChannelFrame]) -> int:
        left = len(buffer) - at
        if (step := self._up_to_pause(buffer, at)) is not None:
            return step
        if self._begins:
            return self._take_first(buffer, at, frames)
        if not self._locked:
            if left < _SEARCH:
                return 0
            if step := self._search(buffer, at):
                return step
        if left < LENGTH:
            return 0
        if self._fits(buffer, at):
            self._took(buffer, at, frames)
            return LENGTH
        if left < 2 * LENGTH:
            return 0
        self._locked = self._fits(buffer, at + LENGTH)
        self.counts.bad += 1
        return LENGTH if self._locked else 1

    def _up_to_pause(self, buffer: bytearray, at: int) -> int | None:
        """Return the number of bytes before a pause that are no frame, 0 for more bytes; None without a pause."""
        here = self._gone + at
        while self._pauses and self._pauses[0] <= here:
            self._begins = self._pauses.popleft() == here
        if not self._pauses or (before := self._pauses[0] - here) >= LENGTH:
            return None
        if len(buffer) - at < before + LENGTH:
            return 0
        if self._first_of(buffer, at + before) is not None or not self._fits(buffer, at):
            self.counts.bad += before > LENGTH // 2
            return before
        self._pauses.popleft()
        return None

    def _take_first(self, buffer: bytearray, at: int, frames: list[ChannelFrame]) -> int:
        """Take the first frame after a pause; the start of the next frame is unknown if there is none."""
        noise = self._first_of(buffer, at)
        if noise is not None:
            self._begins, self._locked = False, True
            self._took(buffer, at + noise, frames)
            return noise + LENGTH
        if len(buffer) - at < LENGTH + _NOISE:
            return 0
        self._begins = self._locked = False
        self.counts.bad += 1
        return LENGTH

    def _took(self, buffer: bytearray, at: int, frames: list[ChannelFrame]) -> None:
        if buffer[at + LENGTH - 1]:
            self.passed_over["slots for telemetry"] += 1
        self._add(_read(buffer, at), frames)

    def _first_of(self, buffer: bytearray, at: int) -> int | None:
        """Return the number of bytes of noise before a frame; None if there is none yet."""
        places = range(min(_NOISE, len(buffer) - at - LENGTH) + 1)
        return next((noise for noise in places if self._fits(buffer, at + noise)), None)

    def _search(self, buffer: bytearray, at: int) -> int:
        """Search for the one position where two frames fit; return the number of bytes before it."""
        places = []
        place = buffer.find(_HEADER, at, at + LENGTH)
        while place >= 0:
            if self._fits(buffer, place) and self._fits(buffer, place + LENGTH):
                places.append(place - at)
            place = buffer.find(_HEADER, place + 1, at + LENGTH)
        self._locked = len(places) == 1
        if self._locked:
            return places[0]
        self.counts.bad += 1
        return LENGTH

    def _fits(self, buffer: bytearray, at: int) -> bool:
        """Return whether a frame may start here: header, end byte, the four flags never set, nothing damaged."""
        framed = buffer[at] == _HEADER and buffer[at + 24] in _ENDS and not buffer[at + 23] & 0xF0
        return framed and self._is_whole(at, LENGTH)


def _read(buffer: bytearray, at: int) -> ChannelFrame:
    flags = buffer[at + 23]
    return ChannelFrame(
        unpack_channels(buffer[at + 1 : at + 1 + CHANNEL_BYTES]),
        tuple(bool(flags & bit) for bit in _SWITCHES),
        lost=bool(flags & _LOST),
        failsafe=bool(flags & _FAILSAFE),
    )


def encode_sbus(
    channels: Sequence[float],
    switches: Sequence[bool] = (False, False),
    *,
    lost: bool = False,
    failsafe: bool = False,
) -> bytes:
    """Write a frame of 16 channels, µs, and 2 switches: 25 bytes."""
    flags = lost * _LOST | failsafe * _FAILSAFE
    for bit, on in zip(_SWITCHES, switches, strict=True):
        flags |= bit * bool(on)
    return bytes((_HEADER, *pack_channels(channels), flags, 0x00))


class Sbus(RadioProtocol):
    """SBUS: each frame has flags for a lost frame and for failsafe."""

    kind: ClassVar[str] = "sbus"
    channels, switches = 16, 2
    baud, parity, stop_bits = 100_000, "E", 2
    period = 0.014
    marks_failsafe = True

    @staticmethod
    def decoder() -> Decoder:
        """Return a decoder that has seen nothing yet."""
        return SbusDecoder()

    @staticmethod
    def encode(channels: Sequence[float], *, lost: bool = False, failsafe: bool = False) -> bytes:
        """Write a frame; a failsafe frame is marked as lost too."""
        return encode_sbus(channels, lost=lost or failsafe, failsafe=failsafe)
