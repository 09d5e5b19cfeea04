"""Switches: positions made of buttons, of channels that are really numbers, and of what sticks do over time.

A switch is stepped with the positions of all controls and the time of their frame, and gives its position: 0, 1, 2, …
Only a good frame steps it, so a silent link presses nothing. What a switch is at start-up does not count as moved.
"""

from __future__ import annotations

import math
from bisect import bisect_left
from collections.abc import Mapping
from dataclasses import dataclass
from itertools import pairwise

# From where a stick counts as "high" or "low" in a gesture, and a lever as "low": shares of the travel.
GESTURE_FAR, LEVER_LOW = 0.8, 0.1


@dataclass(frozen=True, slots=True)
class SwitchPlan:
    """How a switch is made.

    Attributes:
        name: the builder's own name for it.
        kind: "momentary" (1 while pressed), "latch" (a press on, a press off), "held" (1 once pressed for ``time``),
            "double" (1 while pressed a second time within ``time``), "cycle" (a press goes on to the next of
            ``count`` positions), "positions" (where a control with several positions stands), or "gesture"
            (1 once the sticks have been where ``gesture`` says for ``time``).
        reads: the control that it reads; empty for a gesture.
        time: s. count: how many positions it has.
        thresholds: between the positions of the control, rising; of kind "positions".
        on_above, off_below: where the other kinds count as pressed and as released.
        hysteresis: how far beyond a threshold it must be to change, of kind "positions".
        debounce: s that a change must last to count.
        gesture: control → "low" or "high", and whether the control is a lever, which rests at its low end.
        at_start: its position at start-up counts as moved there.
    """

    name: str
    kind: str = "momentary"
    reads: str = ""
    time: float = 1.0
    count: int = 2
    thresholds: tuple[float, ...] = ()
    on_above: float = 0.6
    off_below: float = 0.4
    hysteresis: float = 0.0
    debounce: float = 0.03
    gesture: tuple[tuple[str, str, bool], ...] = ()
    at_start: bool = False


class Switch:
    """One switch under way.

    Attributes:
        position: 0, 1, 2, …
        changed: whether its position changed with this step.
    """

    def __init__(self, plan: SwitchPlan) -> None:
        self.plan = plan
        self.position = 0
        self.changed = False
        self._seen = False
        # A reading at which nothing happens, however long it lasts: most switches rest most of the time.
        self._calm_at = math.nan

    def step(self, positions: Mapping[str, float], time: float) -> None:
        """Take the positions of all controls, −1…1 or 0…1, at a time in s."""
        if self.plan.reads and positions[self.plan.reads] == self._calm_at:
            self.changed = False
            return
        before, first = self.position, not self._seen
        self._seen = True
        self.position = self._next(positions, time)
        self.changed = self.position != before and (not first or self.plan.at_start)

    def _next(self, positions: Mapping[str, float], time: float) -> int:
        raise NotImplementedError

    @property
    def pressed(self) -> bool:
        """Whether it was switched on with this step: what fires an action."""
        return self.changed and self.position > 0


class _Contact:
    """An on/off reading with hysteresis that must last to count; pressed at start-up it must be released first."""

    def __init__(self, plan: SwitchPlan) -> None:
        self._on_above, self._off_below, self._debounce = plan.on_above, plan.off_below, plan.debounce
        self._blocked = not plan.at_start
        self._raw = self.on = False
        self._since = float("-inf")

    @property
    def at_rest(self) -> bool:
        """Whether it is released, and nothing is under way."""
        return not (self._blocked or self._raw or self.on)

    def step(self, value: float, time: float) -> bool:
        """Take a reading; tell whether it has just been pressed."""
        raw = value > self._on_above or (self._raw and value >= self._off_below)
        if raw != self._raw:
            self._raw, self._since = raw, time
        if self._blocked:
            self._blocked = raw or time - self._since < self._debounce
            return False
        if raw == self.on or time - self._since < self._debounce:
            return False
        self.on = raw
        return raw


class _Momentary(Switch):
    def __init__(self, plan: SwitchPlan) -> None:
        super().__init__(plan)
        self._contact = _Contact(plan)

    def _next(self, positions: Mapping[str, float], time: float) -> int:
        contact, value = self._contact, positions[self.plan.reads]
        pressed = contact.step(value, time)
        self._calm_at = value if contact.at_rest else math.nan
        return self._after(pressed, contact.on, time)

    def _after(self, pressed: bool, on: bool, time: float) -> int:
        return int(on)


class _Latch(_Momentary):
    def _after(self, pressed: bool, on: bool, time: float) -> int:
        return 1 - self.position if pressed else self.position


class _Cycle(_Momentary):
    def _after(self, pressed: bool, on: bool, time: float) -> int:
        return (self.position + 1) % self.plan.count if pressed else self.position


class _Held(_Momentary):
    _since = 0.0

    def _after(self, pressed: bool, on: bool, time: float) -> int:
        if pressed:
            self._since = time
        return int(on and time - self._since >= self.plan.time)


class _Double(_Momentary):
    _before = float("-inf")
    _second = False

    def _after(self, pressed: bool, on: bool, time: float) -> int:
        if pressed:
            self._second = time - self._before <= self.plan.time
            # A third press begins a new pair.
            self._before = float("-inf") if self._second else time
        return int(on and self._second)


class _Positions(Switch):
    _candidate: int | None = None
    _since = 0.0

    def _next(self, positions: Mapping[str, float], time: float) -> int:
        value, plan, now = positions[self.plan.reads], self.plan, self._candidate
        found = bisect_left(plan.thresholds, value)
        if now is None:
            self._candidate = found
            return found
        if found != now:
            edge = plan.thresholds[now if found > now else now - 1]
            if abs(value - edge) >= plan.hysteresis:
                self._candidate, self._since = found, time
                now = found
        return now if time - self._since >= plan.debounce else self.position


class _Gesture(Switch):
    _since: float | None = None
    _blocked = True

    def _next(self, positions: Mapping[str, float], time: float) -> int:
        there = all(_is_at(positions[name], where, lever) for name, where, lever in self.plan.gesture)
        if not there:
            self._blocked, self._since = False, None
            return 0
        if self._blocked and not self.plan.at_start:
            return 0
        self._since = time if self._since is None else self._since
        return int(time - self._since >= self.plan.time)


def _is_at(position: float, where: str, lever: bool) -> bool:
    if where == "high":
        return position >= GESTURE_FAR
    return position <= (LEVER_LOW if lever else -GESTURE_FAR)


_KINDS: dict[str, type[Switch]] = {
    "momentary": _Momentary, "latch": _Latch, "held": _Held, "double": _Double, "cycle": _Cycle,
    "positions": _Positions, "gesture": _Gesture,
}  # fmt: skip


def make_switch(plan: SwitchPlan) -> Switch:
    """Make the switch that a plan describes."""
    return _KINDS[plan.kind](plan)


def thresholds_between(places: tuple[float, ...]) -> tuple[float, ...]:
    """Give the thresholds half-way between the positions of a switch, which rise."""
    return tuple((low + high) / 2.0 for low, high in pairwise(places))
