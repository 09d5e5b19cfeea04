"""The way of ticks to a sink. In real time each sink has a thread: one that blocks delays only itself."""

from __future__ import annotations

import math
import threading
import time
from abc import ABC, abstractmethod
from collections import deque
from collections.abc import Collection, Sequence
from itertools import count
from typing import TypeVar

from tenuto.basics.errors import SinkError
from tenuto.basics.reasons import Code, Condition, Reason
from tenuto.clock import REAL, Clock, MonotonicClock
from tenuto.driving.guard import State
from tenuto.driving.losses import bearable
from tenuto.driving.plan import Plan
from tenuto.driving.telemetry import NO_FAR_ENDS, NOTHING_HEARD, FarEnds, Telemetry
from tenuto.driving.tick import Tick
from tenuto.sinks.base import Sink

T = TypeVar("T")

# The number of ticks that a log may be behind before it counts as failed.
MOST_WAITING = 5000
# A tick that is early by less than this is on time, s: times are sums with rounding errors.
_ROUNDING = 1e-6
# Two readings of both clocks in succession differ by less than this, s.
_JITTER = 0.05
# The longest time of all sinks together for their stop, s.
PATIENCE = 2.0


class Waiting:
    """The ticks that one sink has not taken yet: all of them for a log, only the newest for any other.

    It has no thread and no clock, so the rate of a sink is the same in simulated and in real time.
    """

    def __init__(self, sink: Sink) -> None:
        self._sink = sink
        self._items: deque[Tick | Plan] = deque()
        self._not_before = 0.0
        self._urgent = False
        self._fired_at = 0.0

    def add(self, item: Tick | Plan) -> None:
        """Store a tick, or a plan for the following ticks. Raises `SinkError` if a log is too far behind."""
        if isinstance(item, Tick):
            if not self._sink.is_log:
                item = self._with_actions_of(self.drop_newest(), item)
            elif len(self._items) >= MOST_WAITING:
                raise SinkError(f"{self._sink.name} is {MOST_WAITING} ticks behind: it has not kept up")
            urgent = not item.power or item.guard.state is State.EMERGENCY_STOP
            if urgent and not self._urgent:
                self._not_before = 0.0  # a tick that removes the power does not wait for the sink's rate
            self._urgent = urgent
        self._items.append(item)

    def take(self, now: float, *, at_once: bool = False) -> Tick | Plan | None:
        """Return what the sink must take now, or None; ``at_once`` does not wait for its rate.

        A moving command that is no longer valid, because the loop or the sink was blocked, is dropped: the far end
        stops by itself, and must not get another old command.
        """
        if not self._items or (self._not_before > now + _ROUNDING and not at_once):
            return None
        item = self._items.popleft()
        if isinstance(item, Tick) and not self._sink.is_log and now - item.time > item.valid_for and any(item.command):
            return None
        self._not_before = max(self._not_before, now - self._sink.period) + self._sink.period
        return item

    def early(self, now: float) -> float | None:
        """Return how long the sink's rate still delays the waiting tick, s; None if none waits."""
        return self._not_before - now if self._items else None

    def drop_newest(self) -> Tick | None:
        """Drop a tick that a newer one replaces, and return it."""
        if self._items and isinstance(self._items[-1], Tick):
            dropped = self._items.pop()
            return dropped if isinstance(dropped, Tick) else None
        return None

    def _with_actions_of(self, dropped: Tick | None, tick: Tick) -> Tick:
        """Keep the actions of a dropped tick, but not for long: "take off" must not come late.

        They wait for the sink's own rate, and then as long as a command is valid.
        """
        if not tick.actions and (dropped is None or not dropped.actions):
            return tick
        if dropped is None or not dropped.actions:
            self._fired_at = tick.time
            return tick
        kept = dropped.actions if 0.0 <= tick.time - self._fired_at <= tick.valid_for + self._sink.period else ()
        if not kept:
            self._fired_at = tick.time
        return tick._replace(actions=kept + tick.actions)


