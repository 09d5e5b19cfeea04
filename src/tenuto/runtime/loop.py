"""The loop: at each tick it polls the source, steps the pipeline and writes to the sinks. Its end is always a stop."""

from __future__ import annotations

import signal
import threading
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from types import FrameType

from tenuto.basics.errors import SinkError, SourceError
from tenuto.basics.frame import Frame
from tenuto.basics.reasons import Code, Reason
from tenuto.clock import Clock, MonotonicClock
from tenuto.driving.changeover import Changeover
from tenuto.driving.cues import Cues
from tenuto.driving.input_plan import frames_of
from tenuto.driving.pipeline import Pipeline
from tenuto.driving.plan import Plan, Planned
from tenuto.driving.telemetry import FarEnds
from tenuto.driving.tick import Tick
from tenuto.runtime.handle import DriveHandle
from tenuto.runtime.outlet import Outlets
from tenuto.sinks.base import Sink
from tenuto.sources.base import Source
from tenuto.sticks.control import ControlPlan
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# A tick that starts this share of a period after its time counts as late.
LATE_FROM = 0.5


@dataclass(slots=True)
class DriveReport:
    """The report of a drive from the loop.

    Attributes:
        ticks: their number.
        seconds: from the first tick to the last.
        late_ticks: ticks that started more than half a period after their time.
        skipped_ticks: ticks that were skipped because their whole period had passed.
        worst_lateness: s.
        over_budget_ticks: ticks whose computation took longer than a period. worst_tick: the longest, s.
        failed_logs: logs that failed without stopping the drive, in words.
        ended: why the drive ended, in words.
        trims: control → trim at the end, as set by its buttons.
    """

    ticks: int = 0
    seconds: float = 0.0
    late_ticks: int = 0
    skipped_ticks: int = 0
    worst_lateness: float = 0.0
    over_budget_ticks: int = 0
    worst_tick: float = 0.0
    failed_logs: list[str] = field(default_factory=list)
    ended: str = ""
    trims: dict[str, float] = field(default_factory=dict)


def drive(
    profile: Planned,
    source: Source,
    sinks: Sequence[Sink] = (),
    *,
    others: Mapping[str, Source] | None = None,
    clock: Clock | None = None,
    on_tick: Callable[[Tick], str | None] | None = None,
    changes: Callable[[], Plan | str | None] | None = None,
    bell: Callable[[], None] | None = None,
    notes: Callable[[], str | None] | None = None,
    report: DriveReport | None = None,
    handle: DriveHandle | None = None,
) -> DriveReport:
    """Drive until the source ends, Ctrl-C or SIGTERM arrives, something fails, or ``on_tick`` ends it.

    Whatever ends the drive, the robot is stopped at the profile's stopping deceleration, and the
    last tick of every sink is a stop. This holds for whatever leaves the code of a source, a sink or a
    function that is passed here: ``SystemExit`` and ``KeyboardInterrupt`` too. A second Ctrl-C does not
    wait for the ramp; a third interrupts code that hangs.

    A sink that is blocked for longer than a command is valid is a fault, until it accepts a tick. A failure ends
    the drive; that of a log does so unless ``guard.on_log_failure`` is "go on".

    Args:
        profile: a profile, or a plan made in code.
        source: of the frames; it stays open.
        sinks: for the ticks; they stay open. Each has a thread of its own (not in simulated time).
        others: the sources of the other drivers and of the distance sensors, by their names in the profile.
        clock: by default real time.
        on_tick: is called with every tick; if it returns a text, the drive ends with that reason.
        changes: is called at every tick, and returns a changed plan, or a text that says why one is refused, or
            None; it must not block. See `tenuto.runtime.changes.WatchedProfile`.
        bell: rings a bell if the profile wants it; it is called from the loop.
        notes: is called at every tick, and returns notes for it, such as a mark of the driver; it must not
            block.
        report: is updated during the drive, so that it is available after an exception too.
        handle: for requests of other threads: an emergency stop, a reset, the end.

    Returns:
        The report of the drive.

    Raises:
        SourceError: a source lacks controls that the profile reads.
        Exception: the exception of a source, a sink or ``on_tick``, after the robot was stopped.
    """
    return _Drive(
        profile.plan(), source, sinks, dict(others or {}), clock, on_tick, changes, bell, notes, report, handle
    ).run()


