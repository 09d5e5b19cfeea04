"""``tenuto tune``: settings from recorded sticks and a stated wish."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer
from rich.table import Table

from tenuto.cli.changes import offer
from tenuto.cli.console import print_json, results
from tenuto.cli.words import quantity_of


def tune(
    log: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="A recording of sticks, or a log.")],
    profile: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="The profile to tune.")],
    top_speed: Annotated[str | None, typer.Option(help='The intended top speed, such as "0.9 m/s".')] = None,
    stop_within: Annotated[
        str | None, typer.Option(help='The longest distance after the last frame, such as "0.6 m".')
    ] = None,
    finest: Annotated[str | None, typer.Option(help='The finest useful speed, such as "0.04 m/s".')] = None,
    noise: Annotated[
        float | None, typer.Option(min=0.0, max=0.2, help="Noise of the sticks at rest, as a share of their travel.")
    ] = None,
    figure: Annotated[
        Path | None, typer.Option(dir_okay=False, help="Draw a figure of before and after to this file.")
    ] = None,
    out: Annotated[Path | None, typer.Option(dir_okay=False, help="Write the changes as TOML to this file.")] = None,
    apply: Annotated[bool, typer.Option("--apply", help="Write the changes into the profile.")] = False,
    as_json: Annotated[bool, typer.Option("--json", help="Print it as JSON.")] = False,
) -> None:
    """Propose dead zones, expo and limits, each with the formula or the search that it comes from.

    [bold]Examples:[/bold]

      tenuto tune orchard-row.csv medlar.toml --top-speed "0.9 m/s" --stop-within "0.6 m" --figure tuned.png

      tenuto tune run.csv medlar.toml --finest "0.04 m/s" --apply
    """
    import tenuto
    from tenuto.analysis.compare import compare
    from tenuto.analysis.tune import Wish
    from tenuto.analysis.tune import tune as propose
    from tenuto.figures import save_figure
    from tenuto.figures.compare import compare_figure
    from tenuto.kinds.quantities import LENGTH, SHARE, SPEED
    from tenuto.profile.patch import changed_text, text_in
    from tenuto.profile.prepare import prepare_profile

    loaded = tenuto.load_profile(profile)
    speed = SHARE if loaded.chassis.in_shares else SPEED
    wish = Wish(
        quantity_of(top_speed, speed, "--top-speed"), quantity_of(stop_within, LENGTH, "--stop-within"),
        quantity_of(finest, speed, "--finest"), noise,
    )  # fmt: skip
    changes = propose(loaded, log, wish)
    _, tuned = changed_text(text_in(profile), changes, str(profile))
    if changes and not as_json:
        table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
        for name in ("key", "now", "proposed", "why"):
            table.add_column(name, no_wrap=name != "why")
        for one in changes:
            table.add_row(one.place, one.was, str(one.value), one.why)
        results.print(table)
    if figure is not None:
        prepared = prepare_profile(loaded, log=log)
        after = replace(prepared, profile=tuned)
        found = compare(log, prepared, after, names=("as it is", "as proposed"))
        save_figure(compare_figure(found, f"{loaded.name}: present and proposed settings"), figure)
    offer(changes, profile, out, apply=apply, quiet=as_json)
    if as_json:
        said = [{"key": one.place, "value": one.value, "was": one.was, "why": one.why} for one in changes]
        print_json("tune", {"proposals": said})
    elif figure is not None:
        results.print(f"The figure is in {figure}.", soft_wrap=True)