class Outlet(ABC):
    """Passes ticks to one sink.

    Attributes:
        sink: that gets them.
        failure: whatever left its code first. Then a log gets no more ticks, but still its stop. Any other sink gets
            the ticks of the ramp to standstill that follows, as far as it takes them, and its stop.
        stopped: it has taken its stop.
        emergency: its far end was in an emergency stop at the last check.
        bears: the share of its commands that may be lost, 0…1, by its initial plan.
    """

    def __init__(self, sink: Sink, clock: Clock) -> None:
        self.sink = sink
        self.failure: BaseException | None = None
        self.stopped = self.emergency = False
        self.bears = math.nan
        # The time of the last report of its far end, s on the clock of the sink, and on that of the ticks.
        self._heard = (-math.inf, -math.inf)
        self._clock = clock
        # A sink may outlive its drive: in real time it keeps one clock, which does not start again.
        sink.clock = REAL if isinstance(clock, MonotonicClock) else clock
        self._waiting = Waiting(sink)

    @property
    def takes_ticks(self) -> bool:
        """Whether the sink still gets ticks."""
        return self.failure is None or not self.sink.is_log

    def ask(self, name: str, otherwise: T) -> T:
        """Return an attribute of the sink, whose code may fail."""
        try:
            found: T = getattr(self.sink, name)
        except BaseException as error:
            self.failure = self.failure or error
            return otherwise
        return found

    def start(self, plan: Plan) -> None:
        """Prepare the sink for the ticks of a plan. Raises what the sink raises."""
        self._begin(plan)

    def _begin(self, plan: Plan) -> None:
        self.bears = bearable(1.0 / max(self.sink.period, plan.period), plan.guard.command_timeout)
        self.sink.start(plan)

    def heard_at(self, time: float, now: float) -> float:
        """Convert a time on the clock of the sink to that of the ticks, s; one message has one time."""
        found = now - max(0.0, self.sink.clock.now() - time)
        if time != self._heard[0] or not abs(found - self._heard[1]) < _JITTER:  # or the clock of the ticks has jumped
            self._heard = (time, found)
        return self._heard[1]

    @abstractmethod
    def give(self, item: Tick | Plan) -> None:
        """Pass a tick, or another plan for the following ticks, to the sink, without waiting."""

    @abstractmethod
    def blocked_for(self, now: float) -> float:
        """Return how long the sink has been busy with one tick, s."""

    @abstractmethod
    def stop(self, tick: Tick) -> None:
        """Pass the last tick, whose command is standstill; the sink gets it after the waiting ones."""

    @abstractmethod
    def wait(self, seconds: float) -> None:
        """Wait until the sink has taken its stop, at most for this time, s."""

    def _add(self, item: Tick | Plan) -> None:
        try:
            self._waiting.add(item)
        except SinkError as error:
            self.failure = self.failure or error

    def _hand_on(self, item: Tick | Plan) -> None:
        """Let the sink take something; an exception is passed to the loop, which decides."""
        try:
            if isinstance(item, Tick):
                self.sink.write(item)
            else:
                self._begin(item)
        except BaseException as error:
            self.failure = self.failure or error

    def _stop_sink(self, tick: Tick) -> None:
        try:
            self.sink.stop(tick)
            self.stopped = True
        except BaseException as error:
            self.failure = self.failure or error


class ThreadOutlet(Outlet):
    """Calls the sink in a thread of its own: for real time, in which a sink may block."""

    def __init__(self, sink: Sink, clock: Clock) -> None:
        super().__init__(sink, clock)
        self._last: Tick | None = None
        self._wake = threading.Condition()
        self._busy_since: float | None = None
        self._thread = threading.Thread(target=self._serve, name=f"sink {sink.name}", daemon=True)

    def start(self, plan: Plan) -> None:
        """Prepare the sink, and start its thread. Raises what the sink raises."""
        super().start(plan)
        self._thread.start()

    def give(self, item: Tick | Plan) -> None:
        """Store something for the thread."""
        with self._wake:
            if self.takes_ticks:
                self._add(item)
                self._wake.notify()

    def blocked_for(self, now: float) -> float:
        """Return how long the sink has been busy with one tick, s."""
        since = self._busy_since
        return 0.0 if since is None else now - since

    def stop(self, tick: Tick) -> None:
        """Store the last tick for the thread."""
        if not self._thread.is_alive():
            self._stop_sink(tick)
            return
        with self._wake:
            self._last = tick
            if not self.sink.is_log:
                self._waiting.drop_newest()
            self._wake.notify()

    def wait(self, seconds: float) -> None:
        """Wait for the thread; a sink that hangs has failed."""
        if self._thread.is_alive():
            self._thread.join(seconds)
        if not self.stopped and self.failure is None:
            self.failure = SinkError(f"{self.sink.name} hangs: it did not accept its stop within {seconds:.1f} s")

    def _next(self) -> Tick | Plan | None:
        """Wait for the next item of the sink; None if only its stop is left."""
        with self._wake:
            while True:
                now, ending = self._clock.now(), self._last is not None
                item = self._waiting.take(now, at_once=ending) if self.takes_ticks else None
                if item is not None or ending:
                    return item
                # A sink with its own rate gets the newest tick at that time, not the present one.
                self._wake.wait(self._waiting.early(now) if self.takes_ticks else None)

    def _serve(self) -> None:
        try:
            while (item := self._next()) is not None:
                self._busy_since = self._clock.now()
                self._hand_on(item)
                self._busy_since = None
        except BaseException as error:  # of an attribute of the sink; the loop sends the stop itself
            self.failure = self.failure or error
            return
        self._busy_since = self._clock.now()
        if self._last is not None:
            self._stop_sink(self._last)


