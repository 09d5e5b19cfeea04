"""Text that came from elsewhere, made fit for a terminal and a log."""

from __future__ import annotations

# What a control character becomes: it is seen that something was there, and nothing is done by it.
_INSTEAD = "\N{REPLACEMENT CHARACTER}"


def readable(text: str) -> str:
    """Return a text without what makes a terminal do something: escapes, new lines, marks of direction."""
    return "".join(one if one.isprintable() else _INSTEAD for one in text)
