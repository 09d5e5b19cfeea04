"""The loop: at each tick ask the source, step the pipeline, tell the sinks. And always end with a stop."""

from __future__ import annotations

import signal
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from types import FrameType

from tenuto.core.demand import STANDSTILL
from tenuto.core.errors import SourceError
from tenuto.core.frame import Frame
from tenuto.core.pipeline import Pipeline
from tenuto.core.plan import Planned
from tenuto.core.tick import Tick
from tenuto.runtime.clock import Clock, MonotonicClock
from tenuto.sinks.base import Sink
from tenuto.sources.base import Source

# A tick that starts this share of a period after its time counts as late.
LATE_FROM = 0.5


@dataclass(slots=True)
class DriveReport:
    """How a drive went, as the loop saw it.

    Attributes:
        ticks: how many were made.
        seconds: from the first tick to the last.
        late_ticks: ticks that started more than half a period after their time.
        skipped_ticks: ticks that were left out because their whole period had passed.
        worst_lateness: s.
        ended: why the drive ended, in plain words.
        trims: control → trim as the trim buttons left it.
    """

    ticks: int = 0
    seconds: float = 0.0
    late_ticks: int = 0
    skipped_ticks: int = 0
    worst_lateness: float = 0.0
    ended: str = ""
    trims: dict[str, float] = field(default_factory=dict)


def drive(
    profile: Planned,
    source: Source,
    sinks: Sequence[Sink] = (),
    *,
    clock: Clock | None = None,
    on_tick: Callable[[Tick], str | None] | None = None,
) -> DriveReport:
    """Drive until the source ends, Ctrl-C or SIGTERM comes, something fails, or ``on_tick`` says so.

    Whatever ends the drive, the robot is brought down at the profile's stopping deceleration, and the
    last thing that every sink gets is a stop. A second Ctrl-C does not wait for the ramp; a third breaks
    into whatever hangs.

    Args:
        profile: a profile, or a plan made in code.
        source: where frames come from; it stays open.
        sinks: where ticks go to; they stay open.
        clock: real time unless another one is given.
        on_tick: sees every tick; a text it returns ends the drive, with that text as the reason.

    Returns:
        How it went.

    Raises:
        SourceError: the source has not the controls that the profile reads.
        Exception: whatever a source, a sink or ``on_tick`` raised, after the robot was stopped.
    """
    return _Drive(profile, source, sinks, clock or MonotonicClock(), on_tick).run()


class _Drive:
    """One drive under way."""

    def __init__(
        self,
        profile: Planned,
        source: Source,
        sinks: Sequence[Sink],
        clock: Clock,
        on_tick: Callable[[Tick], str | None] | None,
    ) -> None:
        self.pipeline = Pipeline(profile)
        self.source = source
        self.sinks = tuple(sinks)
        self.healthy = list(sinks)
        self.clock = clock
        self.on_tick = on_tick
        self.report = DriveReport()
        self.failure: BaseException | None = None
        self.signals = 0
        self.stopping_sinks = False

    def run(self) -> DriveReport:
        plan = self.pipeline.plan
        check_controls(self.pipeline, self.source)
        with _signals_to(self._on_signal):
            try:
                for sink in self.sinks:
                    sink.start(plan)
                self._loop(plan.period)
            except BaseException as error:
                self._fail(error, f"the drive broke off: {error!r}")
            finally:
                self._stop_sinks()
        if self.failure is not None:
            raise self.failure
        return self.report

    def _loop(self, period: float) -> None:
        """Make ticks at start, start + period, start + 2·period, …: no tick's lateness moves the next."""
        start = self.clock.now()
        number = 0
        while True:
            now = self.clock.now()
            tick = self._tick(now)
            self._count(now - (start + number * period), period, now - start)
            if self.report.ended and (tick.command == STANDSTILL or self.signals > 1):
                return
            number += 1
            missed = int((self.clock.now() - start) / period) - number
            if missed > 0:
                self.report.skipped_ticks += missed
                number += missed
            self.clock.sleep_until(start + number * period)

    def _tick(self, now: float) -> Tick:
        frame = self._poll(now)
        tick = self.pipeline.step(frame, now)
        for sink in tuple(self.healthy):
            try:
                sink.write(tick)
            except Exception as error:
                self.healthy.remove(sink)
                self._fail(error, f"{sink.name} failed: {error}")
        if self.on_tick is not None:
            try:
                ended = self.on_tick(tick)
            except Exception as error:
                self.on_tick = None
                self._fail(error, f"the view of the drive failed: {error!r}")
            else:
                if ended:
                    self._end(ended)
        return tick

    def _poll(self, now: float) -> Frame | None:
        if self.failure is not None:
            return None
        try:
            frame = self.source.poll(now)
            if self.source.finished:
                self._end(f"{self.source.name} has ended")
        except Exception as error:
            self._fail(error, f"{self.source.name} failed: {error}")
            return None
        return frame

    def _count(self, lateness: float, period: float, seconds: float) -> None:
        report = self.report
        report.ticks += 1
        report.seconds = seconds
        report.worst_lateness = max(report.worst_lateness, lateness)
        if lateness > LATE_FROM * period:
            report.late_ticks += 1

    def _end(self, reason: str) -> None:
        """Ask for the ramp to standstill; the first reason given is the one that is kept."""
        self.pipeline.end(reason)
        self.report.ended = self.report.ended or reason

    def _on_signal(self, name: str) -> None:
        """First: ramp to standstill. Second: end without the ramp. Third: break into what hangs."""
        self.signals += 1
        self._end(f"{name}: stop was asked for")
        if self.signals > 2 and not self.stopping_sinks:
            raise KeyboardInterrupt

    def _fail(self, error: BaseException, reason: str) -> None:
        self.failure = self.failure or error
        self._end(reason)

    def _stop_sinks(self) -> None:
        """Give every sink its stop, whatever the others do."""
        self.stopping_sinks = True
        last = self.pipeline.halt(self.clock.now())
        self.report.trims = self.pipeline.trims
        for sink in self.sinks:
            try:
                sink.stop(last)
            except Exception as error:
                self._fail(error, f"{sink.name} failed to stop: {error}")


def check_controls(pipeline: Pipeline, source: Source) -> None:
    """Make sure that a source has what a profile reads, before anything moves. Raises `SourceError`."""
    known = [info.name for info in source.controls()]
    needed = [(reads, control.name) for control in pipeline.plan.controls for reads in control.all_reads]
    missing = [pair for pair in needed if pair[0] not in known]
    if missing:
        wanted = ", ".join(f"{reads} (for {name})" for reads, name in missing)
        raise SourceError(f"{source.name} has no {wanted}; it has {', '.join(known)}")


@contextmanager
def _signals_to(handle: Callable[[str], None]) -> Iterator[None]:
    """Hand Ctrl-C, SIGTERM and a terminal that hangs up to a function, by name.

    Only the main thread can; elsewhere nothing is done.
    """
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    names = {signal.SIGINT: "Ctrl-C", signal.SIGTERM: "SIGTERM"}
    if hasattr(signal, "SIGHUP"):
        names[signal.SIGHUP] = "the terminal has gone"

    def on_signal(number: int, _: FrameType | None) -> None:
        handle(names[signal.Signals(number)])

    before = {number: signal.signal(number, on_signal) for number in names}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
