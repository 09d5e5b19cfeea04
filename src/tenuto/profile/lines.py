"""The line of a key in the text of a profile."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache

_KEY = r'(?:[A-Za-z0-9_-]+|"[^"]*"|\'[^\']*\')'
_DOTTED = rf"{_KEY}(?:\s*\.\s*{_KEY})*"


def line_of(text: str, key: str) -> int:
    """Return the line of a key in TOML text, or of the nearest table around it; 1 if there is none.

    A key is found as ``[a.b]`` and ``c =``, as ``a.b.c =``, as ``a.b = { c = …`` and as any mixture of these.
    """
    whole, begun = _places(text)
    wanted = tuple(key.split("."))
    if wanted in begun:
        return begun[wanted]
    return next((whole[wanted[:long]] for long in range(len(wanted), 0, -1) if wanted[:long] in whole), 1)


@lru_cache(maxsize=2)  # a file with many errors is asked for each of them
def _places(text: str) -> tuple[dict[tuple[str, ...], int], dict[tuple[str, ...], int]]:
    """Return the first line of each complete key, and of each key that one begins with."""
    whole: dict[tuple[str, ...], int] = {}
    begun: dict[tuple[str, ...], int] = {}
    for number, written in _written(text):
        key = tuple(written)
        whole.setdefault(key, number)
        for long in range(1, len(key) + 1):
            begun.setdefault(key[:long], number)
    return whole, begun


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
