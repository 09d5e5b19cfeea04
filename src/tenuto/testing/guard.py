"""Every state of the guard that can be reached, and every way between them."""

from __future__ import annotations

from collections import deque
from itertools import product
from typing import NamedTuple

from tenuto.driving.guard import Categories, Memory, Rules, Seen, State, advance, rules


class Way(NamedTuple):
    """One tick of the guard: from one memory to another, by what was seen; ``end`` where a stop for good was asked."""

    before: Memory
    seen: Seen
    end: bool
    after: Memory


def explore(categories: Categories, by: Rules | None = None) -> list[Way]:
    """Return every way that the guard can go, breadth first from its beginning.

    A robot moves only while it drives, or comes to standstill; otherwise it stands.

    Args:
        categories: of the stops. by: the rules; those of the guard if none are given.
    """
    followed = by or rules()
    begin = categories.begin()
    ways, reached, waiting = [], {begin}, deque([begin])
    while waiting:
        memory = waiting.popleft()
        begins = memory.state in (State.NOT_ENABLED, State.WAITING_FOR_REST)  # elsewhere nobody asks for the warning
        moving = memory.state in (State.DRIVING, State.STOPPING, State.EMERGENCY_STOP)
        for held, category, flags in product((None, False, True), (None, 0), product((False, True), repeat=8)):
            at_rest, faulty, standing, missing, emergency, reset, end, warned = flags
            if not (begins or warned) or not (moving or standing) or (category is not None and not faulty):
                continue
            seen = Seen(held, at_rest, faulty, standing, missing, emergency, reset, category, warned)
            after, _ = advance(memory._replace(ended=memory.ended or end), seen, categories, followed)
            ways.append(Way(memory, seen, end, after))
            if after not in reached:
                reached.add(after)
                waiting.append(after)
    return ways
