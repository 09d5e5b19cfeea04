"""The ticks of a drive, kept, and the same pipeline over a recording."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, overload

from tenuto.basics.extras import needs
from tenuto.basics.html import html_table
from tenuto.driving.plan import Planned
from tenuto.driving.tick import Tick
from tenuto.runtime import DriveReport, SimulatedClock, drive
from tenuto.sinks.base import Sink
from tenuto.sources import Source, open_source

if TYPE_CHECKING:
    import pandas as pd


class Ticks(Sequence[Tick]):
    """The ticks of a drive, in order. `to_frame` makes a table of them.

    Attributes:
        report: how the loop went.
    """

    def __init__(self, ticks: Sequence[Tick], report: DriveReport) -> None:
        self._ticks = tuple(ticks)
        self.report = report

    def __len__(self) -> int:
        return len(self._ticks)

    @overload
    def __getitem__(self, index: int) -> Tick: ...
    @overload
    def __getitem__(self, index: slice) -> tuple[Tick, ...]: ...
    def __getitem__(self, index: int | slice) -> Tick | tuple[Tick, ...]:
        return self._ticks[index]

    def __iter__(self) -> Iterator[Tick]:
        return iter(self._ticks)

    def __repr__(self) -> str:
        return f"Ticks({len(self)} ticks over {self.report.seconds:.2f} s)"

    def _repr_html_(self) -> str:
        states = dict.fromkeys(str(tick.guard.state) for tick in self._ticks)
        rows = [("seconds", f"{self.report.seconds:.2f}"), ("ticks", len(self)), ("states", ", ".join(states)),
                ("ended", self.report.ended)]  # fmt: skip
        return html_table("Ticks", rows)

    def to_frame(self) -> pd.DataFrame:
        """Make a DataFrame with a row a tick; its columns are those of a log, see docs/formats.md."""
        needs("pandas")
        import pandas as pd

        return pd.DataFrame([tick.as_row() for tick in self._ticks])


def replay(
    profile: Planned,
    recording: str | Path | Source,
    sinks: Sequence[Sink] = (),
    *,
    others: Mapping[str, str | Path | Source] | None = None,
) -> Ticks:
    """Run the pipeline over a recording in simulated time: the same ticks as live, as fast as it goes.

    Args:
        profile: a profile, or a plan made in code.
        recording: the path of a recording, or a source that comes to an end.
        sinks: what else gets the ticks, such as a simulated robot.
        others: the recordings of the other drivers and of the sensors of distance, by the names the profile has for
            them. It ends with the first.

    Raises:
        RecordingError: the recording cannot be read.
        SourceError: it has not the controls that the profile reads.
    """
    kept: list[Tick] = []
    with ExitStack() as stack:
        source = stack.enter_context(_recorded(recording))
        more = {name: stack.enter_context(_recorded(one)) for name, one in (others or {}).items()}
        report = drive(profile, source, sinks, others=more, clock=SimulatedClock(), on_tick=kept.append)
    return Ticks(kept, report)


def _recorded(recording: str | Path | Source) -> Source:
    return recording if isinstance(recording, Source) else open_source(f"recording:{recording}")
