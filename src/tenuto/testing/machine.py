"""Every state that a robot with two drivers can be in, and every way between them: the pipeline itself, explored.

Time has no part in it: ticks are so far apart that whoever sends nothing is gone, and ramps so steep that a stop takes
a tick or two. What is left of the pipeline's state is a small value (`state_of`), so there are only so many of them.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Mapping, Sequence
from enum import Enum
from itertools import product
from typing import Any, NamedTuple

from tenuto.basics.frame import Frame
from tenuto.driving.driver import StickDriver
from tenuto.driving.pipeline import Pipeline
from tenuto.driving.plan import Plan
from tenuto.driving.tick import Tick
from tenuto.switches.base import Contact

# Seconds from tick to tick: longer than any link may be silent, shorter than a stall.
PERIOD = 0.05
Values = Mapping[str, float]
# Of so many ways to a state that is known already, one is compared with the first.
_COMPARED = 500


class Move(NamedTuple):
    """One tick: what each driver sent, None for nothing; the tick before, the tick, and the state after it."""

    first: Values | None
    second: Values | None
    before: Tick
    tick: Tick


def state_of(pipeline: Pipeline) -> tuple[Any, ...]:
    """Return all that decides what a pipeline does next, where time has no part in it."""
    ranks = pipeline._ranks
    drivers = tuple(
        (
            one.held, tuple(one.away), one.seen_at_rest, one.hold_seen_off, one.reader.good is None, one._stopping,
            one.enabling is not None and (one.enabling.on, one.enabling._released), one.meaning_changed,
            tuple(map(_flags, one.selection.switches.values())),
        )
        for one in ranks.all if isinstance(one, StickDriver)
    )  # fmt: skip
    return (
        pipeline._guard.memory, tuple(round(axis, 6) for axis in pipeline._command), ranks.current.name,
        tuple(sorted(ranks._released.items())), tuple(ranks._permits.items()), ranks._untouched, drivers,
        pipeline._stop_left is None,
    )  # fmt: skip


def _flags(one: object) -> tuple[Any, ...]:
    """Return what a switch, or a contact in it, is in, but for times."""
    kept = [
        value if type(value) in (bool, int) else _flags(value)
        for name, value in vars(one).items()
        if name != "changed" and (type(value) in (bool, int) or isinstance(value, Contact))
    ]
    return tuple(kept)


_PLAIN = (str, float, int, bool, type(None))


class _Moment:
    """All that can change in a pipeline, so that it can be put back."""

    def __init__(self, root: object) -> None:
        self._kept: list[tuple[Any, Any]] = []
        seen: set[int] = set()
        waiting: list[object] = [root]
        while waiting:
            one = waiting.pop()
            if type(one) in _PLAIN or id(one) in seen or isinstance(one, Enum) or _never_changes(one):
                continue
            seen.add(id(one))
            if isinstance(one, dict):
                self._kept.append((one, one.copy()))
                waiting.extend(one.values())
            elif isinstance(one, (list, deque, set)):
                self._kept.append((one, one.copy()))
                waiting.extend(one)
            elif isinstance(one, tuple):
                waiting.extend(one)
            elif type(one).__module__.startswith("tenuto"):
                waiting.append(vars(one))

    def put_back(self) -> None:
        for one, content in reversed(self._kept):  # what is in it first, so that equal means as it was
            if one != content:
                one.clear()
                one.update(content) if isinstance(one, (dict, set)) else one.extend(content)


def _never_changes(one: object) -> bool:
    parameters = getattr(one, "__dataclass_params__", None)
    return parameters is not None and bool(parameters.frozen)


class Explorer:
    """Goes every way of a robot with two drivers, breadth first from the beginning.

    Attributes:
        states: how many there are. moves: how many ways lead from them.
    """

    def __init__(self, plan: Plan, firsts: Sequence[Values | None], seconds: Sequence[Values | None]) -> None:
        """Set what may happen.

        Args:
            plan: of a robot with one driver below the first; link timeouts shorter than `PERIOD`.
            firsts, seconds: what each of both may send at a tick; None for nothing.
        """
        self.pipeline = Pipeline(plan)
        self._second = plan.below[0].name
        self._sent = list(product(firsts, seconds))
        self.states = self.moves = 0

    def explore(self, follow: Callable[[Any, Move], Any]) -> Iterator[tuple[Any, Move]]:
        """Yield every move, with what was known before it.

        Args:
            follow: makes of what somebody who watches knew before a move what is known after it; None at the
                beginning. States that differ in it are different states.

        Raises:
            AssertionError: two ways to one state go on differently: `state_of` lacks something.
        """
        pipeline, tick = self.pipeline, self.pipeline.step(None, PERIOD)
        waiting: deque[tuple[_Moment, Tick, Any]] = deque([(_Moment(pipeline), tick, None)])
        reached = {(state_of(pipeline), None): waiting[0]}
        again = 0
        while waiting:
            moment, before, known = waiting.popleft()
            for move in self._moves(moment, before):
                yield known, move
                after, state = follow(known, move), state_of(pipeline)
                if (state, after) not in reached:
                    reached[state, after] = (_Moment(pipeline), move.tick, after)
                    waiting.append(reached[state, after])
                elif (again := again + 1) % _COMPARED == 0:
                    self._compare((_Moment(pipeline), move.tick, after), reached[state, after])
        self.states = len(reached)

    def _moves(self, moment: _Moment, before: Tick) -> Iterator[Move]:
        now = before.time + PERIOD
        for first, second in self._sent:
            moment.put_back()
            others = {self._second: Frame(now, second)} if second is not None else {}
            tick = self.pipeline.step(Frame(now, first) if first is not None else None, now, others=others)
            self.moves += 1
            yield Move(first, second, before, tick)

    def _compare(self, one: tuple[_Moment, Tick, Any], other: tuple[_Moment, Tick, Any]) -> None:
        """Make sure that both are one state: whatever comes next, they go on alike."""
        ways = [
            [(move.tick.guard.state, move.tick.driver, state_of(self.pipeline)) for move in self._moves(*way[:2])]
            for way in (one, other)
        ]
        self.moves -= 2 * len(self._sent)
        assert ways[0] == ways[1]
