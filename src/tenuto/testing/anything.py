"""Random valid options of any kind, made from the descriptions of its fields."""

from __future__ import annotations

from dataclasses import MISSING, Field, fields, is_dataclass
from functools import cache
from types import NoneType, UnionType
from typing import Any, Literal, TypeVar, Union, get_args, get_origin, get_type_hints

from hypothesis import strategies as st

from tenuto.kinds.options import About, about
from tenuto.vehicles.velocity import VelocityCommand

T = TypeVar("T")
# The range of values of each dimension, in SI: from a toy to a tractor.
_RANGES = {
    "length": (0.05, 3.0), "speed": (0.1, 8.0), "turning speed": (0.2, 30.0), "acceleration": (0.2, 8.0),
    "turning acceleration": (0.3, 20.0), "jerk": (0.5, 30.0), "turning jerk": (1.0, 60.0), "angle": (0.05, 1.2),
    "force": (1.0, 200.0), "time": (0.02, 2.0), "frequency": (5.0, 200.0),
}  # fmt: skip
_NAMES = ("left", "right", "front", "rear")


def any_options(kind: type[T], **said: Any) -> st.SearchStrategy[T]:
    """Draw options of a kind: everything that its table in a profile accepts, within the range of robots.

    Args:
        kind: a dataclass of options. said: options with fixed values.

    A name of a control or a switch is the name of its option; an option that may be left out sometimes is.
    """
    options: Any = kind
    return st.builds(kind, **(_drawn(options) | {name: st.just(value) for name, value in said.items()}))


@cache  # Hypothesis examines a strategy at its first use, which takes longer than to draw from it.
def _drawn(kind: Any) -> dict[str, st.SearchStrategy[Any]]:
    """Return the strategies for each option of a kind."""
    hints = get_type_hints(kind)
    return {one.name: _optional(one, _any(hints[one.name], about(one), one.name)) for one in fields(kind)}


def any_velocity(most: float = 3.0) -> st.SearchStrategy[VelocityCommand]:
    """Draw a velocity; each part is zero, or not negligible."""
    part = st.floats(-most, most).filter(lambda value: value == 0.0 or abs(value) > 1e-3)
    return st.builds(VelocityCommand, part, part, part, part)


def _optional(one: Field[Any], drawn: st.SearchStrategy[Any]) -> st.SearchStrategy[Any]:
    if one.default is not MISSING:
        return st.just(one.default) | drawn
    return drawn if one.default_factory is MISSING else st.builds(one.default_factory) | drawn


def _any(hint: Any, said: About, name: str) -> st.SearchStrategy[Any]:
    origin, parts = get_origin(hint), get_args(hint)
    if origin in (Union, UnionType):
        return st.one_of(*(_any(part, said, name) for part in parts))
    if origin is Literal:
        return st.sampled_from(parts)
    if origin is tuple:
        return st.lists(_any(parts[0], said, name), min_size=said.fewest or 0, max_size=5).map(tuple)
    if origin is dict:
        keys, values = _any_key(parts[0]), _any(parts[1], said, name)
        return st.dictionaries(keys, values, min_size=said.fewest or 1, max_size=len(_NAMES))
    if is_dataclass(hint):
        return any_options(hint)  # type: ignore[arg-type]
    plain: dict[Any, st.SearchStrategy[Any]] = {
        str: st.just(name), bool: st.booleans(), NoneType: st.none(), float: _any_float(said),
        int: st.integers(int(said.low or 1), int(said.high or 115_200)),
    }  # fmt: skip
    return plain[hint]


def _any_key(hint: Any) -> st.SearchStrategy[str]:
    return st.sampled_from(get_args(hint) if get_origin(hint) is Literal else _NAMES)


def _any_float(said: About) -> st.SearchStrategy[float]:
    """Draw a number to a thousandth, as a tape measure gives it."""
    if said.dimension is not None:
        low, high = _RANGES[said.dimension.name]
        return (st.floats(-high, high) if said.signed else st.floats(low, high)).map(lambda value: round(value, 3))
    low = said.low if said.low is not None else 0.001 if said.above is not None else -100.0
    high = said.high if said.high is not None else 100.0
    return st.floats(low, high).map(lambda value: min(max(round(value, 3), low), high))
