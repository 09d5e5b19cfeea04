"""The clocks that a loop can run on: the real one, and one that jumps from tick to tick."""

from __future__ import annotations

import time
from typing import Protocol


class Clock(Protocol):
    """Seconds that only go forward, from 0 at the start."""

    def now(self) -> float:
        """Give the seconds since the start."""
        ...

    def sleep_until(self, moment: float) -> None:
        """Come back at that moment, or at once when it has passed."""
        ...


def _seconds() -> float:
    """Read the clock that goes on while the computer sleeps, where there is one: a nap must show as a stall."""
    return time.clock_gettime(time.CLOCK_BOOTTIME) if hasattr(time, "CLOCK_BOOTTIME") else time.monotonic()


class MonotonicClock:
    """Real time, which no change of the wall clock can touch."""

    def __init__(self) -> None:
        self._start = _seconds()

    def now(self) -> float:
        """Give the seconds since the clock was made."""
        return _seconds() - self._start

    def sleep_until(self, moment: float) -> None:
        """Sleep until that moment."""
        left = moment - self.now()
        if left > 0.0:
            time.sleep(left)


class SimulatedClock:
    """Simulated time: nobody waits, every moment comes at once."""

    def __init__(self) -> None:
        self._now = 0.0

    def now(self) -> float:
        """Give the simulated time."""
        return self._now

    def sleep_until(self, moment: float) -> None:
        """Let that moment be now."""
        self._now = max(self._now, moment)
