"""Lines of numbers, as a microcontroller prints them: delimited, with a header or with named columns."""

from __future__ import annotations

import math
import re
from binascii import crc_hqx
from collections.abc import Sequence

from tenuto.protocols.radio.decoder import Counts

_DELIMITER = re.compile(rb"[,;\t ]+")
_NUMBER = re.compile(rb"[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?")
_NAME = re.compile(rb"[A-Za-z_][\w.\-]*")
# A longer line is not a line of numbers; it is dropped before it fills the memory.
_LONGEST = 1024


class LineDecoder:
    """Reads lines of numbers, separated by commas, semicolons, tabs or spaces.

    The columns are named by the caller or by a header line; otherwise they are ``column_1``,
    ``column_2``, …, as many as the first complete line has. Incomplete lines, wrong counts and numbers that are not
    finite are counted and skipped. The numbers of the first line are never used, unless it has a checksum: it
    may have lost its beginning, and ``512`` without its ``5`` is a number too.

    Attributes:
        counts: see `Counts`.
        columns: the names of the columns; empty until they are known.
    """

    def __init__(self, columns: Sequence[str] = (), *, checksum: bool = False) -> None:
        """Begin.

        Args:
            columns: their names, if known. checksum: each line ends with a space and the CRC-16 of all
                before it, as in the velocity line; a line without one, or with a wrong one, is counted and skipped.
        """
        self._checked = checksum
        self.counts = Counts()
        self.columns = tuple(columns)
        self._buffer = bytearray()
        self._first = True

    def feed(self, data: bytes) -> list[dict[str, float]]:
        """Take the next bytes, and return the values of each column for each line that they complete."""
        self._buffer += data
        *lines, rest = self._buffer.split(b"\n")
        self._buffer = rest
        if len(rest) > _LONGEST:
            rest.clear()
            self._first = True  # up to the next line's end, it is the rest of that long line
            self.counts.bad += 1
        frames: list[dict[str, float]] = []
        for line in lines:
            self._read(bytes(line).strip(), frames)
        return frames

    def _read(self, line: bytes, frames: list[dict[str, float]]) -> None:
        first, self._first = self._first, False
        if not line:
            return
        if self._checked:
            line, first = _without_checksum(line), False
            if not line:
                self.counts.bad += 1
                return
        cells = _DELIMITER.split(line)
        if all(map(_is_name, cells)) and len(set(cells)) == len(cells):
            names = tuple(cell.decode() for cell in cells)
            self.columns = self.columns or names
            self.counts.bad += names != self.columns
            return
        if first:
            return
        values = [_number(cell) for cell in cells]
        if not self.columns and all(map(math.isfinite, values)):
            self.columns = tuple(f"column_{number + 1}" for number in range(len(values)))
        if len(values) != len(self.columns) or not all(map(math.isfinite, values)):
            self.counts.bad += 1
            return
        self.counts.good += 1
        frames.append(dict(zip(self.columns, values, strict=True)))


def _without_checksum(line: bytes) -> bytes:
    """Return the text before a correct checksum; empty if there is none."""
    text, _, said = line.rpartition(b" ")
    return text if said == b"%04X" % crc_hqx(text, 0xFFFF) else b""


def _is_name(cell: bytes) -> bool:
    """Return whether a cell can name a column; ``nan`` and ``inf`` are bad numbers, not names."""
    return bool(_NAME.fullmatch(cell)) and cell.lower() not in (b"nan", b"inf", b"infinity")


def _number(cell: bytes) -> float:
    """Return a number in plain digits; nan for other forms that Python would accept, such as ``1_0``."""
    return float(cell) if _NUMBER.fullmatch(cell) else math.nan
