"""What an asynchronous serial line does: bytes to levels, and levels back to the bytes that a port reads.

A port that is set to another speed, parity or polarity than its sender reads other bytes, always the same ones. So they
show what is sent; see `tenuto.protocols.diagnosis`.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable
from typing import NamedTuple


class LineSettings(NamedTuple):
    """The settings of a line.

    Attributes:
        baud: bits a second. parity: "N", "E" or "O". stop_bits: 1 or 2. inverted: an idle line is low.
    """

    baud: int
    parity: str = "N"
    stop_bits: int = 1
    inverted: bool = False

    @property
    def byte_time(self) -> float:
        """The duration of one byte, s."""
        return (1 + 8 + (self.parity != "N") + self.stop_bits) / self.baud


class Levels(NamedTuple):
    """A line's levels: from ``times[n]`` on, s, it is ``high[n]``."""

    times: list[float]
    high: list[bool]


def levels_of(bursts: Iterable[tuple[float, bytes]], line: LineSettings) -> Levels:
    """Return the levels of a line that sends bytes from the given times on, s."""
    rests = not line.inverted
    times, high = [float("-inf")], [rests]
    for start, data in bursts:
        now = start
        for byte in data:
            for bit in _bits(byte, line):
                if high[-1] is not (bit is rests):
                    times.append(now)
                    high.append(bit is rests)
                now += 1.0 / line.baud
    return Levels(times, high)


def _bits(byte: int, line: LineSettings) -> list[bool]:
    data = [bool(byte >> number & 1) for number in range(8)]
    parity = [] if line.parity == "N" else [(sum(data) % 2 == 1) is (line.parity == "E")]
    return [False, *data, *parity, *[True] * line.stop_bits]


def read_levels(levels: Levels, line: LineSettings) -> tuple[bytes, tuple[int, ...]]:
    """Return the bytes that a port with these settings reads, and the positions of those that it finds damaged.

    It samples in the middle of each bit, counted from the edge with which a byte begins, and waits for the next such
    edge from the middle of the first stop bit on.
    """
    data, damaged, now = bytearray(), list[int](), float("-inf")
    falls = [time for time, high in zip(levels.times[1:], levels.high[1:], strict=True) if high is line.inverted]
    at = 0
    while True:
        at = bisect_right(falls, now, lo=at)
        if at == len(falls):
            return bytes(data), tuple(damaged)
        start = falls[at]
        count = 8 + (line.parity != "N") + 1
        bits = [_level(levels, start + (number + 1.5) / line.baud) is not line.inverted for number in range(count)]
        byte = sum(bit << number for number, bit in enumerate(bits[:8]))
        if _bits(byte, line)[1 : 1 + count] != bits:
            damaged.append(len(data))
        data.append(byte)
        now = start + (count + 0.5) / line.baud


def _level(levels: Levels, moment: float) -> bool:
    return levels.high[bisect_right(levels.times, moment) - 1]
