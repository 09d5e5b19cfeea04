"""The way to a far end and back: how long an answer takes, and how many commands are lost."""

from __future__ import annotations

import math
from collections import deque

# Loss is counted over the last so many seconds, and over so many commands at least; so many answers are looked back at.
_WINDOW, _FEWEST, _ANSWERS = 2.0, 5, 8
# So many commands are remembered that were not answered yet.
_MOST = 256


class Way:
    """What commands with a counter, and answers that repeat it, tell of the way between.

    Attributes:
        round_trip: from a command to the answer that repeats it, s: the shortest of the last few, for a far end that
            answers at times of its own waits before it does. NaN before the first.
        loss: the share of commands that did not arrive lately, 0…1; NaN while too few were sent.
    """

    def __init__(self) -> None:
        self.round_trip = self.loss = math.nan
        self._sent = 0
        # Counter → number of the command, and when it was sent.
        self._by_counter: dict[int, tuple[int, float]] = {}
        # When, the number of the command that was answered, and how many had come there.
        self._answered: deque[tuple[float, int, int]] = deque()
        self._took: deque[float] = deque(maxlen=_ANSWERS)

    def sent(self, counter: int, now: float) -> None:
        """Record a command; ``now`` in s."""
        self._sent += 1
        self._by_counter[counter] = (self._sent, now)
        while len(self._by_counter) > _MOST:
            self._by_counter.pop(next(iter(self._by_counter)))

    def answered(self, counter: int, came: int, now: float, modulo: int = 2**32) -> None:
        """Take note of an answer; one that repeats an earlier command says nothing new of the way.

        Args:
            counter: of the newest command that has come there. came: how many have, modulo ``modulo``. now: s.
        """
        number, sent_at = self._by_counter.get(counter, (0, now))
        last = self._answered[-1] if self._answered else None
        if not number or (last is not None and number <= last[1]):
            return
        self._took.append(now - sent_at)
        self.round_trip = min(self._took)
        if last is not None and (came - last[2]) % modulo > number - last[1]:
            self._answered.clear()  # the far end was started again, and counts from 0 again
        self._answered.append((now, number, came))
        while len(self._answered) > 2 and self._answered[1][0] < now - _WINDOW:
            self._answered.popleft()
        _, first, had = self._answered[0]
        if number - first >= _FEWEST:
            self.loss = max(0.0, 1.0 - (came - had) % modulo / (number - first))
