"""``tenuto script``: motion from a file; shown first, and driven only when asked to."""

from __future__ import annotations

import math
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.table import Table

from tenuto.cli.clock import loop_clock, the_clock
from tenuto.cli.console import print_json, problems, results
from tenuto.cli.status import StatusLine
from tenuto.vehicles.units import METRIC

if TYPE_CHECKING:
    from tenuto.driving.tick import Tick
    from tenuto.motion.course import Course, Violation
    from tenuto.profile import Profile

_DRIVER = "script"
_WAYS = {"vx": "forward", "vy": "sideways", "vz": "up", "yaw_rate": "turn"}


def script(
    script: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="The script, a TOML file.")],
    profile: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="The profile of the robot.")],
    within: Annotated[
        float, typer.Option(min=0.01, help="The largest distance from its start, m.", show_default=False)
    ] = math.inf,
    fit: Annotated[bool, typer.Option(help="Make it smaller and slower until it fits.")] = False,
    figure: Annotated[Path | None, typer.Option(dir_okay=False, help="Draw a figure to this PNG file.")] = None,
    go: Annotated[bool, typer.Option("--go", help="Drive it, after the driver has enabled.")] = False,
    source: Annotated[str | None, typer.Option(help="Another source for the driver than the profile's.")] = None,
    to: Annotated[list[str] | None, typer.Option(help="The sinks, as in tenuto drive.", show_default=False)] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print the figures as JSON.")] = False,
) -> None:
    """Preview a script with a robot; with --go, drive it while the driver holds, until a stick is moved.

    The path is kept: if the robot cannot change its velocity fast enough, it drives that part more slowly.
    A script is refused, with exit status 1, if it exceeds the profile's speeds, leaves its path by 5 % of its size,
    or goes farther than permitted, stops included.

    [bold]Examples:[/bold]

      tenuto script round-the-tree.toml medlar.toml --within 4 --figure round.png

      tenuto script round-the-tree.toml medlar.toml --go
    """
    import tenuto
    from tenuto.motion.course import Course, Rules, beyond, fitted, impossible
    from tenuto.profile.script import load_script

    name, motion = load_script(script)  # first: a profile in its place says so
    loaded = tenuto.load_profile(profile)
    plan = loaded.plan()
    rules = Rules.of(plan)
    notes: list[str] = []
    pace = 1.0
    try:
        course = Course(motion, rules)
        wrong = course.problems(within) or course.bends()
        if wrong and fit and not impossible(course, plan.chassis):
            scaled, course = fitted(motion, rules, within)
            pace = scaled.pace
            notes.append(f"made to fit: {100 * scaled.size:.0f} % of the size, {100 * scaled.pace:.0f} % of the pace")
            wrong = []
        cannot = beyond(course, plan.chassis)
        wrong += cannot
    except ValueError as error:
        raise tenuto.TenutoError(f"{script}: {error}") from error

    def where(violation: Violation) -> str:
        step = motion.name_at(course.moment(violation.time) * pace)
        return f", in {step}" if step else ""

    if figure is not None:
        from tenuto.figures import save_figure
        from tenuto.figures.script import script_figure

        save_figure(script_figure(name, course, within), figure)
    if as_json:
        said = [f"{violation}{where(violation)}" for violation in wrong]
        print_json("script", {"name": name, **_figures(course), "problems": said, "notes": notes})
    else:
        _print(name, course, notes)
    for violation in wrong:
        problems.print(f"{violation}{where(violation)}", style="bold red", soft_wrap=True)
    if wrong:
        mend = "Change its steps" if cannot else "--fit makes it smaller and slower"
        problems.print(f"Not driven. {mend}.", soft_wrap=True)
        raise typer.Exit(1)
    if go:
        _drive(loaded, course, name, source, to, quiet=as_json)


