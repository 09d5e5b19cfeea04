"""The conditions at a far end, from a profile."""

from __future__ import annotations

import math
from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class NeedsPlan:
    """The conditions for every far end that reports the value; at least one must report it. Defaults: no condition.

    Attributes:
        answers: the longest that a far end may be silent, s. armed: its motors must be armed.
        modes: the permitted modes. position: its position must be known.
        voltage_above: V. charge_above: 0…1. height_below: m.
        within: how far it may be from the origin of its position, in the plane, m.
        height_from: the least height for an enable, m; it ends no drive, so that the robot can land.
    """

    answers: float = math.inf
    armed: bool = False
    modes: tuple[str, ...] = ()
    position: bool = False
    voltage_above: float = -math.inf
    charge_above: float = -math.inf
    height_below: float = math.inf
    within: float = math.inf
    height_from: float = -math.inf

    @property
    def wanted(self) -> tuple[str, ...]:
        """The keys with a condition, in their order."""
        return tuple(name for name, default in _DEFAULTS.items() if getattr(self, name) != default)

    def unsaid(self, says: frozenset[str]) -> list[str]:
        """Name the keys that a far end which reports only these values does not report."""
        return [name for name in self.wanted if not SAID_BY[name] <= says]


SAID_BY: dict[str, frozenset[str]] = {
    "answers": frozenset(),
    "armed": frozenset(("armed",)),
    "modes": frozenset(("mode",)),
    "position": frozenset(("x", "y")),
    "voltage_above": frozenset(("voltage",)),
    "charge_above": frozenset(("charge",)),
    "height_below": frozenset(("height",)),
    "within": frozenset(("x", "y", "heading")),
    "height_from": frozenset(("height",)),
}
NOTHING_NEEDED = NeedsPlan()
_DEFAULTS = {name: getattr(NOTHING_NEEDED, name) for name in SAID_BY}