class DirectOutlet(Outlet):
    """Calls the sink at once: for simulated time, in which nothing waits."""

    def give(self, item: Tick | Plan) -> None:
        """Let the sink take what its rate permits now."""
        if self.takes_ticks:
            self._add(item)
            self._drain(at_once=False)

    def blocked_for(self, now: float) -> float:
        """Return 0: simulated time does not pass while a sink is busy."""
        return 0.0

    def stop(self, tick: Tick) -> None:
        """Let the sink take the waiting ticks, and its stop."""
        if not self.sink.is_log:
            self._waiting.drop_newest()
        self._drain(at_once=True)
        self._stop_sink(tick)

    def wait(self, seconds: float) -> None:
        """Do nothing: the sink has had its stop."""

    def _drain(self, *, at_once: bool) -> None:
        now = self._clock.now()
        while self.takes_ticks and (item := self._waiting.take(now, at_once=at_once)) is not None:
            self._hand_on(item)


def _free_name(name: str, taken: Collection[str]) -> str:
    """Return a unique name for a far end."""
    names = (name if number == 1 else f"{name} {number}" for number in count(1))
    return next(one for one in names if one not in taken)


class Outlets:
    """All sinks of a drive."""

    def __init__(self, sinks: Sequence[Sink], clock: Clock, *, in_threads: bool) -> None:
        self._all: list[Outlet] = [(ThreadOutlet if in_threads else DirectOutlet)(sink, clock) for sink in sinks]

    def start(self, plan: Plan) -> None:
        """Prepare all sinks. Raises what one of them raises."""
        for outlet in self._all:
            outlet.start(plan)

    def change(self, plan: Plan) -> None:
        """Pass another plan to all sinks, for the following ticks."""
        for outlet in self._all:
            outlet.give(plan)

    def give(self, tick: Tick) -> None:
        """Pass a tick to every sink."""
        for outlet in self._all:
            outlet.give(tick)

    def look(self, now: float, plan: Plan) -> tuple[tuple[Reason, ...], tuple[Reason, ...]]:
        """Return the faults (a blocked sink), and the notices (a failed log)."""
        faults: tuple[Reason, ...] = ()
        notices: tuple[Reason, ...] = ()
        for outlet in self._all:
            name = outlet.sink.name
            if outlet.failure is not None and outlet.sink.is_log and plan.guard.goes_on_without_log:
                notices += (Reason(Code.LOG_FAILED, f"{outlet.failure}: the drive continues without a log"),)
            if problem := outlet.ask("problem", ""):
                notices += (Reason(Code.FAR_END, problem),)
            blocked = outlet.blocked_for(now)
            if blocked > plan.guard.command_timeout and not outlet.sink.is_log:
                faults += (
                    Condition(
                        Code.SINK_BLOCKED,
                        f"{name} has accepted nothing for {blocked:.2f} s",
                        f"{name} accepted nothing for {blocked:.2f} s",
                    ),
                )
        return faults, notices

    def far_ends(self, now: float) -> FarEnds:
        """Return the last reports of the far ends, with times on the clock of the ticks; ``now`` in s on that clock."""
        found: dict[str, Telemetry] = {}
        for outlet in self._all:
            sink = outlet.sink
            if sink.says:
                heard = outlet.ask("telemetry", NOTHING_HEARD)
                found[_free_name((sink.label or sink.name).replace(".", "_"), found)] = heard._replace(
                    time=outlet.heard_at(heard.time, now), says=sink.says, bears=outlet.bears
                )
        return found or NO_FAR_ENDS

    def new_emergencies(self) -> list[str]:
        """Describe far ends that have just entered an emergency stop: an old report must not undo a reset."""
        new: list[str] = []
        for outlet in self._all:
            why = outlet.ask("emergency", "")
            if why and not outlet.emergency:
                new.append(why)
            outlet.emergency = bool(why)
        return new

    def fatal(self, plan: Plan) -> tuple[BaseException, str] | None:
        """Return the first failure that ends the drive, and its text."""
        lenient = plan.guard.goes_on_without_log
        for outlet in self._all:
            if outlet.failure is not None and not (outlet.sink.is_log and lenient):
                return outlet.failure, f"{outlet.sink.name} failed: {outlet.failure}"
        return None

    def failed_logs(self) -> list[str]:
        """List the failed logs."""
        return [str(outlet.failure) for outlet in self._all if outlet.failure is not None and outlet.sink.is_log]

    def stop(self, tick: Tick) -> None:
        """Send every sink its stop at once, and wait for all of them together, at most `PATIENCE`."""
        for outlet in self._all:
            outlet.stop(tick)
        until = time.monotonic() + PATIENCE
        for outlet in self._all:
            outlet.wait(max(until - time.monotonic(), 0.0))
