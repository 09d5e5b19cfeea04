"""The line of a key in the text of a profile."""

from __future__ import annotations

import re
from collections.abc import Iterator

_KEY = r'(?:[A-Za-z0-9_-]+|"[^"]*"|\'[^\']*\')'
_DOTTED = rf"{_KEY}(?:\s*\.\s*{_KEY})*"


def line_of(text: str, key: str) -> int:
    """Return the line of a key in TOML text, or of the nearest table around it; 1 if there is none.

    A key is found as ``[a.b]`` and ``c =``, as ``a.b.c =``, as ``a.b = { c = …`` and as any mixture of these.
    """
    best, line = 0, 1
    wanted = key.split(".")
    for number, written in _written(text):
        long = min(len(written), len(wanted))
        if written[:long] == wanted[:long] and long > best:
            best, line = long, number
    return line


def _written(text: str) -> Iterator[tuple[int, list[str]]]:
    """Yield each complete key in the text, with its line."""
    table: list[str] = []
    for number, line in enumerate(text.splitlines(), 1):
        if (header := re.match(rf"\s*\[\s*({_DOTTED})\s*\]", line)) is not None:
            table = _parts(header[1])
            yield number, table
        elif (begins := re.match(rf"\s*({_DOTTED})\s*=", line)) is not None:
            yield number, [*table, *_parts(begins[1])]


def _parts(dotted: str) -> list[str]:
    return [part.strip().strip("\"'") for part in re.findall(_KEY, dotted)]
