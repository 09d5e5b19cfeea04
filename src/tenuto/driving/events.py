"""Events derived from ticks, for a record: who enabled it, why it stopped, what was selected."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import fields, is_dataclass
from typing import Any, NamedTuple

from tenuto.basics.reasons import Code
from tenuto.driving.guard import State
from tenuto.driving.plan import Plan
from tenuto.driving.tick import Tick
from tenuto.vehicles.velocity import STANDSTILL

# The event of a changed plan lists this many keys at most.
_MOST_KEYS = 8
# The notices that are events.
_NOTED = (Code.NOTE, Code.PROFILE_REFUSED, Code.NOT_GIVEN, Code.ACTION_REFUSED, Code.LOG_FAILED, Code.INHIBIT_SLOWS)


class Happening(NamedTuple):
    """One thing that happened.

    Attributes:
        time: s, as of the tick. what: "driving", another state of the guard, "stands", "driver", "chosen", "power",
            "action", "notice" or "profile". text: in words.
    """

    time: float
    what: str
    text: str


class EventFinder:
    """Derives the events from consecutive ticks."""

    def __init__(self) -> None:
        self._before: Tick | None = None
        self._plan: Plan | None = None
        self._noted: frozenset[str] = frozenset()
        self._stopped_at = 0.0

    def start(self, plan: Plan) -> str:
        """Take the plan of the following ticks, and return its changes; empty for the first."""
        before, self._plan = self._plan, plan
        if before is None:
            return ""
        changes = list(plan_changes(before, plan))
        more = f"; {len(changes) - _MOST_KEYS} more" if len(changes) > _MOST_KEYS else ""
        return "; ".join(changes[:_MOST_KEYS]) + more if changes else "nothing that is driven by"

    def step(self, tick: Tick) -> list[Happening]:
        """Return the events of this tick."""
        before, self._before = self._before, tick
        found = [*self._guard(before, tick), *self._chosen(before, tick), *self._noticed(tick)]
        return [Happening(tick.time, what, text) for what, text in found]

    def _guard(self, before: Tick | None, tick: Tick) -> Iterator[tuple[str, str]]:
        state, was = tick.guard.state, before.guard.state if before is not None else None
        if state is State.DRIVING:
            self._stopped_at = tick.time
        why = "; ".join(reason.text for reason in tick.guard.reasons)
        if state is not was:
            yield str(state), f"{tick.driver} drives" if state is State.DRIVING else why
        elif before is not None and _codes(before) != _codes(tick):
            yield str(state), why
        if before is None:
            return
        if before.driver != tick.driver:
            yield "driver", f"{tick.driver}, before it {before.driver}"
        if before.power != tick.power:
            yield "power", "on" if tick.power else "off"
        if before.command != STANDSTILL and tick.command == STANDSTILL and state is not State.DRIVING:
            yield "stands", f"{tick.time - self._stopped_at:.2f} s after the last tick of driving"

    @staticmethod
    def _chosen(before: Tick | None, tick: Tick) -> Iterator[tuple[str, str]]:
        if before is None:
            return
        for name, was, now in zip(tick.chosen._fields, before.chosen, tick.chosen, strict=True):
            if was != now and name != "switches":
                yield "chosen", f"{name} {_shown(was)} → {_shown(now)}"

    def _noticed(self, tick: Tick) -> Iterator[tuple[str, str]]:
        for action in tick.actions:
            yield "action", action
        noted = [notice for notice in tick.notices if notice.code in _NOTED]
        for notice in noted:
            if notice.code not in self._noted:
                yield "notice", notice.text
        self._noted = frozenset(notice.code for notice in noted)


def _codes(tick: Tick) -> list[str]:
    """Return the codes of the stop reasons, without the positions of the sticks."""
    return [reason.code for reason in tick.guard.reasons if reason.code != Code.NOT_AT_REST]


def plan_changes(before: Any, after: Any, place: str = "") -> Iterator[str]:
    """List what differs between two plans, as ``guard.link_timeout 0.3 → 0.5``."""
    if is_dataclass(before) and type(before) is type(after):
        for field in fields(before):
            inner = f"{place}.{field.name}" if place else field.name
            yield from plan_changes(getattr(before, field.name), getattr(after, field.name), inner)
    elif isinstance(before, tuple) and isinstance(after, tuple) and len(before) == len(after):
        for row, (one, other) in enumerate(zip(before, after, strict=True)):
            name = getattr(one, "name", "") or str(row)
            yield from plan_changes(one, other, f"{place}.{name}")
    elif before != after:
        yield f"{place} {_shown(before)} → {_shown(after)}"


def _shown(value: Any) -> str:
    if isinstance(value, float):
        return f"{value:g}" if math.isfinite(value) else "none"
    return str(value) if isinstance(value, (int, str)) and value != "" else "other" if value else "none"