class _Drive:
    """The state of one drive."""

    def __init__(
        self,
        plan: Plan,
        source: Source,
        sinks: Sequence[Sink],
        others: Mapping[str, Source],
        clock: Clock | None,
        on_tick: Callable[[Tick], str | None] | None,
        changes: Callable[[], Plan | str | None] | None,
        bell: Callable[[], None] | None,
        notes: Callable[[], str | None] | None,
        report: DriveReport | None,
        handle: DriveHandle | None,
    ) -> None:
        self.line = Changeover(plan)
        self.resting = Pipeline(plan).halt(0.0)
        self.source, self.others, self.sinks = source, others, sinks
        self.clock = clock or MonotonicClock()
        self.outlets = Outlets(sinks, self.clock, in_threads=isinstance(self.clock, MonotonicClock))
        self.on_tick, self.changes, self.bell, self.notes = on_tick, changes, bell, notes
        self.handle = handle or DriveHandle()
        self.cues = Cues()
        self.report = DriveReport() if report is None else report
        self.failure: BaseException | None = None
        self.failed: list[Source] = []
        self.told = [one for one in (source, *others.values()) if type(one).tell is not Source.tell]
        self.signals = 0
        self.stopping_sinks = False
        # After something left a tick, no function that was passed here is called; after it left a step, no frame read.
        self.aborted = self.without_frames = False
        self.over_budget: tuple[Reason, ...] = ()

    def run(self) -> DriveReport:
        plan = self.line.plan
        check_controls(plan, self.source, self.others)
        check_far_ends(plan, self.sinks, self.others)
        self._join(plan)
        with _signals_to(self._on_signal):
            try:
                self.outlets.start(plan)
                self._loop()
            except BaseException as error:
                self._fail(error, f"the drive was aborted: {error!r}")
            finally:
                self._stop_sinks()
        if self.failure is not None:
            raise self.failure
        return self.report

    def _join(self, plan: Plan) -> None:
        """Prepare every source for the drive."""
        for name, source in {"": self.source, **self.others}.items():
            source.join(plan, name, self.handle)
        for sink in self.sinks:
            sink.asks = self.handle

    def _loop(self) -> None:
        """Make ticks at start, start + period, start + 2·period, …: a late tick does not delay the next."""
        first = start = self.clock.now()
        number = 0
        while True:
            period = self.line.plan.period
            now = self.clock.now()
            tick = self._tick_or_abort(now)
            self._count(now - (start + number * period), period, now - first)
            stands = tick is not None and tick.command == STANDSTILL
            if self.report.ended and (stands or self.signals > 1):
                return
            if self.line.plan.period != period:
                start, number = now, 0
                continue
            number += 1
            # The next due tick, or one that was due just now; never a second one at the same time.
            due = max(int((self.clock.now() - start) / period), int((now - start) / period + 1e-6) + 1)
            if due > number:
                self.report.skipped_ticks += due - number
                number = due
            self.clock.sleep_until(start + number * period)

    def _tick_or_abort(self, now: float) -> Tick | None:
        """Make a tick. Whatever leaves it for the first time, the robot ramps to standstill without what has failed."""
        try:
            return self._tick(now)
        except BaseException as error:
            if self.aborted or self.signals > 1:
                raise
            self._fail(error, f"the drive was aborted: {error!r}")
        self.aborted = True
        self.on_tick = self.changes = self.bell = self.notes = None
        self.told = []
        return None

    def _tick(self, now: float) -> Tick:
        self._take_change()
        self.handle.pass_on(self.line)
        self.report.ended = self.report.ended or self.handle.ended
        frame = self._poll(self.source, now)
        far = self.outlets.far_ends(now)
        others = self._poll_others(now, far) if self.others or far else {}
        faults, notices = self.outlets.look(now, self.line.plan)
        if (problem := self.outlets.fatal(self.line.plan)) is not None:
            self._fail(*problem)
        for emergency in self.outlets.new_emergencies():
            self.line.join_emergency(emergency)
        notices += tuple(Reason(Code.NOTE, note) for note in self._noted())
        tick = self._step(frame, now, others, faults, notices + self.over_budget, far)
        if self.line.changed:
            self._join(self.line.plan)
            self.outlets.change(self.line.plan)
            self.resting = Pipeline(self.line.plan).halt(0.0)
        self.outlets.give(tick)
        for source in self.told:
            source.tell(tick)
        if self.line.plan.feedback != "nothing" and not self.aborted:
            self._tell(tick)
        if self.on_tick is not None:
            try:
                ended = self.on_tick(tick)
            except BaseException as error:
                self.on_tick = None
                self._fail(error, f"the view of the drive failed: {error!r}")
            else:
                if ended:
                    self._end(ended)
        self._budget(self.clock.now() - now)
        return tick

    def _step(
        self, frame: Frame | None, now: float, others: Mapping[str, Frame], faults: tuple[Reason, ...],
        notices: tuple[Reason, ...], far: FarEnds,
    ) -> Tick:  # fmt: skip
        """Step the pipeline; after something has left a step, without frames, whose reading may be at fault."""
        if self.without_frames:
            return self.line.step(None, now, faults=faults, notices=notices)
        self.without_frames = True
        tick = self.line.step(frame, now, others=others, faults=faults, notices=notices, far=far)
        self.without_frames = False
        return tick

    def _noted(self) -> list[str]:
        """Return the notes of this tick."""
        note = self.notes() if self.notes is not None else None
        return [*self.handle.noted(), *([note] if note is not None else [])]

    def _poll(self, source: Source, now: float) -> Frame | None:
        if source in self.failed:
            return None
        try:
            frame = source.poll(now)
            if source is self.source and source.finished:
                self._end(f"{source.name} has ended")
        except BaseException as error:
            self.failed.append(source)  # the others are read during the stop: one may have the emergency stop
            self._fail(error, f"{source.name} failed: {str(error) or repr(error)}")
            return None
        return frame

    def _poll_others(self, now: float, far: FarEnds) -> dict[str, Frame]:
        polled = {name: self._poll(source, now) for name, source in self.others.items()}
        found = {name: frame for name, frame in polled.items() if frame is not None}
        return frames_of(self.line.plan.inputs, far) | found

    def _take_change(self) -> None:
        """Check for a changed profile; one that does not fit the sources changes nothing."""
        found = self.changes() if self.changes is not None else None
        if isinstance(found, Plan):
            try:
                check_controls(found, self.source, self.others)
                check_far_ends(found, self.sinks, self.others)
            except (SourceError, SinkError) as error:
                found = str(error)
            else:
                self.line.change(found)
        if isinstance(found, str):
            self.line.refuse(found)

    def _tell(self, tick: Tick) -> None:
        """Signal events to the driver by rumble or bell."""
        cue = self.cues.step(tick)
        if cue is None:
            return
        by = self.line.plan.feedback
        try:
            if by in ("rumble", "both"):
                for source in (self.source, *self.others.values()):
                    source.rumble(cue.strength, cue.seconds)
            if by in ("bell", "both") and self.bell is not None:
                self.bell()
        except BaseException as error:
            self._fail(error, f"the feedback failed: {error!r}")

    def _budget(self, took: float) -> None:
        """Record the duration of the tick, and report it with the next one if it was too long."""
        report, period = self.report, self.line.plan.period
        report.worst_tick = max(report.worst_tick, took)
        self.over_budget = ()
        if took > period:
            report.over_budget_ticks += 1
            text = f"the last tick took {took * 1000:.0f} ms, longer than its period of {period * 1000:.0f} ms"
            self.over_budget = (Reason(Code.TICK_OVER_BUDGET, text),)

    def _count(self, lateness: float, period: float, seconds: float) -> None:
        report = self.report
        report.ticks += 1
        report.seconds = seconds
        report.worst_lateness = max(report.worst_lateness, lateness)
        if lateness > LATE_FROM * period:
            report.late_ticks += 1

    def _end(self, reason: str) -> None:
        """Request the ramp to standstill; the first reason counts."""
        self.line.end(reason)
        self.report.ended = self.report.ended or reason

    def _on_signal(self, name: str) -> None:
        """First: ramp to standstill. Second: end without the ramp. Third: interrupt code that hangs."""
        self.signals += 1
        self._end(f"{self.handle.pressed or name}: stop requested")
        if self.signals > 2 and not self.stopping_sinks:
            raise KeyboardInterrupt

    def _fail(self, error: BaseException, reason: str) -> None:
        self.failure = self.failure or error
        self._end(reason)

    def _stop_sinks(self) -> None:
        """Send every sink its stop, whatever failed before."""
        self.stopping_sinks = True
        now = self.clock.now()
        try:
            last = self.line.pipeline.halt(now)
            self.report.trims = self.line.pipeline.trims
        except BaseException as error:
            # It was made before any failure, and by code that has not failed.
            last = self.resting._replace(time=now, power=False)
            self._fail(error, f"the stop itself failed: {error!r}")
        self.outlets.stop(last)
        if (problem := self.outlets.fatal(self.line.plan)) is not None:
            self._fail(*problem)
        self.report.failed_logs = self.outlets.failed_logs()


