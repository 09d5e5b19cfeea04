"""CRSF: 420000 baud 8N1. Address 0xC8, length, type, payload, CRC-8; at most 64 bytes.

Three types matter to a driver: 0x16, sixteen channels of 11 bits; 0x17, a subset of channels, of 10 to 13 bits; and
0x14, link statistics of the receiver. Other types with a correct checksum are counted by their number and skipped. A
channel that many subset frames in a row left out is not known any more. A receiver that receives nothing reports a link
quality of 0 and may go on sending channels: that is its failsafe.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import ClassVar

from tenuto.basics.frame import Signal
from tenuto.protocols.radio.base import RadioProtocol
from tenuto.protocols.radio.decoder import CHANNEL_BYTES, ChannelFrame, Decoder, pack_channels, unpack_channels

ADDRESS, CHANNELS, SUBSET, LINK = 0xC8, 0x16, 0x17, 0x14
_LINK_BYTES = 10
# The length byte counts type, payload and CRC.
_SHORTEST, _LONGEST = 2, 62
# A subset frame holds the number of bits for each channel, and 0 stands for this pulse, µs.
_SUBSET_BITS, _SUBSET_LOW = (10, 11, 12, 13), 988.0
# A channel that this number of subset frames in a row left out is not known any more.
_FORGOTTEN_AFTER = 25
_COUNT = 16


def _crc_table() -> bytes:
    """CRC-8 with polynomial 0xD5, most significant bit first, from 0, for each byte."""
    table = []
    for value in range(256):
        for _ in range(8):
            value = (value << 1) ^ (0xD5 if value & 0x80 else 0)
        table.append(value & 0xFF)
    return bytes(table)


_CRC = _crc_table()


def crc8(data: bytes | bytearray) -> int:
    """Return the CRC-8 of CRSF over type and payload."""
    crc = 0
    for byte in data:
        crc = _CRC[crc ^ byte]
    return crc


class CrsfDecoder(Decoder):
    """Finds CRSF frames of all 16 channels or of a subset, and keeps the newest link statistics in `signal`."""

    def __init__(self) -> None:
        super().__init__()
        self._known = [math.nan] * _COUNT
        self._left_out = [_FORGOTTEN_AFTER] * _COUNT

    def _take(self, buffer: bytearray, at: int, frames: list[ChannelFrame]) -> int:
        start = buffer.find(ADDRESS, at)
        if start < 0:
            return len(buffer) - at
        if start > at:
            return start - at
        if len(buffer) - at < 2:
            return 0
        length = buffer[at + 1]
        if not _SHORTEST <= length <= _LONGEST:
            return 1
        end = at + 2 + length
        if len(buffer) < end:
            return 0
        if crc8(buffer[at + 2 : end - 1]) != buffer[end - 1]:
            self.counts.bad += 1
            return 1
        self._read(buffer[at + 2], buffer[at + 3 : end - 1], frames)
        return end - at

    def _read(self, kind: int, payload: bytearray, frames: list[ChannelFrame]) -> None:
        if kind == CHANNELS and len(payload) == CHANNEL_BYTES:
            self._known[:], self._left_out[:] = unpack_channels(payload), [0] * _COUNT
            self._say(frames)
        elif kind == SUBSET and payload and self._take_some(payload):
            self._say(frames)
        elif kind == LINK and len(payload) == _LINK_BYTES:
            antennas, snr = payload[0:2], int.from_bytes(payload[3:4], "little", signed=True)
            active = payload[4] & 1
            self.signal = Signal(quality=float(payload[2]), rssi=-float(antennas[active]), snr=float(snr))
        else:
            self.passed_over[f"type 0x{kind:02x}"] += 1

    def _say(self, frames: list[ChannelFrame]) -> None:
        unheard = self.signal is not None and self.signal.quality == 0.0
        self._add(ChannelFrame(tuple(self._known), failsafe=unheard, signal=self.signal), frames)

    def _take_some(self, payload: bytearray) -> bool:
        """Take the channels of a subset frame; return whether there were any."""
        first, width = payload[0] & 0x1F, _SUBSET_BITS[payload[0] >> 5 & 3]
        bits, count = int.from_bytes(payload[1:], "little"), 8 * (len(payload) - 1) // width
        if not count or first + count > _COUNT:
            return False
        scale = 2.0 ** (10 - width)
        self._left_out = [one + 1 for one in self._left_out]
        for number in range(count):
            self._known[first + number] = _SUBSET_LOW + scale * (bits >> number * width & (1 << width) - 1)
            self._left_out[first + number] = 0
        for number, frames_ago in enumerate(self._left_out):
            if frames_ago >= _FORGOTTEN_AFTER:
                self._known[number] = math.nan
        return True


def _encode(kind: int, payload: bytes) -> bytes:
    body = bytes((kind, *payload))
    return bytes((ADDRESS, len(body) + 1, *body, crc8(body)))


def encode_crsf_channels(channels: Sequence[float]) -> bytes:
    """Write a frame of 16 channels, µs: 26 bytes."""
    return _encode(CHANNELS, pack_channels(channels))


def encode_crsf_link(signal: Signal) -> bytes:
    """Write link statistics: 14 bytes. Both antennas and both directions are given the same numbers."""
    rssi, quality = min(max(round(-signal.rssi), 0), 255), min(max(round(signal.quality), 0), 100)
    snr = min(max(round(signal.snr), -128), 127) & 0xFF
    return _encode(LINK, bytes((rssi, rssi, quality, snr, 0, 2, 3, rssi, quality, snr)))


class Crsf(RadioProtocol):
    """CRSF: link statistics come between the frames of channels."""

    kind: ClassVar[str] = "crsf"
    channels = 16
    baud = 420_000
    period = 1.0 / 150.0

    @staticmethod
    def decoder() -> Decoder:
        """Return a decoder that has seen nothing yet."""
        return CrsfDecoder()

    @staticmethod
    def encode(channels: Sequence[float], *, lost: bool = False, failsafe: bool = False) -> bytes:
        """Write a frame of channels."""
        return encode_crsf_channels(channels)

    @staticmethod
    def encode_link(signal: Signal) -> bytes:
        """Write link statistics."""
        return encode_crsf_link(signal)
