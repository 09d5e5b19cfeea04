"""iBUS: 32 bytes at 115200 baud 8N1, every 7 ms. 0x20 0x40, fourteen channels in µs, a checksum.

A channel uses 12 of its 16 bits. Senders with more channels put four others into the upper four bits of the first
twelve words, three words a channel, the lowest bits first; senders of fourteen leave them 0.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from typing import ClassVar

from tenuto.protocols.radio.base import RadioProtocol
from tenuto.protocols.radio.decoder import ChannelFrame, Decoder

LENGTH, CHANNELS, MOST = 32, 14, 18
_HEADER = b"\x20\x40"
_LAYOUT = struct.Struct("<15H")


class IbusDecoder(Decoder):
    """Finds iBUS frames of 14 channels, or of 18."""

    def _take(self, buffer: bytearray, at: int, frames: list[ChannelFrame]) -> int:
        start = buffer.find(_HEADER, at)
        if start < 0:
            # The last byte may be the first one of a header.
            return max(0, len(buffer) - at - 1)
        if start > at:
            return start - at
        if len(buffer) - at < LENGTH:
            return 0
        *words, checksum = _LAYOUT.unpack_from(buffer, at + 2)
        if checksum != 0xFFFF - sum(buffer[at : at + LENGTH - 2]):
            self.counts.bad += 1
            return 1
        self._add(ChannelFrame(_channels(words)), frames)
        return LENGTH


def _channels(words: list[int]) -> tuple[float, ...]:
    upper = [word >> 12 for word in words]
    if not any(upper):
        return tuple([float(word) for word in words])
    more = [upper[n] | upper[n + 1] << 4 | upper[n + 2] << 8 for n in range(0, 3 * (MOST - CHANNELS), 3)]
    return tuple([float(channel) for channel in (*(word & 0xFFF for word in words), *more)])


def encode_ibus(channels: Sequence[float]) -> bytes:
    """Write a frame of up to 18 channels, µs: 32 bytes. One with at most 14 is understood by all receivers."""
    words = [min(max(round(pulse), 0), 0xFFF) for pulse in channels]
    for number, channel in enumerate(words[CHANNELS:]):
        for part in range(3):
            words[3 * number + part] |= (channel >> 4 * part & 0xF) << 12
    body = struct.pack(f"<2s{CHANNELS}H", _HEADER, *words[:CHANNELS])
    return body + (0xFFFF - sum(body)).to_bytes(2, "little")


class Ibus(RadioProtocol):
    """iBUS: it cannot report errors, and falls silent."""

    kind: ClassVar[str] = "ibus"
    channels = MOST
    plain_channels = CHANNELS
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
