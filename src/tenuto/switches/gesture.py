"""Sticks that are held in a position for a time."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar, Literal

from tenuto.basics.frame import ROUNDING_TIME
from tenuto.kinds.options import option
from tenuto.kinds.quantities import TIME
from tenuto.switches.base import Operated, Switch, SwitchFacts, SwitchOptions, SwitchPlan

# The thresholds of "high" and "low" for a stick in a gesture, and of "low" for a lever: shares of the travel.
GESTURE_FAR, LEVER_LOW = 0.8, 0.1


@dataclass(frozen=True, kw_only=True)
class GesturePlan(SwitchPlan):
    """Sticks that are held in a position for a time.

    Attributes:
        sticks: control, "low" or "high", and whether it is a lever, which rests at its low end.
        time: the duration, s.
    """

    sticks: tuple[tuple[str, str, bool], ...]
    time: float = 1.0

    def make(self) -> Switch:
        """Make the switch."""
        return _Gesture(self)

    def operated(self) -> Operated:
        """Describe how long the sticks are held there."""
        ((on, off),) = super().operated().presses
        return Operated(f"held for {self.time:g} s", ((self.time + on, off),))

    def asked(self) -> str:
        """Describe to hold the sticks there."""
        held = " and ".join(f"{name} {where}" for name, where, _ in self.sticks)
        return f"hold {held} for {self.time:g} s"

    def held_at(self) -> Mapping[str, float]:
        """Return the end of each stick."""
        return {name: 1.0 if where == "high" else 0.0 if lever else -1.0 for name, where, lever in self.sticks}


class _Gesture(Switch):
    def __init__(self, plan: GesturePlan) -> None:
        super().__init__(plan)
        self._plan = plan
        self._since: float | None = None
        self._blocked = True

    def _next(self, positions: Mapping[str, float], time: float) -> int:
        there = all(_is_at(positions[name], where, lever) for name, where, lever in self._plan.sticks)
        if not there:
            self._blocked, self._since = False, None
            return 0
        if self._blocked and not self.at_start:
            return 0
        self._since = time if self._since is None else self._since
        return int(time - self._since >= self._plan.time - ROUNDING_TIME)


def _is_at(position: float, where: str, lever: bool) -> bool:
    if where == "high":
        return position >= GESTURE_FAR
    return position <= (LEVER_LOW if lever else -GESTURE_FAR)


@dataclass(frozen=True, kw_only=True)
class GestureOptions(SwitchOptions):
    """Sticks that are held in a position for a time."""

    kind: ClassVar[str] = "gesture"
    returns: ClassVar[bool] = True
    sticks: dict[str, Literal["low", "high"]] = option(
        'controls and where they are held, such as { climb = "low", turn = "high" }', fewest=1
    )
    time: float = option('a time, such as "1 s"', 1.0, dimension=TIME)

    def controls(self) -> list[tuple[str, str]]:
        """List the sticks."""
        return [("sticks", name) for name in self.sticks]

    def plan(self, name: str, facts: SwitchFacts) -> GesturePlan:
        """Return the plan of the switch."""
        sticks = tuple((stick, where, facts.control(stick).one_way) for stick, where in self.sticks.items())
        return GesturePlan(name=name, debounce=self.debounce, at_start=self.at_start, sticks=sticks, time=self.time)
