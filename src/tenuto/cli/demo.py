"""``tenuto demo``: a shipped drive through the orchard, faster than real time."""

from __future__ import annotations

import math
import shutil
import time
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.table import Table
from rich.text import Text

from tenuto.cli.console import print_json, results
from tenuto.cli.words import stop_in_words, summary_as_json

if TYPE_CHECKING:
    from tenuto.analysis.summary import DriveSummary
    from tenuto.profile import Profile
    from tenuto.sim import PathPoint

# Robot → its profile and its recording.
COURSES = {
    "medlar": ("medlar.toml", "orchard-row.csv"),
    "quince": ("quince.toml", "quince-course.csv"),
    "sorrel": ("sorrel.toml", "sorrel-course.csv"),
    "damson": ("damson.toml", "damson-flight.csv"),
}
MORE_PROFILES = (
    "medlar-keyboard.toml",
    "medlar-lift.toml",
    "medlar-lesson.toml",
    "damson-guided.toml",
    "round-the-tree.toml",
)
# For `tenuto calibrate --from`, `tenuto begin --from` and `tenuto measure`.
SESSIONS = ("worn-pad.csv", "clean-transmitter.csv", "pad-gestures.csv", "medlar-odometry.csv")


class Story(StrEnum):
    """The stories of the demo."""

    FAULTS = "faults"


class Robot(StrEnum):
    """The robots of the orchard."""

    MEDLAR = "medlar"
    QUINCE = "quince"
    SORREL = "sorrel"
    DAMSON = "damson"


def demo(
    out: Annotated[Path, typer.Option(help="Folder for the log, the figure and copies of the input files.")] = Path(
        "tenuto-demo"
    ),
    robot: Annotated[
        Robot, typer.Option(help="Medlar has two driven wheels, Quince steers four, Sorrel floats, Damson flies.")
    ] = Robot.MEDLAR,
    story: Annotated[Story | None, typer.Option(help="Run another story: five faults.")] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print the summary as JSON.")] = False,
) -> None:
    """Drive an orchard robot with a shipped recording, and show the drive and the reasons of its stops.

    No device is needed. It writes a log, a figure and copies of all shipped files.

    [bold]Examples:[/bold]

      tenuto demo --out orchard

      tenuto demo --robot quince

      tenuto demo --story faults
    """
    from tenuto.analysis.summary import summarise
    from tenuto.analysis.ticks import replay
    from tenuto.data import shipped
    from tenuto.figures import save_figure
    from tenuto.figures.drive import drive_figure
    from tenuto.profile import load_profile
    from tenuto.profile.prepare import keep_with, prepare_profile
    from tenuto.sinks import open_sink
    from tenuto.sinks.simulated import SimulatedSink

    if story is not None:
        _tell(out, as_json)
        return
    source, recording = COURSES[robot]
    try:
        out.mkdir(parents=True, exist_ok=True)
        for name in (*(name for pair in COURSES.values() for name in pair), *MORE_PROFILES, *SESSIONS):
            shutil.copyfile(shipped(name), out / name)
    except OSError as error:
        raise typer.BadParameter(f"cannot write to {out}: {error.strerror or error}", param_hint="--out") from error
    profile = load_profile(out / source)
    simulated = SimulatedSink()
    began = time.perf_counter()
    stem = "drive" if robot is Robot.MEDLAR else f"drive-{robot}"
    with open_sink(f"log:{out / stem}.csv") as log:
        ticks = replay(profile, out / recording, [log, simulated])
    keep_with(out / f"{stem}.csv", prepare_profile(profile))
    took = time.perf_counter() - began
    table = ticks.to_frame()
    path, plan = simulated.robot.path, profile.plan()
    summary = summarise(table, path)
    title = f"{profile.name}: a drive in the orchard"
    sticks = plan.driving_controls()[:4]
    figure = drive_figure(table, path, sticks, title, plan.chassis, simulated.robot.history)
    save_figure(figure, out / f"{stem}.png")
    if as_json:
        print_json("demo", {"robot": profile.name, **summary_as_json(summary), "out": str(out)})
    else:
        _print(profile, summary, path, took, (out / source, out / recording, out / stem))


def _print(
    profile: Profile, summary: DriveSummary, path: list[PathPoint], took: float, files: tuple[Path, Path, Path]
) -> None:
    from tenuto.analysis.summary import roll_out

    end = path[-1]
    source, recording, stem = files
    results.print(Text.assemble((profile.name, "bold"), f", driven from {recording.name}"))
    grid = Table.grid(padding=(0, 2))
    grid.add_column(style="bold cyan", no_wrap=True)
    grid.add_column()
    grid.add_row(
        "driven",
        f"{summary.distance:.1f} m in {summary.seconds_driving:.1f} s of driving, "
        f"at most {summary.top_speed:.2f} m/s and {math.degrees(summary.top_turn_speed):.0f} deg/s",
    )
    grid.add_row("", f"the simulated robot ended at {_place(end)}, standing")
    for number, stop in enumerate(summary.stops):
        grid.add_row("guard" if number == 0 else "", stop_in_words(stop, *roll_out(path, stop)))
    speed_up = f"{summary.seconds / took:.0f} × real time"
    grid.add_row("loop", f"{summary.ticks} ticks, {summary.seconds:.1f} s in {took:.2f} s: {speed_up}")
    grid.add_row("log", f"{stem}.csv")
    grid.add_row("figure", f"{stem}.png")
    results.print(grid)
    results.print(f"Next, the same at real speed:  tenuto drive {source} --recording {recording}", soft_wrap=True)


def _tell(out: Path, as_json: bool) -> None:
    """Simulate five faults, and describe the reaction of the guard to each."""
    from tenuto.analysis.story import tell_all
    from tenuto.analysis.summary import roll_out
    from tenuto.basics.errors import TenutoError
    from tenuto.figures import save_figure
    from tenuto.figures.story import story_figure

    stories = tell_all()
    try:
        out.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise TenutoError(f"{out}: cannot write there: {error.strerror or error}") from error
    figure = out / "faults.png"
    save_figure(story_figure(stories), figure)
    rows = []
    for told in stories:
        seconds, metres = roll_out(told.path, told.stop)
        end = told.ticks[-1].guard
        rows.append(
            {"robot": told.profile.name, "trouble": told.trouble.title, "at": told.stop.time,
             "reason": told.stop.reasons,
             "stood_after": seconds, "metres": metres, "state_at_the_end": str(end.state)}
        )  # fmt: skip
    if as_json:
        print_json("demo", {"stories": rows, "figure": str(figure)})
        return
    for row in rows:
        results.print(Text.assemble((f"{row['robot']}: {row['trouble']}", "bold")), soft_wrap=True)
        results.print(f"  at {row['at']:.2f} s: {row['reason']}", style="red", soft_wrap=True)
        stood = f"  stood {row['stood_after']:.2f} s and {row['metres']:.2f} m later"
        results.print(f"{stood}; at the end, with the sticks still held: {row['state_at_the_end']}")
    results.print(f"figure  {figure}", soft_wrap=True)


def _place(point: PathPoint) -> str:
    height = f", z {point.z:.2f} m" if abs(point.z) > 0.005 else ""
    return f"x {point.x:.2f} m, y {point.y:.2f} m{height}"
