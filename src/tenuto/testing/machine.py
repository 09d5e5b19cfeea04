"""All states of a robot with two drivers, and all transitions: the pipeline itself, explored.

Time is left out: ticks are so far apart that a silent driver is lost, and ramps so steep that a stop takes
a tick or two. The remaining state of the pipeline is a small value (`state_of`), so the number of states is small.
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

# Seconds between ticks: longer than any link timeout, shorter than a stall.
PERIOD = 0.05
Values = Mapping[str, float]
# Of this many transitions to a known state, one is compared with the first.
_COMPARED = 500


class Move(NamedTuple):
    """One tick: the input of each driver, None for nothing; the previous tick, the tick, and the state after it."""

    first: Values | None
    second: Values | None
    before: Tick
    tick: Tick


def state_of(pipeline: Pipeline) -> tuple[Any, ...]:
    """Return everything that decides what a pipeline does next, without time."""
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
    """Return the state of a switch, or of a contact in it, without times."""
    kept = [
        value if type(value) in (bool, int) else _flags(value)
        for name, value in vars(one).items()
        if name != "changed" and (type(value) in (bool, int) or isinstance(value, Contact))
    ]
    return tuple(kept)


_PLAIN = (str, float, int, bool, type(None))


class _Moment:
    """All parts of a pipeline that can change, so that they can be restored."""

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
        for one, content in reversed(self._kept):  # the content first, so that equal means unchanged
            if one != content:
                one.clear()
                one.update(content) if isinstance(one, (dict, set)) else one.extend(content)


def _never_changes(one: object) -> bool:
    parameters = getattr(one, "__dataclass_params__", None)
    return parameters is not None and bool(parameters.frozen)


class Explorer:
    """Explores every transition of a robot with two drivers, breadth first from the initial state.

    Attributes:
        states: their number. moves: number of transitions.
    """

    def __init__(self, plan: Plan, firsts: Sequence[Values | None], seconds: Sequence[Values | None]) -> None:
        """Set the possible inputs.

        Args:
            plan: of a robot with one driver below the first; link timeouts shorter than `PERIOD`.
            firsts, seconds: the possible inputs of each driver at a tick; None for nothing.
        """
        self.pipeline = Pipeline(plan)
        self._second = plan.below[0].name
        self._sent = list(product(firsts, seconds))
        self.states = self.moves = 0

    def explore(self, follow: Callable[[Any, Move], Any]) -> Iterator[tuple[Any, Move]]:
        """Yield every transition, with the knowledge of an observer before it.

        Args:
            follow: turns the knowledge of an observer before a transition into that after it; None at the
                start. States that differ in it are different states.

        Raises:
            AssertionError: two paths to one state continue differently: `state_of` lacks something.
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
        """Check that both are one state: after any input, they continue alike."""
        ways = [
            [(move.tick.guard.state, move.tick.driver, state_of(self.pipeline)) for move in self._moves(*way[:2])]
            for way in (one, other)
        ]
        self.moves -= 2 * len(self._sent)
        assert ways[0] == ways[1]
