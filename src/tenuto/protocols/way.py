"""The round trip to a far end: how long an answer takes, and how many commands are lost."""

from __future__ import annotations

import math
from collections import deque

# Loss is counted over the last seconds, and over this number of commands at least; this many answers are compared.
_WINDOW, _FEWEST, _ANSWERS = 2.0, 5, 8
# The most commands without an answer that are remembered.
_MOST = 256


class Way:
    """Measures the way to a far end, from commands with a counter and answers that repeat it.

    Attributes:
        round_trip: from a command to the answer that repeats it, s: the shortest of the last few, because a far end
            that answers at fixed times waits before it does. NaN before the first.
        loss: the share of commands that did not arrive lately, 0…1; NaN while too few were sent.
    """

    def __init__(self) -> None:
        self.round_trip = self.loss = math.nan
        self._sent = 0
        # Counter → number of the command, and when it was sent.
        self._by_counter: dict[int, tuple[int, float]] = {}
        # Time, the number of the command that was answered, and how many commands had arrived.
        self._answered: deque[tuple[float, int, int]] = deque()
        self._took: deque[float] = deque(maxlen=_ANSWERS)

    def sent(self, counter: int, now: float) -> None:
        """Record a command; ``now`` in s."""
        self._sent += 1
        self._by_counter[counter] = (self._sent, now)
        while len(self._by_counter) > _MOST:
            self._by_counter.pop(next(iter(self._by_counter)))

    def answered(self, counter: int, came: int, now: float, modulo: int = 2**32) -> None:
        """Take an answer; one that repeats an earlier command gives no new round trip.

        Args:
            counter: of the newest command that arrived. came: how many arrived, modulo ``modulo``. now: s.
        """
        number, sent_at = self._by_counter.get(counter, (0, now))
        last = self._answered[-1] if self._answered else None
        if not number or (last is not None and number <= last[1]):
            return
        self._took.append(now - sent_at)
        self.round_trip = min(self._took)
        if last is not None and (came - last[2]) % modulo > number - last[1]:
            self._answered.clear()  # the far end was restarted, and counts from 0 again
        self._answered.append((now, number, came))
        while len(self._answered) > 2 and self._answered[1][0] < now - _WINDOW:
            self._answered.popleft()
        _, first, had = self._answered[0]
        if number - first >= _FEWEST:
            self.loss = max(0.0, 1.0 - (came - had) % modulo / (number - first))
