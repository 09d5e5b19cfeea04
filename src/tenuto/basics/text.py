"""Text that came from elsewhere, made fit for a terminal and a log."""

from __future__ import annotations

# What a control character becomes: it is seen that something was there, and nothing is done by it.
_INSTEAD = "\N{REPLACEMENT CHARACTER}"

_LONG = 300


def readable(text: str) -> str:
    """Return a text without what makes a terminal do something: escapes, new lines, marks of direction."""
    return "".join(one if one.isprintable() else _INSTEAD for one in text)


def shortened(text: str, most: int = _LONG) -> str:
    """Return a text that came from elsewhere, readable, and with its end left out where it is very long."""
    text = readable(text)
    return text if len(text) <= most else f"{text[: most // 2]}… ({len(text)} characters)"
