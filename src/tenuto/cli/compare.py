"""``tenuto compare``: the same recorded sticks through two profiles."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Annotated

import typer
from rich.table import Table

from tenuto.cli.console import print_json, results


def compare(
    log: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="A recording of sticks, or a log.")],
    profile_a: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="A profile.")],
    profile_b: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="Another one.")],
    made_with: Annotated[
        Path | None,
        typer.Option(
            exists=True, dir_okay=False, help="For a log: the profile of the drive; by default the one beside the log."
        ),
    ] = None,
    figure: Annotated[Path | None, typer.Option(dir_okay=False, help="Draw a figure to this file, PNG or PDF.")] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print the figures as JSON.")] = False,
) -> None:
    """Compare two profiles, or two versions of one, with the same recorded sticks.

    [bold]Examples:[/bold]

      tenuto compare orchard-row.csv medlar.toml medlar-gentle.toml --figure compare.png

      tenuto compare run.csv medlar.toml medlar-gentle.toml --json
    """
    import tenuto
    from tenuto.figures import save_figure
    from tenuto.figures.compare import compare_figure

    first, second = tenuto.load_profile(profile_a), tenuto.load_profile(profile_b)
    same = profile_a.stem == profile_b.stem
    names = (str(profile_a), str(profile_b)) if same else (profile_a.stem, profile_b.stem)
    driven = tenuto.load_profile(made_with) if made_with is not None else None
    found = tenuto.compare(log, first, second, names=names, made_with=driven)
    if figure is not None:
        save_figure(compare_figure(found), figure)
    if as_json:
        rows = found.figures.itertuples(index=False, name=None)
        keys = ("figure", "unit", "first", "second", "difference")
        said = {"profiles": list(found.names), "figures": [dict(zip(keys, row, strict=True)) for row in rows]}
        print_json("compare", said)
        return
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    for name in ("figure", *found.names, "difference", "unit"):
        table.add_column(name, justify="left" if name in ("figure", "unit") else "right")
    for row in found.figures.itertuples(index=False):
        name, unit, a, b, difference = row
        table.add_row(str(name), *(_shown(float(value)) for value in (a, b)), _shown(float(difference), "+"), str(unit))
    results.print(table)
    if figure is not None:
        results.print(f"The figure is in {figure}.", soft_wrap=True)


def _shown(value: float, sign: str = "") -> str:
    return "" if math.isnan(value) else f"{value:{sign}.3g}"
