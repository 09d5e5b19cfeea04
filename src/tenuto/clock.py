"""The clocks of everything outside the core: the real one, and a simulated one that jumps from event to event."""

from __future__ import annotations

import heapq
import threading
import time
from collections.abc import Callable
from typing import Protocol


class Clock(Protocol):
    """Seconds that only go forward, from 0 at the start."""

    def now(self) -> float:
        """Return the seconds since the start."""
        ...

    def sleep_until(self, moment: float) -> None:
        """Return at that time, or at once if it has passed."""
        ...


class Timer(Clock, Protocol):
    """A clock that also makes periodic calls, such as for a sending device, and runs tasks."""

    def every(self, period: float, act: Callable[[float], None], name: str) -> Callable[[], None]:
        """Call ``act`` once a period from now on, with the elapsed seconds; return a function that ends it.

        Args:
            period: s. name: of the thread, if one is needed.
        """
        ...

    def start(self, task: Callable[[], object], name: str) -> Callable[[], None]:
        """Run a task concurrently; return a function that waits for its end, and raises its exception."""
        ...


def _seconds() -> float:
    """Read the clock that continues during a suspend, if there is one: a suspend must appear as a stall."""
    return time.clock_gettime(time.CLOCK_BOOTTIME) if hasattr(time, "CLOCK_BOOTTIME") else time.monotonic()


class MonotonicClock:
    """Real time, independent of changes of the wall clock."""

    def __init__(self) -> None:
        self._start = _seconds()

    def now(self) -> float:
        """Return the seconds since the clock was made."""
        return _seconds() - self._start

    def sleep_until(self, moment: float) -> None:
        """Sleep until that time."""
        left = moment - self.now()
        if left > 0.0:
            time.sleep(left)

    def every(self, period: float, act: Callable[[float], None], name: str) -> Callable[[], None]:
        """Call ``act`` from a thread of its own, at start, start + period, …; missed calls are left out."""
        done = threading.Event()

        def run() -> None:
            start, number = self.now(), 0
            while not done.wait(max(0.0, start + number * period - self.now())):
                act(self.now() - start)
                number = max(number + 1, int((self.now() - start) / period))

        thread = threading.Thread(target=run, name=name, daemon=True)
        thread.start()

        def end() -> None:
            done.set()
            if thread is not threading.current_thread():
                thread.join()

        return end

    def start(self, task: Callable[[], object], name: str) -> Callable[[], None]:
        """Run a task in a thread of its own."""
        raised = list[BaseException]()

        def run() -> None:
            try:
                task()
            except BaseException as error:
                raised.append(error)

        thread = threading.Thread(target=run, name=name, daemon=True)
        thread.start()

        def join() -> None:
            thread.join()
            if raised:
                raise raised.pop()

        return join


class Aligned:
    """Converts times of one clock to another one of the same rate, such as that of a loop.

    Each reading is late by a varying time: the smallest difference ever seen is the right one. So times keep
    their order, and none is later than now.
    """

    def __init__(self, clock: Callable[[], float]) -> None:
        """Take the clock of the times."""
        self._clock = clock
        self._ahead, self._asked = float("inf"), float("-inf")

    def at(self, moment: float, now: float) -> float:
        """Convert a time to the other clock, which shows ``now``, s."""
        if now < self._asked:  # another loop, whose clock starts again
            self._ahead = float("inf")
        self._asked = now
        self._ahead = min(self._ahead, self._clock() - now)
        return min(now, moment - self._ahead)


# The default clock.
REAL = MonotonicClock()


class SimulatedClock:
    """Simulated time: no wait takes real time, and events happen in the order of time.

    Several loops may share one clock: only one of them runs at a time, until it sleeps. So a program always does
    the same in the same order.
    """

    def __init__(self) -> None:
        self._now = 0.0
        self._number = 0  # first come, first served
        # The function to call at each time, or the task to continue: a sleeping task waits for its semaphore.
        self._due: list[tuple[float, int, Callable[[], object] | threading.Semaphore]] = []

    def now(self) -> float:
        """Return the simulated time."""
        return self._now

    def sleep_until(self, moment: float) -> None:
        """Advance to this time, after everything that is due before it."""
        moment = max(self._now, moment)
        if not self._due or moment < self._due[0][0]:
            self._now = moment
            return
        turn = threading.Semaphore(0)
        self._at(moment, turn)
        self._hand_over()
        turn.acquire()

    def every(self, period: float, act: Callable[[float], None], name: str = "") -> Callable[[], None]:
        """Call ``act`` periodically, from the task that advances the time."""
        start, ended = self._now, threading.Event()

        def call(number: int) -> None:
            if not ended.is_set():
                self._at(start + (number + 1) * period, lambda: call(number + 1))
                act(number * period)

        self._at(start, lambda: call(0))
        return ended.set

    def start(self, task: Callable[[], object], name: str = "") -> Callable[[], None]:
        """Run a task concurrently; it starts when the caller sleeps."""
        turn, waiting = threading.Semaphore(0), list[threading.Semaphore]()
        over, raised = threading.Event(), list[BaseException]()

        def run() -> None:
            turn.acquire()
            try:
                task()
            except BaseException as error:
                raised.append(error)
            over.set()
            for one in waiting:
                self._at(self._now, one)
            self._hand_over()

        def join() -> None:
            if not over.is_set():
                mine = threading.Semaphore(0)
                waiting.append(mine)
                self._hand_over()
                mine.acquire()
            if raised:
                raise raised.pop()

        threading.Thread(target=run, name=name or "simulated task", daemon=True).start()
        self._at(self._now, turn)
        return join

    def _at(self, moment: float, what: Callable[[], object] | threading.Semaphore) -> None:
        self._number += 1
        heapq.heappush(self._due, (moment, self._number, what))

    def _hand_over(self) -> None:
        """Advance the time until a task continues, which may be this one."""
        while self._due:
            moment, _, what = heapq.heappop(self._due)
            self._now = max(self._now, moment)
            if isinstance(what, threading.Semaphore):
                what.release()
                return
            what()
