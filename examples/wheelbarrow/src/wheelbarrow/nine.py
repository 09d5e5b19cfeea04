"""A radio protocol: nine channels as two bytes each, after 0xA5 and before the exclusive or of all bytes."""

from __future__ import annotations

from collections.abc import Sequence
from functools import reduce
from operator import xor

from tenuto.protocols.radio.base import RadioProtocol
from tenuto.protocols.radio.decoder import ChannelFrame, Decoder

_START, _LENGTH = 0xA5, 20


class NineDecoder(Decoder):
    """Finds frames of nine channels."""

    def _take(self, buffer: bytearray, at: int, frames: list[ChannelFrame]) -> int:
        start = buffer.find(_START, at)
        if start < 0:
            return len(buffer) - at
        if start > at:
            return start - at
        if len(buffer) - at < _LENGTH:
            return 0
        frame = buffer[at : at + _LENGTH]
        if reduce(xor, frame) != 0:
            self.counts.bad += 1
            return 1
        channels = tuple(float(frame[n] | frame[n + 1] << 8) for n in range(1, _LENGTH - 1, 2))
        self._add(ChannelFrame(channels), frames)
        return _LENGTH


class Nine(RadioProtocol):
    """Nine channels at 57600 baud."""

    kind = "nine"
    channels = 9
    baud = 57_600
    period = 0.02

    @staticmethod
    def decoder() -> Decoder:
        """Return a decoder that has seen nothing yet."""
        return NineDecoder()

    @staticmethod
    def encode(channels: Sequence[float], *, lost: bool = False, failsafe: bool = False) -> bytes:
        """Write a frame."""
        body = bytes([_START]) + b"".join(round(pulse).to_bytes(2, "little") for pulse in channels)
        return body + bytes([reduce(xor, body)])
