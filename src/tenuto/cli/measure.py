"""``tenuto measure``: does the robot follow its commands?"""

from __future__ import annotations

import math
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.table import Table

from tenuto.cli.changes import offer
from tenuto.cli.console import print_json, problems, results
from tenuto.cli.why import beside
from tenuto.vehicles.units import NO_METRES

if TYPE_CHECKING:
    from tenuto.analysis.measure import Measured, Value

_NAMES = {"vx": "ahead", "yaw_rate": "turning"}


def measure(
    log: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="A log of a drive.", show_default=False)],
    odometry: Annotated[
        Path | None,
        typer.Option(
            exists=True,
            dir_okay=False,
            help="The measured motion, CSV or Parquet; by default the telemetry in the log.",
        ),
    ] = None,
    profile: Annotated[
        Path | None,
        typer.Option(exists=True, dir_okay=False, help="The profile of the drive; by default the one beside the log."),
    ] = None,
    figure: Annotated[Path | None, typer.Option(dir_okay=False, help="Draw a figure to this file, PNG or PDF.")] = None,
    out: Annotated[Path | None, typer.Option(dir_okay=False, help="Write the changes as TOML to this file.")] = None,
    apply: Annotated[bool, typer.Option("--apply", help="Write the changes into the profile.")] = False,
    as_json: Annotated[bool, typer.Option("--json", help="Print it as JSON.")] = False,
) -> None:
    """Compare commands with measured motion: scale, delay, lag, dead band, wheel radius and track.

    Without --odometry it uses the telemetry of a far end: its speed, or that of its wheels. The odometry
    has a column time and vx (and yaw_rate), or x, y and heading, in SI units; it may have its own clock.
    The exit status is 1 if the data are insufficient or do not match the commands; nothing is changed then.

    [bold]Examples:[/bold]

      tenuto measure run.csv

      tenuto measure run.csv --odometry wheels.csv --figure measured.png

      tenuto measure run.csv --odometry wheels.csv --profile medlar.toml --apply
    """
    import tenuto
    from tenuto.analysis.advice import changes_after_measuring, wheel_measures
    from tenuto.analysis.measure import measure as find
    from tenuto.analysis.odometry import load_odometry, motion_in_log
    from tenuto.figures import save_figure
    from tenuto.figures.measure import measure_figure

    place = profile or beside(log)
    loaded, table = tenuto.load_profile(place), tenuto.load_log(log)
    if loaded.chassis.in_shares:
        raise tenuto.TenutoError(f"{place}: {NO_METRES}: its log has shares of full, and odometry has m/s")
    motion = load_odometry(odometry) if odometry is not None else motion_in_log(table, loaded.plan().chassis)
    found = find(table, motion)
    changes = changes_after_measuring(loaded, found)
    if figure is not None:
        save_figure(measure_figure(table, found, f"{loaded.name}: does it follow its commands?"), figure)
    wheels = wheel_measures(found, loaded)
    if not as_json:
        _print(found, wheels)
    doubtful = not all(one.explained for one in found.responses.values())
    if changes or not doubtful:
        offer(changes, place, out, apply=apply, quiet=as_json)
    elif not as_json:
        results.print("Nothing was changed: this motion does not contain enough information.")
    if as_json:
        print_json("measure", _as_json(found, wheels) | {"changes": {one.place: one.value for one in changes}})
    elif figure is not None:
        results.print(f"The figure is in {figure}.", soft_wrap=True)
    if not found.responses or doubtful:
        raise typer.Exit(1)


def _print(found: Measured, wheels: dict[str, Value]) -> None:
    """Report the results, each with the data behind it."""
    clock = "one clock" if found.one_clock else f"clocks {found.clock_offset:+z.2f} s apart, found by correlation"
    results.print(f"Log and odometry: {clock}.")
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    for name in ("what", "value", "± (95 %)", "unit", "from"):
        table.add_column(name, justify="right" if name in ("value", "± (95 %)", "from") else "left")
    for axis, one in found.responses.items():
        degrees = math.degrees(1.0) if axis == "yaw_rate" else 1.0
        unit = "deg/s" if axis == "yaw_rate" else "m/s"
        rows: list[tuple[str, Value | None, float, str]] = [
            ("scale", one.scale, 1.0, "times the command"), ("offset", one.offset, degrees, unit),
            ("delay", one.delay, 1000.0, "ms"), ("time constant", one.time_constant, 1000.0, "ms"),
            ("dead band", one.dead_band, degrees, unit),
        ]  # fmt: skip
        for name, value, factor, words in rows:
            if value is not None:
                table.add_row(f"{_NAMES[axis]}: {name}", *_cells(value, factor), words, f"{value.seconds:.0f} s")
    for name, value in wheels.items():
        table.add_row(name.replace("_", " "), *_cells(value, 1.0), "m", f"{value.seconds:.0f} s")
    if found.responses:
        results.print(table)
    for axis, one in found.responses.items():
        for warning in one.warnings:
            problems.print(f"{_NAMES[axis]}: {warning}", style="yellow", soft_wrap=True)
    for warning in found.warnings:
        problems.print(warning, style="yellow", soft_wrap=True)


def _cells(value: Value, factor: float) -> tuple[str, str]:
    """Show a value with the number of places that its uncertainty justifies."""
    spread = factor * value.plus_minus
    if not math.isfinite(spread) or spread <= 0.0:
        return f"{factor * value.value:.3g}", ""
    places = max(0, min(5, 1 - math.floor(math.log10(spread))))
    return f"{factor * value.value:.{places}f}", f"{spread:.{places}f}"


def _as_json(found: Measured, wheels: dict[str, Value]) -> dict[str, object]:
    keys = ("scale", "offset", "delay", "time_constant", "dead_band")
    return {
        "clock_offset": found.clock_offset,
        "one_clock": found.one_clock,
        "axes": {
            axis: {key: value._asdict() if (value := getattr(one, key)) is not None else None for key in keys}
            | {"unexplained": one.unexplained, "warnings": list(one.warnings)}
            for axis, one in found.responses.items()
        },
        "measures": {name: value._asdict() for name, value in wheels.items()},
        "warnings": list(found.warnings),
    }
