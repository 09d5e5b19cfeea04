"""The default line to a builder's own firmware: a velocity, how long it is valid, a counter and a checksum.

One line of ASCII, ended by a newline; whole numbers, so that the smallest controller reads it. See docs/protocols.md::

    V 17 420 0 0 -100 200 1 9CF3
      │  │   │ │ │    │   │ └ CRC-16 of everything before this space, four hexadecimal digits
      │  │   │ │ │    │   └ power: 1 the outputs may have it, 0 cut it
      │  │   │ │ │    └ valid for this many ms: the firmware stops by itself if no other good line came by then
      │  └───┴─┴─┴ vx, vy, vz in mm/s and yaw rate in mrad/s; x forward, y left, z up, left positive (ISO 8855)
      └ counter, 0 to 255, then from 0 again: a line that repeats the last one's is not new

Between power and checksum there may be the levels of up to `MOST_OUTPUTS` outputs, −1000 to 1000.
"""

from __future__ import annotations

import re
from binascii import crc_hqx
from typing import NamedTuple

from tenuto.protocols.radio.decoder import Counts
from tenuto.vehicles.velocity import VelocityCommand

# A longer line is not a velocity line; it is dropped before it fills the memory.
_LONGEST = 96
_LARGEST = 32_767
LONGEST_VALID_MS = 60_000
MOST_OUTPUTS = 8
_HEAD = re.compile(rb"V(?: -?[0-9]{1,6}){7,15}")


class VelocityLine(NamedTuple):
    """One good line.

    Attributes:
        counter: 0…255. command: m/s and rad/s. valid_for: s. power: whether the outputs may have power.
        outputs: the levels of as many as are sent, −1…1.
    """

    counter: int
    command: VelocityCommand
    valid_for: float
    power: bool
    outputs: tuple[float, ...] = ()


def checksum(text: bytes) -> int:
    """Return the CRC-16 of some bytes: polynomial 0x1021, initial value 0xFFFF, not reflected, no final XOR."""
    return crc_hqx(text, 0xFFFF)


def encode_velocity_line(line: VelocityLine) -> bytes:
    """Write a line; speeds are limited to ±32.767 m/s or rad/s."""
    speeds = (round(min(max(1000.0 * speed, -_LARGEST), _LARGEST)) for speed in line.command)
    valid = round(min(max(1000.0 * line.valid_for, 0.0), LONGEST_VALID_MS))
    levels = (round(1000.0 * min(max(level, -1.0), 1.0)) for level in line.outputs)
    text = " ".join(map(str, ("V", line.counter % 256, *speeds, valid, int(line.power), *levels))).encode()
    return with_checksum(text)


def with_checksum(text: bytes) -> bytes:
    """Append the checksum and the newline to a text."""
    return text + b" %04X\n" % checksum(text)


class VelocityLineDecoder:
    """Reads such lines from bytes; never raises on them.

    Attributes:
        counts: good lines; bad ones; lost ones by the gaps of the counter.
    """

    def __init__(self) -> None:
        self.counts = Counts()
        self._buffer = bytearray()
        self._counter: int | None = None

    def feed(self, data: bytes) -> list[VelocityLine]:
        """Take the next bytes, and return the good lines that they complete; a repeated line is not returned."""
        self._buffer += data
        *lines, rest = self._buffer.split(b"\n")
        # Of a line that is too long, only enough is kept to detect that.
        self._buffer = rest[: _LONGEST + 1]
        found: list[VelocityLine] = []
        for text in lines:
            line = _parse(bytes(text).removesuffix(b"\r"))
            if line is None:
                self.counts.bad += 1
            elif line.counter != self._counter:
                if self._counter is not None:
                    self.counts.lost += (line.counter - self._counter) % 256 - 1
                self._counter = line.counter
                self.counts.good += 1
                found.append(line)
        return found


def _parse(text: bytes) -> VelocityLine | None:
    head, _, sum_text = text.rpartition(b" ")
    if len(text) > _LONGEST or not _HEAD.fullmatch(head) or sum_text != b"%04X" % checksum(head):
        return None
    counter, vx, vy, vz, yaw_rate, valid, power, *levels = (int(word) for word in head.split(b" ")[1:])
    if not 0 <= counter <= 255 or valid < 0 or any(abs(level) > 1000 for level in levels):
        return None
    command = VelocityCommand(vx / 1000.0, vy / 1000.0, vz / 1000.0, yaw_rate / 1000.0)
    return VelocityLine(counter, command, valid / 1000.0, power == 1, tuple(level / 1000.0 for level in levels))
