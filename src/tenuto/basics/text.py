"""Text from elsewhere, made safe for a terminal and a log."""

from __future__ import annotations

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
