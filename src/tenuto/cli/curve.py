"""``tenuto curve``: the response of each control, from the device's numbers to speed."""

from __future__ import annotations

from collections.abc import Hashable
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.table import Table
from rich.text import Text

from tenuto.cli.console import print_json, results


def curve(
    profile: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="The profile, a TOML file.")],
    figure: Annotated[
        Path | None, typer.Option(help="Write the figure to this file; its suffix selects the format.")
    ] = None,
    table: Annotated[
        Path | None,
        typer.Option(dir_okay=False, help="Write every step of every control to this CSV file; - prints it."),
    ] = None,
    calibration: Annotated[
        Path | None,
        typer.Option(exists=True, dir_okay=False, help="Use this calibration; by default the one beside the profile."),
    ] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print the summary as JSON.")] = False,
) -> None:
    """Show each driving control from raw to shaped, in each mode and with each set of rates.

    [bold]Examples:[/bold]

      tenuto curve medlar.toml

      tenuto curve medlar.toml --figure medlar.png --table medlar-curve.csv
    """
    import tenuto
    from tenuto.analysis.curves import curve_summary, curve_table, responses
    from tenuto.profile.prepare import prepare_profile

    prepared = prepare_profile(profile, calibration=calibration)
    loaded, found = prepared.profile, prepared.calibration
    if table is not None:
        rows = curve_table(loaded, found).round(6)
        if str(table) == "-":
            typer.echo(rows.to_csv(index=False), nl=False)
            return
        try:
            rows.to_csv(table, index=False)
        except OSError as error:
            raise tenuto.TenutoError(f"{table}: cannot write the table: {error.strerror or error}") from error
    if figure is not None:
        from tenuto.figures import save_figure
        from tenuto.figures.curves import curve_figure

        save_figure(curve_figure(responses(loaded, found), f"{loaded.name}: from stick to speed"), figure)
    summary = curve_summary(loaded, found)
    if as_json:
        print_json("curve", {"robot": loaded.name, "responses": summary.to_dict("records")})
        return
    results.print(Text.assemble((loaded.name, "bold"), ": the response of each control"))
    results.print(_table(summary.to_dict("records")))
    results.print(
        "half way: the output at half the travel; slow outputs: the outputs up to a fifth of full", style="dim"
    )
    if not summary["measured"].all():
        results.print("usual: not measured, the usual value of such a device", style="dim")
    for written in (figure, table):
        if written is not None:
            results.print(f"wrote {written}", soft_wrap=True)


def _table(rows: list[dict[Hashable, Any]]) -> Table:
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    for name, right in (("control", False), ("in", False), ("dead zone", True), ("device steps", True),
                        ("outputs", True), ("smallest", True), ("slow outputs", True), ("half way", True),
                        ("end", True)):  # fmt: skip
        table.add_column(name, justify="right" if right else "left")
    before = None
    for row in rows:
        outer = f" + {100 * float(str(row['outer'])):.0f} %" if row["outer"] else ""
        table.add_row(
            "" if row["control"] == before else str(row["control"]),
            str(row["in"]),
            f"{100 * float(str(row['dead_zone'])):.1f} %{outer}",
            f"{row['steps']}{'' if row['measured'] else ' (usual)'}",
            str(row["outputs"]),
            f"{row['smallest']:.4f}",
            str(row["slow_outputs"]),
            f"{row['half_way']:.2f}",
            f"{row['end']:.2f}",
        )
        before = row["control"]
    return table
