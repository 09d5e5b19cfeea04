"""Numbers of a plan as literals of C."""

from __future__ import annotations

import math

# A time that is exactly a limit is neither above nor below it: both sides of the proof count in whole ms.
_TIE_MS = 1e-6
# What a float cannot tell from nothing.
_LEAST = 1.2e-38
# No age of a time is as long, ms: what is never over is above it.
_NEVER_MS = 2**30 + 1


def literal(value: float, real: str) -> str:
    """Return a number as a literal of the type that is reckoned in."""
    value = float(value)
    if real == "float" and abs(value) < _LEAST:
        value = 0.0
    if math.isinf(value):
        return "INFINITY" if value > 0.0 else "-INFINITY"
    text = repr(value + 0.0) if real == "double" else f"{value + 0.0:.9g}"
    if not any(mark in text for mark in ".e"):
        text += ".0"
    return text if real == "double" else f"{text}f"


def ms_above(seconds: float) -> str:
    """Return the whole number of ms that a whole number is above where the time is above so many seconds."""
    return _whole(math.floor(1000.0 * seconds + _TIE_MS) if seconds * 1000.0 < _NEVER_MS else _NEVER_MS)


def ms_below(seconds: float) -> str:
    """Return the whole number of ms that a whole number is below where the time is below so many seconds."""
    return _whole(math.ceil(1000.0 * seconds - _TIE_MS) if seconds * 1000.0 < _NEVER_MS else _NEVER_MS)


def _whole(number: int) -> str:
    return f"INT32_C({number})"