def check_controls(plan: Plan, source: Source, others: Mapping[str, Source]) -> None:
    """Check that every source has the controls of a plan, before anything moves. Raises `SourceError`."""
    wanted: dict[str, list[tuple[str, str]]] = {"": _reads(plan.controls)}
    for lower in plan.below:
        wanted[lower.name] = _reads(lower.controls)
    for sensor in (one for one in plan.inputs if one.far_end is None or one.name in others):
        wanted.setdefault(sensor.heard_from or "", []).append((sensor.reads, sensor.name))
    velocities = {lower.name for lower in plan.below if not lower.controls}
    sources = {"": source, **others}
    for name, needed in wanted.items():
        if name not in sources:
            raise SourceError(f'{name} of the profile has no source: pass others={{"{name}": …}}')
        known = [info.name for info in sources[name].controls_for(plan, name)]
        if name in velocities and not set(known) & set(VelocityCommand._fields):
            raise SourceError(
                f"{sources[name].name} must send some of {', '.join(VelocityCommand._fields)}, and has none"
            )
        missing = [pair for pair in needed if pair[0] not in known]
        if missing:
            said = ", ".join(f"{reads} (for {control})" for reads, control in missing)
            raise SourceError(f"{sources[name].name} has no {said}; it has {', '.join(known)}")