def _figures(course: Course) -> dict[str, object]:
    """Return the figures of a course, for programs; SI."""
    return {
        "seconds": course.seconds, "excursion": course.excursion,
        **{way: [float(along.min()), float(along.max())] for way, along in zip("xyz", course.path, strict=False)},
        "top_speeds": course.top_speeds._asdict(), "top_accelerations": course.top_accelerations._asdict(),
        "ends": [float(way[-1]) for way in course.path], "strays": course.strays, "turned_off": course.turned_off,
    }  # fmt: skip


def _print(name: str, course: Course, notes: list[str]) -> None:
    grid = Table.grid(padding=(0, 2))
    grid.add_column(style="bold cyan", no_wrap=True)
    grid.add_column()
    grid.add_row("script", f"{name}: {course.seconds:.1f} s")
    for axis, way in zip("xyz", course.path, strict=False):
        if abs(way).max() > 0.0:
            grid.add_row(axis, f"{way.min():+z.2f} m to {way.max():+z.2f} m, ends at {way[-1]:+z.2f} m")
    grid.add_row("away", f"at most {course.excursion:.2f} m from its start, stops included")
    off = math.degrees(course.turned_off)
    grid.add_row("true", f"within {course.strays:.2f} m and {abs(off):.0f} deg of its path")
    for axis, speed, acceleration in zip(_WAYS, course.top_speeds, course.top_accelerations, strict=True):
        if speed > 0.0:
            top, change = METRIC.of(axis).shown(speed), METRIC.change_of(axis).shown(acceleration)
            grid.add_row(_WAYS[axis], f"at most {top}, {change}")
    results.print(grid)
    for note in notes:
        results.print(note, style="yellow")


def _drive(
    profile: Profile,
    course: Course,
    name: str,
    source_text: str | None,
    to: list[str] | None,
    *,
    quiet: bool,
) -> None:
    """Drive a course as a driver below the one with the sticks, which gets the robot as soon as it is enabled."""
    import tenuto
    from tenuto.driving.plan import DriverPlan
    from tenuto.opening import keep_beside
    from tenuto.profile.prepare import prepare_profile
    from tenuto.sinks import open_as_said, open_sinks
    from tenuto.sources import open_others
    from tenuto.sources.script import Performance, ScriptSource

    motion = ScriptSource(name, course)
    performance = Performance(motion, _DRIVER)
    with ExitStack() as stack:
        driver = stack.enter_context(
            tenuto.open_source(profile if source_text is None else source_text, clock=the_clock.get())
        )
        prepared = prepare_profile(profile, driver)
        plan = prepared.plan()
        seat = DriverPlan(name=_DRIVER, at_once=True, link_timeout=plan.guard.link_timeout)
        plan = replace(plan, below=(seat,))
        sinks = open_as_said(to, profile) if to else open_sinks(profile) or [tenuto.open_sink("simulated")]
        for sink in sinks:
            stack.enter_context(sink)
        keep_beside(prepared, sinks)
        # There is no other driver, but the sensors remain.
        sensors = open_others(profile.model_copy(update={"drivers": {}}), clock=the_clock.get())
        for sensor in sensors.values():
            stack.enter_context(sensor)
        status = stack.enter_context(StatusLine(plan.chassis.units, quiet=quiet))

        told = ""

        def watch(tick: Tick) -> str | None:
            nonlocal told
            status.show(tick)
            ended = performance(tick)
            if performance.waits and performance.waits != told and not quiet:
                told = performance.waits
                status.say(f"The script waits: {told}")
            return ended

        report = tenuto.drive(
            plan, driver, sinks, others={_DRIVER: motion, **sensors}, clock=loop_clock(), on_tick=watch,
            bell=status.ring,
        )  # fmt: skip
    if not quiet:
        results.print(f"Stopped: {report.ended}. {report.ticks} ticks in {report.seconds:.1f} s.", soft_wrap=True)
    if not performance.complete:
        raise typer.Exit(1)
