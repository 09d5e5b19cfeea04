"""Numbers of a plan as literals of C."""

from __future__ import annotations

import math

# A time that is exactly a limit is neither above nor below it: both sides of the proof count in whole ms.
_TIE_MS = 1e-6
# Below the resolution of a float.
_LEAST = 1.2e-38
# Longer than any age of a time, ms: a time that never ends is above it.
NEVER_MS = 2**30 + 1
# Times in MicroPython: their sums and differences are small integers there, which take no memory. Ages have a sign.
SMALL_TIME_BITS = 29
SMALL_NEVER_MS = 2 ** (SMALL_TIME_BITS - 1)


def literal(value: float, real: str) -> str:
    """Return a number as a literal of the type of the computation."""
    value = float(value)
    if real == "float" and abs(value) < _LEAST:
        value = 0.0
    if math.isinf(value):
        return "INFINITY" if value > 0.0 else "-INFINITY"
    text = repr(value + 0.0) if real == "double" else f"{value + 0.0:.9g}"
    if not any(mark in text for mark in ".e"):
        text += ".0"
    return text if real == "double" else f"{text}f"


def ms_above(seconds: float, never: int = NEVER_MS) -> str:
    """Return the limit in whole ms: a whole number above it is above the time in seconds."""
    return _whole(math.floor(1000.0 * seconds + _TIE_MS) if seconds * 1000.0 < never else never)


def ms_below(seconds: float, never: int = NEVER_MS) -> str:
    """Return the limit in whole ms: a whole number below it is below the time in seconds."""
    return _whole(math.ceil(1000.0 * seconds - _TIE_MS) if seconds * 1000.0 < never else never)


def _whole(number: int) -> str:
    return f"INT32_C({number})"