def check_far_ends(plan: Plan, sinks: Sequence[Sink], others: Collection[str] = ()) -> None:
    """Check that some sink can report what ``guard.needs`` requires. Raises `SinkError`."""
    able = {sink.label for sink in sinks if sink.says}
    for one in plan.inputs:
        if one.far_end is not None and one.far_end not in able and one.name not in others:
            raise SinkError(f"{one.name} is read from the far end of {one.far_end}, which is no sink of this drive")
    says = frozenset[str]().union(*(sink.says for sink in sinks))
    unsaid = plan.guard.needs.unsaid(says)
    if plan.guard.needs.wanted and (unsaid or not says):
        wanted = ", ".join(f"guard.needs.{name}" for name in unsaid or plan.guard.needs.wanted)
        raise SinkError(f"{wanted}: no sink of this drive can report that; drive with one that does, or remove it")


def _reads(controls: Sequence[ControlPlan]) -> list[tuple[str, str]]:
    return [(reads, control.name) for control in controls for reads in control.all_reads]


@contextmanager
def _signals_to(handle: Callable[[str], None]) -> Iterator[None]:
    """Pass Ctrl-C, SIGTERM, a terminal that hangs up, Ctrl-Z and Ctrl-\\ to a function, by name.

    A suspended program would leave the wheels turning: Ctrl-Z stops the robot and ends the drive.

    Only the main thread can do this; in any other nothing is done.
    """
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    names = {signal.SIGINT: "Ctrl-C", signal.SIGTERM: "SIGTERM"}
    for name, said in (("SIGHUP", "the terminal was closed"), ("SIGTSTP", "Ctrl-Z"), ("SIGQUIT", "Ctrl-\\")):
        if hasattr(signal, name):
            names[getattr(signal, name)] = said

    def on_signal(number: int, _: FrameType | None) -> None:
        handle(names[signal.Signals(number)])

    before = {number: signal.signal(number, on_signal) for number in names}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
