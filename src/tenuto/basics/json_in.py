"""JSON from elsewhere (RFC 8259): read strictly, so that whatever it holds can be counted with, written and shown."""

from __future__ import annotations

import json
from typing import Any, NoReturn

# No number that means anything here has more digits; one of hundreds is beyond the range of a float.
_MOST_DIGITS = 25


def read_json(text: str | bytes) -> Any:
    """Return what a JSON text holds.

    Raises:
        ValueError: it is no JSON; it has NaN, an infinite number, a whole number of more than 25 digits, half of a
            character (a lone surrogate), or is nested too deeply.
    """
    try:
        found = json.loads(text, parse_constant=_no_number, parse_int=_whole, parse_float=_finite)
    except RecursionError as error:
        raise ValueError("it is nested too deeply") from error
    if (b"\\u" if isinstance(text, bytes) else "\\u") in text:  # type: ignore[operator]
        try:
            json.dumps(found, ensure_ascii=False).encode()
        except UnicodeEncodeError as error:
            raise ValueError("it has half of a character, a lone surrogate") from error
    return found


def _no_number(word: str) -> NoReturn:
    raise ValueError(f"{word} is not a number in JSON")


def _whole(digits: str) -> int:
    if len(digits) > _MOST_DIGITS:
        raise ValueError(f"a number of {len(digits)} digits is beyond the range")
    return int(digits)


def _finite(text: str) -> float:
    number = float(text)
    if number in (float("inf"), float("-inf")):
        raise ValueError(f"{text[:_MOST_DIGITS]} is beyond the range")
    return number
