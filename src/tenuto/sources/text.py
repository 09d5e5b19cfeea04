"""Short texts that name a source: ``kind``, ``kind:place``, ``kind:place,key=value,…``."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import NamedTuple

from tenuto.core.errors import SourceError


class SourceText(NamedTuple):
    """A short text taken apart."""

    kind: str
    place: str
    options: dict[str, str]


def parse_source(text: str) -> SourceText:
    """Take a short text apart. Raises `SourceError` for an option without a value."""
    kind, _, rest = text.partition(":")
    place, *options = rest.split(",")
    found: dict[str, str] = {}
    for option in options:
        key, equals, value = option.partition("=")
        if not (key and equals and value):
            raise SourceError(f'{text}: expected options like key=value after the first comma, found "{option}"')
        found[key] = value
    return SourceText(kind, place, found)


def read_options(
    text: str, options: Mapping[str, str], known: Mapping[str, Callable[[str], object]]
) -> dict[str, object]:
    """Read options, each with its own reader. Raises `SourceError` naming what is unknown or unreadable."""
    result: dict[str, object] = {}
    for key, value in options.items():
        if key not in known:
            raise SourceError(f'{text}: unknown option "{key}"; known: {", ".join(known) or "none"}')
        try:
            result[key] = known[key](value)
        except ValueError as error:
            raise SourceError(f'{text}: option {key} cannot be "{value}"') from error
    return result


def columns(text: str) -> tuple[str, ...]:
    """Read names of columns: ``ax|ay|az``."""
    return tuple(text.split("|"))
