"""The marks with which a POSIX system reports damaged bytes of a serial port.

With ``PARMRK`` set, a byte with a wrong parity or without a stop bit is read as ``FF 00`` and the byte, a line that is
held low (a break) as ``FF 00 00``, and an undamaged byte ``FF`` as ``FF FF`` (IEEE 1003.1, General Terminal
Interface).
"""

from __future__ import annotations

_MARK, _DAMAGED = 0xFF, 0x00


class Unmarker:
    """Removes the marks from a stream of bytes, however it is split.

    Attributes:
        marked: the stream has marks.
    """

    def __init__(self, *, marked: bool = True) -> None:
        """Begin; without marks every byte is data."""
        self.marked = marked
        self._rest = b""

    def feed(self, raw: bytes) -> tuple[bytes, tuple[int, ...]]:
        """Take the next bytes; return them without marks, and the positions of the damaged ones."""
        if not self.marked or (not self._rest and _MARK not in raw):
            return raw, ()
        raw = self._rest + raw
        data, damaged, at = bytearray(), list[int](), 0
        while at < len(raw):
            if raw[at] != _MARK:
                data.append(raw[at])
                at += 1
            elif at + 1 == len(raw) or (raw[at + 1] == _DAMAGED and at + 2 == len(raw)):
                break  # the next byte decides
            elif raw[at + 1] == _DAMAGED:
                damaged.append(len(data))
                data.append(raw[at + 2])
                at += 3
            else:
                data.append(_MARK)
                at += 2 if raw[at + 1] == _MARK else 1
        self._rest = raw[at:]
        return bytes(data), tuple(damaged)
