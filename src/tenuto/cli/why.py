"""``tenuto why``: the whole way of one moment, and why it did not move, or no faster."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from rich.table import Table
from rich.text import Text

from tenuto.basics.errors import RecordingError
from tenuto.cli.console import print_json, results


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

    found = explain_at(tenuto.load_log(log), prepare_profile(profile or beside(log), log=log), at)
    if as_json:
        print_json("why", {**found._asdict(), "steps": [step._asdict() for step in found.steps]})
        return
    results.print(Text.assemble((f"At {found.time:.2f} s ", "dim"), (found.answer, "bold")), soft_wrap=True)
    table = Table(box=None, padding=(0, 2, 0, 0), show_header=False)
    table.add_column(style="dim", no_wrap=True)
    table.add_column()
    for step in found.steps:
        table.add_row(step.stage, step.text)
    results.print(table)


def beside(log: Path) -> Path:
    """Find the profile that a drive has kept beside its log. Raises `RecordingError`."""
    from tenuto.profile.prepare import kept_with

    kept = kept_with(log)
    if not kept.exists():
        raise RecordingError(
            f"{log}: no profile was kept beside it ({kept.name}): say which it was driven with, --profile"
        )
    return kept
