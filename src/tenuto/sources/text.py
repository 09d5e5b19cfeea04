"""Short texts that name a source: ``kind``, ``kind:place``, ``kind:place,key=value,…``."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from tenuto.basics.errors import SourceError
from tenuto.basics.short_text import ShortText as SourceText
from tenuto.basics.short_text import columns, parse_short_text
from tenuto.basics.short_text import read_options as read_any_options

__all__ = ["SourceText", "columns", "parse_source", "read_options"]


def parse_source(text: str) -> SourceText:
    """Take a short text apart. Raises `SourceError` for an option without a value."""
    return parse_short_text(text, SourceError)


def read_options(
    text: str, options: Mapping[str, str], known: Mapping[str, Callable[[str], object]]
) -> dict[str, object]:
    """Read options, each with its own reader. Raises `SourceError` naming what is unknown or unreadable."""
    return read_any_options(text, options, known, SourceError)
