"""Short texts that name a source or a sink: ``kind``, ``kind:place``, ``kind:place,key=value,…``."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import NamedTuple

from tenuto.basics.errors import TenutoError

# The options by which a broker is reached; the same in short texts and in profiles.
BROKER_KEYS = ("user", "password_file", "ca", "certificate", "private_key")


class ShortText(NamedTuple):
    """A short text taken apart."""

    kind: str
    place: str
    options: dict[str, str]


def parse_short_text(text: str, error: type[TenutoError]) -> ShortText:
    """Take a short text apart. Raises ``error`` for an option without a value."""
    kind, _, rest = text.partition(":")
    place, *options = rest.split(",")
    found: dict[str, str] = {}
    for option in options:
        key, equals, value = option.partition("=")
        if not (key and equals and value):
            raise error(f'{text}: expected options like key=value after the first comma, found "{option}"')
        found[key] = value
    return ShortText(kind, place, found)


def read_options(
    text: str,
    options: Mapping[str, str],
    known: Mapping[str, Callable[[str], object]],
    error: type[TenutoError],
) -> dict[str, object]:
    """Read options, each with its own reader. Raises ``error`` naming what is unknown or unreadable."""
    result: dict[str, object] = {}
    for key, value in options.items():
        if key not in known:
            raise error(f'{text}: unknown option "{key}"; known: {", ".join(known) or "none"}')
        try:
            result[key] = known[key](value)
        except ValueError as cause:
            raise error(f'{text}: option {key} cannot be "{value}"') from cause
    return result


def columns(text: str) -> tuple[str, ...]:
    """Read names of columns: ``ax|ay|az``."""
    return tuple(text.split("|"))
