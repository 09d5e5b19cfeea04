"""The stored ticks of a drive, and the same pipeline over a recording."""

from __future__ import annotations

import math
from bisect import bisect_right
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, overload

from tenuto.basics.errors import TenutoError
from tenuto.basics.extras import needs
from tenuto.basics.html import html_table
from tenuto.driving.plan import Planned
from tenuto.driving.tick import Tick
from tenuto.runtime import DriveReport, SimulatedClock, drive
from tenuto.sinks.base import Sink
from tenuto.sinks.simulated import SimulatedSink
from tenuto.sources import Source, open_source

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

    from tenuto.driving.explain import Explanation


class KnownTick(Tick):
    """A tick with the profile that made it."""

    planned: Planned

    @classmethod
    def of(cls, tick: Tick, planned: Planned) -> KnownTick:
        """Return a tick together with its profile."""
        known = cls._make(tick)
        known.planned = planned
        return known

    def explain(self, planned: Planned | None = None) -> Explanation:
        """Describe all stages of this moment; see `Tick.explain`."""
        return super().explain(planned or self.planned)


class Ticks(Sequence[Tick]):
    """The ticks of a drive, in order. `to_frame` returns a table; each tick has `explain`.

    Attributes:
        report: statistics of the loop. planned: the profile or plan that it was driven with.
    """

    def __init__(self, ticks: Sequence[Tick], report: DriveReport, planned: Planned) -> None:
        self._ticks = tuple(KnownTick.of(tick, planned) for tick in ticks)
        self.report, self.planned = report, planned

    def __len__(self) -> int:
        return len(self._ticks)

    @overload
    def __getitem__(self, index: int) -> KnownTick: ...
    @overload
    def __getitem__(self, index: slice) -> tuple[KnownTick, ...]: ...
    def __getitem__(self, index: int | slice) -> KnownTick | tuple[KnownTick, ...]:
        return self._ticks[index]

    def __iter__(self) -> Iterator[KnownTick]:
        return iter(self._ticks)

    def __repr__(self) -> str:
        return f"Ticks({len(self)} ticks over {self.report.seconds:.2f} s)"

    def _repr_html_(self) -> str:
        states = dict.fromkeys(str(tick.guard.state) for tick in self._ticks)
        rows = [("seconds", f"{self.report.seconds:.2f}"), ("ticks", len(self)), ("states", ", ".join(states)),
                ("ended", self.report.ended)]  # fmt: skip
        return html_table("Ticks", rows)

    def at(self, time: float) -> KnownTick:
        """Return the tick at a time in s: the newest one that is not later.

        Raises:
            TenutoError: there is none.
        """
        number = bisect_right(self._ticks, time, key=lambda tick: tick.time)
        if not number or not math.isfinite(time) or time > self._ticks[-1].time + 1.0:
            ends = f"{self._ticks[0].time:g} s to {self._ticks[-1].time:g} s" if self._ticks else "nothing"
            raise TenutoError(f"expected a time within {ends}, found {time:g}")
        return self._ticks[number - 1]

    def to_frame(self, *, by_time: bool = False) -> pd.DataFrame:
        """Return a DataFrame with one row per tick; its columns are those of a log, see docs/formats.md.

        Args:
            by_time: rows are found by their time, ``table.loc[26.0:27.0]``, and not by their number.
        """
        needs("pandas")
        import pandas as pd

        table = pd.DataFrame([tick.as_row() for tick in self._ticks])
        return table.set_index("time") if by_time else table

    def plot(self) -> Figure:
        """Draw an overview: sticks, command, wheels, the guard's stops, and the path of a simulated robot."""
        needs("matplotlib")
        from tenuto.figures.drive import drive_figure

        plan, sink = self.planned.plan(), SimulatedSink()
        sink.start(plan)
        for tick in self._ticks:
            sink.write(tick)
        robot = sink.robot
        sticks = plan.driving_controls()[:4]
        return drive_figure(self.to_frame(), robot.path, sticks, "", robot.chassis, robot.history)


def replay(
    profile: Planned,
    recording: str | Path | Source,
    sinks: Sequence[Sink] = (),
    *,
    others: Mapping[str, str | Path | Source] | None = None,
    alone: bool = False,
) -> Ticks:
    """Run the pipeline over a recording in simulated time: the same ticks as live, at full speed.

    Args:
        profile: a profile, or a plan made in code.
        recording: the path of a recording, or a source that ends.
        sinks: other receivers of the ticks, such as a simulated robot. If none of them answers, ``guard.needs``
            counts as met.
        others: the recordings of the other drivers and of the distance sensors, by their names in the
            profile. It ends with the first.
        alone: leave out other drivers, distance sensors, inhibits and measured speeds: these sticks alone drive.

    Raises:
        RecordingError: the recording cannot be read.
        SourceError: it lacks controls that the profile reads, or another driver or a sensor has no recording.
    """
    kept: list[Tick] = []
    with ExitStack() as stack:
        source = stack.enter_context(_recorded(recording))
        more = {name: stack.enter_context(_recorded(one)) for name, one in (others or {}).items()}
        answered = any(sink.says for sink in sinks)
        plan = profile.plan() if answered else profile.plan().without_far_end()
        if alone:
            plan = plan.alone()
        report = drive(plan, source, sinks, others=more, clock=SimulatedClock(), on_tick=kept.append)
    return Ticks(kept, report, profile)


def _recorded(recording: str | Path | Source) -> Source:
    return recording if isinstance(recording, Source) else open_source(f"recording:{recording}")
