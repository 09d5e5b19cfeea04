"""Text from elsewhere, made safe for a terminal and a log."""

from __future__ import annotations

import re
from collections.abc import Iterable

# Semicolons that a reader could take for the end of a text.
_SEMICOLONS = re.compile(r"(;+)(?= |$)")
# The replacement of a control character: it shows that there was one, and has no effect.
_INSTEAD = "\N{REPLACEMENT CHARACTER}"

_LONG = 300


def readable(text: str) -> str:
    """Return a text without anything that controls a terminal: escapes, new lines, marks of direction."""
    return "".join(one if one.isprintable() else _INSTEAD for one in text)


def shortened(text: str, most: int = _LONG) -> str:
    """Return a text from elsewhere, made readable, and shortened if it is very long."""
    text = readable(text)
    return text if len(text) <= most else f"{text[: most // 2]}… ({len(text)} characters)"


def joined(texts: Iterable[str]) -> str:
    """Join texts by ``"; "`` in one cell of a log; where a text itself has that, its semicolon is doubled."""
    return "; ".join(_SEMICOLONS.sub(r"\1\1", text) for text in texts)


def parted(cell: str) -> tuple[str, ...]:
    """Return the texts of a cell that `joined` made; none for an empty cell."""
    parts, part, last = list[str](), "", 0
    for run in _SEMICOLONS.finditer(cell):
        many, ends = len(run[1]), run.end() == len(cell)
        part += cell[last : run.start()] + ";" * ((many + ends) // 2)
        last = run.end()
        if many % 2 and not ends:
            parts, part, last = [*parts, part], "", last + 1
    return tuple(text for text in (*parts, part + cell[last:]) if text)
