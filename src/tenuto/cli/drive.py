"""``tenuto drive``: drive live, with one line that says what moves or why nothing does."""

from __future__ import annotations

import json
from contextlib import ExitStack
from dataclasses import asdict
from pathlib import Path
from typing import Annotated

import typer
from rich.text import Text

from tenuto.cli.console import results
from tenuto.cli.status import StatusLine


def drive(
    profile: Annotated[
        Path,
        typer.Argument(exists=True, dir_okay=False, help="The profile, a TOML file.", show_default=False),
    ],
    recording: Annotated[
        Path | None,
        typer.Option(exists=True, dir_okay=False, help="Play a recording (CSV) instead of the profile's source."),
    ] = None,
    source: Annotated[
        str | None, typer.Option(help="Another source than the profile's, such as simulated:gamepad.")
    ] = None,
    to: Annotated[
        list[str] | None,
        typer.Option(
            help="Where the ticks go: simulated (if nothing is said), log:FILE.csv. May be given several times.",
            show_default=False,
        ),
    ] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print how the loop went as JSON at the end.")] = False,
) -> None:
    """Drive a robot as its profile says, from the gamepad or from a recording, at the real rate.

    Ctrl-C brings the robot down and ends; a second Ctrl-C does not wait for that.

    [bold]Examples:[/bold]

      tenuto drive medlar.toml --to simulated --to log:run.csv

      tenuto drive medlar.toml --recording orchard-row.csv
    """
    import tenuto
    from tenuto.calibration.store import find_calibration
    from tenuto.profile.trims import load_trims, save_trims, trims_path

    if source is not None and recording is not None:
        raise typer.BadParameter("give one of the two", param_hint="--source and --recording")
    loaded = tenuto.load_profile(profile)
    sinks_asked = to or ["simulated"]
    with ExitStack() as stack:
        chosen = loaded if source is None else source
        opened = stack.enter_context(tenuto.open_source(chosen if recording is None else f"recording:{recording}"))
        identity = "" if recording is not None else opened.identity
        kept = find_calibration(profile, identity, tuple(info.name for info in opened.controls()))
        trims = load_trims(trims_path(profile), loaded)
        planned = loaded.calibrated(kept[0] if kept is not None else None, trims)
        sinks = [stack.enter_context(tenuto.open_sink(text)) for text in sinks_asked]
        if not as_json:
            names = ", ".join(sink.name for sink in sinks)
            title = Text.assemble((loaded.name, "bold"), f": {opened.name} → {names}. Ctrl-C stops it.")
            results.print(title, soft_wrap=True)
            if kept is not None:
                results.print(f"calibrated by {kept[1]}", style="dim", soft_wrap=True)
            if trims:
                words = ", ".join(f"{name} {value:+g}" for name, value in trims.items())
                results.print(f"trims as they were left: {words}", style="dim", soft_wrap=True)
            if opened.hint:
                results.print(opened.hint, style="dim")
        with StatusLine(quiet=as_json) as status:
            report = tenuto.drive(planned, opened, sinks, on_tick=status.show)
    trims_kept = save_trims(trims_path(profile), loaded, report.trims)
    if as_json:
        typer.echo(json.dumps(asdict(report), indent=2))
    else:
        results.print(
            f"Ended: {report.ended}. {report.ticks} ticks in {report.seconds:.1f} s, "
            f"{report.late_ticks} late, {report.skipped_ticks} left out, "
            f"at worst {report.worst_lateness * 1000:.1f} ms behind.",
            soft_wrap=True,
        )
        if trims_kept:
            results.print(f"The trims are kept in {trims_path(profile)}.", soft_wrap=True)
