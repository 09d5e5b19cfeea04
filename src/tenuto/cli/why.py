"""``tenuto why``: all stages of one moment, and why the robot did not move, or no faster."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.table import Table
from rich.text import Text

from tenuto.basics.errors import RecordingError, TenutoError
from tenuto.cli.console import print_json, results

if TYPE_CHECKING:
    import pandas as pd

# The files that continue a log have numbers below this; other drives may have used some of them.
_LOOKED_AT = 10
# A log that continues another begins a tick after its end. This is the longest tick with a delay, in s.
_GAP = 1.0


def why(
    log: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="A log of a drive.", show_default=False)],
    at: Annotated[
        float | None, typer.Option(help="The time in s of the log; by default its last tick.", show_default=False)
    ] = None,
    profile: Annotated[
        Path | None,
        typer.Option(exists=True, dir_okay=False, help="The profile of the drive; by default the one beside the log."),
    ] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print it as JSON.")] = False,
) -> None:
    """Explain one moment of a drive, stage by stage: why did it not move, or why no faster?

    [bold]Examples:[/bold]

      tenuto why run.csv --at 18.4

      tenuto why tenuto-demo/drive.csv --at 26.5 --profile tenuto-demo/medlar.toml
    """
    import tenuto
    from tenuto.analysis.why import explain_at
    from tenuto.profile.prepare import prepare_profile

    table = tenuto.load_log(log)
    try:
        found = explain_at(table, prepare_profile(profile or beside(log), log=log), at)
    except RecordingError as error:
        raise RecordingError(f"{error}{continued(log, table)}") from error
    if as_json:
        print_json("why", {**found._asdict(), "steps": [step._asdict() for step in found.steps]})
        return
    results.print(Text.assemble((f"At {found.time:.2f} s ", "dim"), (found.answer, "bold")), soft_wrap=True)
    grid = Table(box=None, padding=(0, 2, 0, 0), show_header=False)
    grid.add_column(style="dim", no_wrap=True)
    grid.add_column()
    for step in found.steps:
        grid.add_row(step.stage, step.text)
    results.print(grid)


def continued(log: Path, table: pd.DataFrame) -> str:
    """Report the file in which a drive continues, for example after a change of its profile."""
    import tenuto

    stem, _, number = log.stem.rpartition("-")
    names = [f"{stem}-{int(number) + more}" for more in range(1, _LOOKED_AT)] if stem and number.isdecimal() else []
    names += [f"{log.stem}-{more}" for more in range(2, _LOOKED_AT)]
    last = float(table["time"].iloc[-1])
    for later in map(log.with_stem, names):
        with suppress(TenutoError):  # not a log
            # The log of another drive begins at its own time.
            if later.exists() and 0.0 < float(tenuto.load_log(later)["time"].iloc[0]) - last < _GAP:
                return f"; the drive continues in {later}"
    return ""


def beside(log: Path) -> Path:
    """Find the profile that a drive stored beside its log. Raises `RecordingError`."""
    from tenuto.profile.prepare import kept_with

    kept = kept_with(log)
    if not kept.exists():
        raise RecordingError(
            f"{log}: no profile was kept beside it ({kept.name}): say which it was driven with, --profile"
        )
    return kept
