"""The public calls, which take open sources and sinks, or their short texts."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING

from tenuto.basics.errors import SinkError, SourceError, TenutoError
from tenuto.clock import REAL, Clock, MonotonicClock, SimulatedClock
from tenuto.runtime import DriveHandle, DriveReport
from tenuto.runtime import drive as drive_opened
from tenuto.runtime import follow as follow_opened
from tenuto.sinks import Sink, open_sink
from tenuto.sources import Source, open_source

if TYPE_CHECKING:
    from tenuto.analysis.ticks import Ticks
    from tenuto.driving.plan import Plan, Planned
    from tenuto.driving.tick import Tick

    AnySource = Source | str | Path
    AnySink = Sink | str | Callable[[Tick], object]


def drive(
    profile: Planned | str | Path,
    source: AnySource,
    sinks: Iterable[AnySink] = (),
    *,
    others: Mapping[str, AnySource] | None = None,
    clock: Clock | None = None,
    on_tick: Callable[[Tick], str | None] | None = None,
    changes: Callable[[], Plan | str | None] | None = None,
    bell: Callable[[], None] | None = None,
    notes: Callable[[], str | None] | None = None,
    report: DriveReport | None = None,
    handle: DriveHandle | None = None,
) -> DriveReport:
    """Drive until the source ends, Ctrl-C or SIGTERM arrives, something fails, or ``on_tick`` ends it.

    ::

        tenuto.drive("medlar.toml", "gamepad", ["simulated", "log:run.csv"])

    Args:
        profile: a profile, a plan made in code, or the path of a profile.
        source: of the frames: a source, or a text for `tenuto.open_source`.
        sinks: for the ticks: sinks, texts for `tenuto.open_sink`, or functions that take a tick.
        others: the sources of the other drivers and of the distance sensors, by their names in the profile.
        clock: by default real time.
        on_tick: is called with every tick; if it returns a text, the drive ends with that reason.
        report: is updated during the drive, so that it is available after an exception too.
        handle: for requests of other threads, see `tenuto.DriveHandle`.
        changes, bell, notes: are called from the loop; see ``help(tenuto.runtime.loop.drive)``.

    Open sources and sinks stay open; those opened here are closed at the end.

    Returns:
        The report of the drive.

    Raises:
        ProfileError: the profile cannot be read.
        SourceError, SinkError: a text is invalid, or its device cannot be opened.
        Exception: as `tenuto.runtime.drive`, after the robot was stopped.
    """
    with ExitStack() as stack:
        planned, timer = _profile(profile), _timer(clock)
        opened = _source(stack, source, timer)
        more = {name: _source(stack, one, timer) for name, one in (others or {}).items()}
        planned, to = _prepared(planned, opened, more), [_sink(stack, sink) for sink in sinks]
        keep_beside(planned, to, changes)
        _introduce(planned, opened, more, to, watched=changes is not None)
        return drive_opened(
            planned, opened, to, others=more, clock=clock, on_tick=on_tick, changes=changes, bell=bell, notes=notes,
            report=report, handle=handle,
        )  # fmt: skip


def follow(
    profile: Planned | str | Path,
    source: AnySource,
    sinks: Iterable[AnySink] = (),
    *,
    others: Mapping[str, AnySource] | None = None,
    clock: Clock | None = None,
    on_tick: Callable[[Tick], str | None] | None = None,
    report: DriveReport | None = None,
    handle: DriveHandle | None = None,
) -> DriveReport:
    """Follow the velocities of a driver's machine, with the robot's own guard, until something ends it.

    Args:
        profile, source, sinks, others, clock: as for `tenuto.drive`.
        on_tick, report, handle: as for `tenuto.drive`.

    Returns:
        The report of the drive. Raises as `tenuto.drive`.
    """
    from tenuto.profile import Profile
    from tenuto.profile.profile import PreparedProfile

    with ExitStack() as stack:
        planned, timer = _profile(profile), _timer(clock)
        opened = _source(stack, source, timer)
        more = {name: _source(stack, one, timer) for name, one in (others or {}).items()}
        to = [_sink(stack, sink) for sink in sinks]
        keep_beside(PreparedProfile(planned) if isinstance(planned, Profile) else planned, to)
        _introduce(planned, opened, more, to, watched=False)
        return follow_opened(
            planned, opened, to, others=more, clock=clock, on_tick=on_tick, report=report, handle=handle
        )


def replay(
    profile: Planned | str | Path,
    recording: AnySource,
    sinks: Iterable[AnySink] = (),
    *,
    others: Mapping[str, AnySource] | None = None,
    alone: bool = False,
) -> Ticks:
    """Run the pipeline over a recording in simulated time: the same ticks as live, at full speed.

    Args:
        profile: a profile, a plan made in code, or the path of a profile.
        recording: the path of a recording, or a source that ends.
        sinks: for the ticks; as for `tenuto.drive`.
        others: the recordings of the other drivers and of the distance sensors, by their names in the
            profile. The replay ends with the first of all.
        alone: leave out other drivers, distance sensors, inhibits and measured speeds: these sticks alone drive.

    Raises:
        ProfileError: the profile cannot be read.
        RecordingError: the recording cannot be read.
        SourceError: it lacks controls that the profile reads, or another driver or a sensor has no recording.
    """
    from tenuto.analysis.ticks import replay as replay_opened

    with ExitStack() as stack:
        planned = _profile(profile)
        source = _source(stack, _played(recording), REAL)
        more = {name: _source(stack, _played(one), REAL) for name, one in (others or {}).items()}
        planned, to = _prepared(planned, source, more), [_sink(stack, sink) for sink in sinks]
        keep_beside(planned, to)
        return replay_opened(planned, source, to, others=more, alone=alone)


def _played(what: AnySource) -> AnySource:
    """Return a source, or the text for the recording of this path."""
    return what if isinstance(what, Source) else f"recording:{what}"


def _profile(what: Planned | str | Path) -> Planned:
    """Return a plan or a profile; a file is read before anything is opened."""
    if isinstance(what, (str, Path)):
        from tenuto.profile import load_profile

        return load_profile(what)
    if not hasattr(what, "plan"):
        raise TenutoError(f"expected a profile, a plan, or the path of a profile; found {what!r}")
    return what


def _prepared(planned: Planned, source: Source, others: Mapping[str, Source]) -> Planned:
    """Apply the calibrations and trims of a profile."""
    from tenuto.profile import Profile
    from tenuto.profile.prepare import prepare_profile

    return prepare_profile(planned, source, others) if isinstance(planned, Profile) else planned


def keep_beside(
    planned: Planned, sinks: Iterable[Sink], changes: Callable[[], Plan | str | None] | None = None
) -> None:
    """Save the profile, calibrations and trims of a drive beside each log, and beside each file that continues one.

    Args:
        planned: that is driven; a plan that was made in code is not stored.
        sinks: of the drive.
        changes: the source of changed plans, if there is one. Only a `WatchedProfile` has their profiles.

    Raises:
        SinkError: they cannot be written there.
    """
    from tenuto.profile import Profile
    from tenuto.profile.prepare import keep_with
    from tenuto.profile.profile import PreparedProfile
    from tenuto.sinks.log_file import LogFile

    made: Callable[[Plan], Planned | None] | None = getattr(changes, "made", None)

    def keep(file: Path, plan: Plan) -> None:
        what = made(plan) if made is not None else None
        if what is None and (changes is None or made is not None or plan == planned.plan()):
            what = planned  # the profile of the drive: a robot that follows, or a script, has a plan made from it
        what = PreparedProfile(what) if isinstance(what, Profile) else what
        if isinstance(what, PreparedProfile):
            keep_with(file, what)

    for sink in sinks:
        if isinstance(sink, LogFile) and isinstance(planned, PreparedProfile):
            keep_with(sink.path, planned)
            sink.keep = keep


def _introduce(
    planned: Planned, source: Source, others: Mapping[str, Source], sinks: Iterable[Sink], *, watched: bool
) -> None:
    """Pass the robot's name, the way of its commands, and the watched file of its profile to pages."""
    profile = getattr(planned, "profile", planned)
    way = f"{source.name} → {', '.join(sink.name for sink in sinks)}"
    name, file = getattr(profile, "name", "a robot"), str(getattr(profile, "file", None) or "") if watched else ""
    for one in (source, *others.values()):
        one.introduce(name, way, file)
    for sink in sinks:
        sink.introduce(name, way, file)


def _timer(clock: Clock | None) -> SimulatedClock | MonotonicClock:
    return clock if isinstance(clock, (SimulatedClock, MonotonicClock)) else REAL


def _source(stack: ExitStack, what: AnySource, clock: SimulatedClock | MonotonicClock) -> Source:
    if isinstance(what, Source):
        return what
    if isinstance(what, (str, Path)):
        return stack.enter_context(open_source(what, clock=clock))
    raise SourceError(f"expected a source, or a text such as gamepad; found {what!r}")


def _sink(stack: ExitStack, what: AnySink) -> Sink:
    if isinstance(what, Sink):
        return what
    if isinstance(what, str):
        return stack.enter_context(open_sink(what))
    if callable(what):
        from tenuto.sinks.function import FunctionSink

        return FunctionSink(getattr(what, "__name__", "function"), what)
    raise SinkError(f"expected a sink, a text such as log:run.csv, or a function that takes a tick; found {what!r}")
