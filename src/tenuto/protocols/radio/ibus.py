"""iBUS: 32 bytes at 115200 baud 8N1, every 7 ms. 0x20 0x40, fourteen channels in µs, a checksum."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from typing import ClassVar

from tenuto.protocols.radio.base import RadioProtocol
from tenuto.protocols.radio.decoder import ChannelFrame, Decoder

LENGTH, CHANNELS = 32, 14
_HEADER = b"\x20\x40"
_LAYOUT = struct.Struct("<15H")


class IbusDecoder(Decoder):
    """Finds iBUS frames of 14 channels."""

    def _take(self, buffer: bytearray, at: int, frames: list[ChannelFrame]) -> int:
        start = buffer.find(_HEADER, at)
        if start < 0:
            # The last byte may be the first of a header.
            return max(0, len(buffer) - at - 1)
        if start > at:
            return start - at
        if len(buffer) - at < LENGTH:
            return 0
        *channels, checksum = _LAYOUT.unpack_from(buffer, at + 2)
        if checksum != 0xFFFF - sum(buffer[at : at + LENGTH - 2]):
            self.counts.bad += 1
            return 1
        self._add(ChannelFrame(tuple([float(channel) for channel in channels])), frames)
        return LENGTH


def encode_ibus(channels: Sequence[float]) -> bytes:
    """Write a frame of 14 channels, µs: 32 bytes."""
    body = struct.pack(f"<2s{CHANNELS}H", _HEADER, *(min(max(round(pulse), 0), 0xFFFF) for pulse in channels))
    return body + (0xFFFF - sum(body)).to_bytes(2, "little")


class Ibus(RadioProtocol):
    """iBUS: it cannot say that anything is wrong, and falls silent."""

    kind: ClassVar[str] = "ibus"
    channels = CHANNELS
    baud = 115_200
    period = 0.007

    @staticmethod
    def decoder() -> Decoder:
        """Return a decoder that has seen nothing yet."""
        return IbusDecoder()

    @staticmethod
    def encode(channels: Sequence[float], *, lost: bool = False, failsafe: bool = False) -> bytes:
        """Write a frame."""
        return encode_ibus(channels)
