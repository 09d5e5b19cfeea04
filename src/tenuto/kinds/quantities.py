"""Quantities: dimensions, their units in SI, and the other units that people write."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Refused:
    """A quantity that cannot be read, for a reason elsewhere in the profile: it replaces the text.

    Attributes:
        text: as written. why: the reason, with what to do.
    """

    text: str
    why: str

    def __str__(self) -> str:
        return f'"{self.text}"'


@dataclass(frozen=True, slots=True)
class Dimension:
    """A dimension, its unit in SI, and the other units that are accepted (unit → factor to SI)."""

    name: str
    unit: str
    others: dict[str, float]

    def units(self) -> dict[str, float]:
        """Return every unit of the dimension with its factor to SI."""
        return {self.unit: 1.0, **self.others}


_DEG = math.pi / 180.0
_INCH, _FOOT = 0.0254, 0.3048
LENGTH = Dimension("length", "m", {"cm": 0.01, "mm": 0.001, "in": _INCH, "ft": _FOOT})
TIME = Dimension("time", "s", {"ms": 0.001})
FREQUENCY = Dimension("frequency", "Hz", {"kHz": 1000.0})
SPEED = Dimension(
    "speed", "m/s", {"cm/s": 0.01, "mm/s": 0.001, "km/h": 1 / 3.6, "in/s": _INCH, "ft/s": _FOOT, "mph": 0.44704}
)
TURN_SPEED = Dimension("turning speed", "rad/s", {"deg/s": _DEG, "rev/min": math.tau / 60, "rev/s": math.tau})
ACCELERATION = Dimension("acceleration", "m/s^2", {"cm/s^2": 0.01, "mm/s^2": 0.001, "in/s^2": _INCH, "ft/s^2": _FOOT})
TURN_ACCELERATION = Dimension("turning acceleration", "rad/s^2", {"deg/s^2": _DEG, "rev/s^2": math.tau})
JERK = Dimension("jerk", "m/s^3", {"cm/s^3": 0.01, "mm/s^3": 0.001})
TURN_JERK = Dimension("turning jerk", "rad/s^3", {"deg/s^3": _DEG, "rev/s^3": math.tau})
ANGLE = Dimension("angle", "rad", {"deg": _DEG})
FORCE = Dimension("force", "N", {"kN": 1000.0, "lbf": 4.4482216152605})
VOLTAGE = Dimension("voltage", "V", {"mV": 0.001})
# Shares of full, for a vehicle without measures.
SHARE = Dimension("share", "full", {"%": 0.01})
DIMENSIONS = (
    SHARE,
    ANGLE,
    FORCE,
    VOLTAGE,
    LENGTH,
    TIME,
    FREQUENCY,
    SPEED,
    TURN_SPEED,
    ACCELERATION,
    TURN_ACCELERATION,
    JERK,
    TURN_JERK,
)

_QUANTITY = re.compile(r"\s*([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)\s*(\S.*?)?\s*")
# Other spellings of the same unit.
_SPELLINGS = {
    "°": "deg",
    "²": "^2",
    "s2": "s^2",
    "³": "^3",
    "s3": "s^3",
    "rpm": "rev/min",
    "metres": "m",
    "seconds": "s",
    "hz": "Hz",
}


def parse_quantity(value: object, dimension: Dimension, *, signed: bool = False) -> float:
    """Read a quantity, as a number in SI or as text with a unit; above zero if it is not ``signed``.

    Raises:
        ValueError: it is neither, its unit is of another dimension, or it is not a
            finite number above zero. The text describes what is expected.
    """
    if isinstance(value, Refused):
        raise ValueError(value.why)
    if isinstance(value, bool) or not isinstance(value, (int, float, str)):
        raise ValueError(f'write it like 1.0 or "1.0 {dimension.unit}"')
    number, unit = _split(value, dimension)
    if unit not in dimension.units():
        for other in DIMENSIONS:
            if unit in other.units():
                raise ValueError(f"{unit} is {a(other.name)}; {a(dimension.name)} is needed")
        raise ValueError(f"units for a {dimension.name} are {', '.join(dimension.units())}")
    result = number * dimension.units()[unit]
    if not (math.isfinite(result) and (signed or result > 0.0)):
        raise ValueError("it must be finite" if signed else "it must be finite and above zero")
    return result


def a(name: str) -> str:
    """Add the article to a name: "a speed", "an acceleration"."""
    return f"{'an' if name[0] in 'aeiou' else 'a'} {name}"


def _as_float(value: float) -> float:
    try:
        return float(value)
    except OverflowError:  # a whole number of hundreds of digits
        return math.inf


def _split(value: float | str, dimension: Dimension) -> tuple[float, str]:
    if not isinstance(value, str):
        return _as_float(value), dimension.unit
    match = _QUANTITY.fullmatch(value)
    if match is None:
        raise ValueError(f'write it like "1.0 {dimension.unit}"')
    if match[2] is None:
        raise ValueError(f"its unit is missing: one of {', '.join(dimension.units())}")
    unit = match[2].replace(" ", "")
    if unit not in dimension.units():
        for spelling, plain in _SPELLINGS.items():
            unit = unit.replace(spelling, plain)
    return float(match[1]), unit
