"""All reachable states of the guard, and all transitions."""

from __future__ import annotations

from collections import deque
from itertools import product
from typing import NamedTuple

from tenuto.driving.guard import Categories, Memory, Rules, Seen, State, advance, rules


class Way(NamedTuple):
    """One tick of the guard: from one memory to another, with its input; ``end`` if a final stop was requested."""

    before: Memory
    seen: Seen
    end: bool
    after: Memory


def explore(categories: Categories, by: Rules | None = None) -> list[Way]:
    """Return every transition of the guard, breadth first from its initial state.

    The robot moves only while it drives, or comes to standstill; otherwise it stands.

    Args:
        categories: of the stops. by: the rules; by default those of the guard.
    """
    followed = by or rules()
    begin = categories.begin()
    ways, reached, waiting = [], {begin}, deque([begin])
    while waiting:
        memory = waiting.popleft()
        ended = memory._replace(ended=True)
        for seen, end in _SEEN[memory.state]:
            after, _ = advance(ended if end else memory, seen, categories, followed)
            ways.append(Way(memory, seen, end, after))
            if after not in reached:
                reached.add(after)
                waiting.append(after)
    return ways


def _seen_in(state: State) -> list[tuple[Seen, bool]]:
    """List the possible inputs of a state, and whether a final stop is requested at the same tick."""
    begins = state in (State.NOT_ENABLED, State.WAITING_FOR_REST)  # in other states the warning is not requested
    moving = state in (State.DRIVING, State.STOPPING, State.EMERGENCY_STOP)
    found = []
    for held, category, flags in product((None, False, True), (None, 0), product((False, True), repeat=8)):
        at_rest, faulty, standing, missing, emergency, reset, end, warned = flags
        if (begins or warned) and (moving or standing) and (category is None or faulty):
            found.append((Seen(held, at_rest, faulty, standing, missing, emergency, reset, category, warned), end))
    return found


_SEEN = {state: _seen_in(state) for state in State}
