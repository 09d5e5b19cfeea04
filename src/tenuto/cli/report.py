"""``tenuto report``: one page about a drive."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from tenuto.basics.errors import TenutoError
from tenuto.cli.console import print_json, results
from tenuto.cli.why import beside, continued
from tenuto.files import write_atomically


def report(
    log: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="A log of a drive.", show_default=False)],
    profile: Annotated[
        Path | None,
        typer.Option(exists=True, dir_okay=False, help="The profile of the drive; by default the one beside the log."),
    ] = None,
    out: Annotated[
        Path | None, typer.Option(dir_okay=False, help="The page; by default LOG.html.", show_default=False)
    ] = None,
    pngs: Annotated[Path | None, typer.Option(file_okay=False, help="Write its figures as PNG to this folder.")] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print the facts as JSON too.")] = False,
) -> None:
    """Write a report of a drive: summary, sticks, commands, actuators, link, loop, and the guard's events.

    The report is one self-contained HTML file.

    [bold]Examples:[/bold]

      tenuto report run.csv

      tenuto report tenuto-demo/drive.csv --profile tenuto-demo/medlar.toml --out row.html --pngs row
    """
    import tenuto
    from tenuto.analysis.report import events, facts, path_of
    from tenuto.analysis.why import plan_of_log
    from tenuto.figures.page import html_report, picture_of, png_of
    from tenuto.figures.report import report_figures
    from tenuto.profile.prepare import prepare_profile

    place = profile or beside(log)
    prepared, table = prepare_profile(place, log=log), tenuto.load_log(log)
    loaded, plan = prepared.profile, plan_of_log(table, prepared)
    _same_robot(log, place, [str(name) for name in table.columns], list(plan.chassis.bounds()))
    found = facts(table, plan, path_of(table, plan).robot.path)
    drawn = report_figures(table, plan, loaded.name)
    figures = {name: picture_of(figure) for name, figure in drawn.items()}
    page = out or Path(f"{log}.html")
    try:
        title = f"{log.name}, driven with {place.name}"
        write_atomically(page, html_report(loaded.name, title, found, events(table), figures, plan.chassis.units))
        if pngs is not None:
            pngs.mkdir(parents=True, exist_ok=True)
            for name, figure in drawn.items():
                write_atomically(pngs / f"{name}.png", png_of(figure))
    except OSError as error:
        raise TenutoError(f"{error.filename}: cannot write there: {error.strerror or error}") from error
    if as_json:
        print_json("report", {"page": str(page), "facts": [fact._asdict() for fact in found]})
        return
    for fact in found:
        results.print(f"{fact.name}: {fact.text}", soft_wrap=True)
    drawn_to = f", its figures in {pngs}" if pngs else ""
    results.print(f"The report is in {page}{drawn_to}{continued(log, table)}.", soft_wrap=True)


def _same_robot(log: Path, profile: Path, columns: list[str], actuators: list[str]) -> None:
    """Check that a log belongs to a profile. Raises `TenutoError`."""
    missing = [name for name in actuators if f"actuators.{name}" not in columns]
    if missing:
        raise TenutoError(
            f"{log}: has no {', '.join(missing)}, which {profile} drives: was it driven with this profile?"
        )
