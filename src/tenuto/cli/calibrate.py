"""``tenuto calibrate``: measure the sticks."""

from __future__ import annotations

import math
import sys
import tempfile
from contextlib import ExitStack
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import numpy as np
import typer
from rich.console import Group
from rich.live import Live
from rich.table import Table
from rich.text import Text

from tenuto.basics.errors import CalibrationError, SourceError
from tenuto.basics.extras import needs
from tenuto.basics.frame import Frame
from tenuto.cli.clock import the_clock
from tenuto.cli.console import print_json, results
from tenuto.cli.menus import Choice, choose
from tenuto.cli.signals import ctrl_c
from tenuto.cli.watch import Watch, show_on, watch_pages
from tenuto.cli.words import named_texts

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from tenuto.basics.layouts import ControlInfo
    from tenuto.calibration import Measurement
    from tenuto.calibration.measure import Zero
    from tenuto.links.page import PageServer
    from tenuto.sources import Source

# The longest wait for the first frame, s.
_PATIENCE = 5.0
_POLL_SECONDS, _REFRESH_SECONDS = 0.004, 0.2
# How long a page shows the end, s.
_LAST_LOOK = 0.5


def calibrate(
    source: Annotated[str, typer.Argument(help="A source, such as gamepad or sbus:/dev/ttyAMA0.")] = "gamepad",
    recording: Annotated[
        Path | None, typer.Option("--from", exists=True, dir_okay=False, help="Measure from a recording instead.")
    ] = None,
    out: Annotated[
        Path | None,
        typer.Option(dir_okay=False, help="The file to write; by default in the user's data folder."),
    ] = None,
    record: Annotated[
        Path | None, typer.Option(dir_okay=False, help="Write the numbers to this recording too.")
    ] = None,
    figure: Annotated[Path | None, typer.Option(dir_okay=False, help="Draw the measurement to this PNG file.")] = None,
    ends: Annotated[float, typer.Option(min=1.0, help="Seconds for moving to the ends.")] = 15.0,
    lets: Annotated[float, typer.Option("--returns", min=1.0, help="Seconds for the releases.")] = 20.0,
    page: Annotated[
        str | None,
        typer.Option(help="Show the steps on a page too: its port, such as 8600 or 8600,lan=true.", show_default=False),
    ] = None,
    zero: Annotated[
        list[str] | None,
        typer.Option(
            help="Where a control without a spring has its zero: channel_3=middle or channel_3=low. Asked if needed.",
            metavar="NAME=PLACE",
        ),
    ] = None,
    force: Annotated[bool, typer.Option("--force", help="Keep it even if it has errors.")] = False,
    as_json: Annotated[bool, typer.Option("--json", help="Print what was measured as JSON.")] = False,
) -> None:
    """Measure every control (rest, ends, noise, return) and store the calibration for this device.

    First keep your hands off, then move everything to its ends, then release each stick several times.

    [bold]Examples:[/bold]

      tenuto calibrate gamepad

      tenuto calibrate --from worn-pad.csv --figure worn-pad.png

      tenuto calibrate crsf:/dev/ttyAMA0 --zero channel_3=middle   a throttle without a spring, for both directions

      tenuto calibrate sbus:/dev/ttyAMA0 --page 8600,lan=true      with a phone beside the robot
    """
    from tenuto.calibration import measure
    from tenuto.sources.recording import write_recording

    zeros = _zeros(zero or [])
    if figure is not None:
        needs("matplotlib")  # before a stick is moved
    if recording is not None and page is not None:
        raise typer.BadParameter("a recording cannot be guided: not possible with --from", param_hint="--page")
    frames, infos, name, identity = _session(source, recording, (ends, lets), page, zeros)
    if record is not None:
        write_recording(record, frames)
    measurement = measure(frames, infos, zeros)
    if not as_json and (asked := _asked_zeros(measurement)):
        measurement = measure(frames, infos, zeros | asked)
    if not as_json:
        _print(measurement, name)
    try:  # the measurement took a minute: it is stored before the picture is drawn
        good = _keep(measurement, identity, name, out, force, quiet=as_json, recorded=recording is not None)
    finally:
        if figure is not None:
            from tenuto.figures import save_figure
            from tenuto.figures.calibration import calibration_figure

            save_figure(calibration_figure(measurement, frames, f"What was measured of {name}"), figure)
    if as_json:
        print_json("calibrate", _as_json(measurement))
    if not good:
        raise typer.Exit(1)


def _session(
    source: str, recording: Path | None, lasts: tuple[float, float], page: str | None, named: Iterable[str]
) -> tuple[list[Frame], Sequence[ControlInfo], str, str]:
    """Return the frames of a recording or a guided session, and the controls, name and identity of the device."""
    from tenuto.sources import known_infos, open_source
    from tenuto.sources.recording import Recording

    if recording is not None:
        played = Recording(recording)
        frames, infos, name, identity = played.frames, known_infos(played), played.name, ""
        _must_have(infos, name, named)
    else:
        with open_source(source, clock=the_clock.get()) as opened:
            infos, name, identity = opened.controls(), opened.name, opened.identity
            _must_have(infos, name, named)  # before a stick is moved
            frames = _lead(opened, *lasts, page)
    if not frames:
        raise SourceError(f"{name} sent nothing: is it switched on, and is the kind of source right?")
    return frames, infos, name, identity


def _must_have(infos: Sequence[ControlInfo], device: str, named: Iterable[str]) -> None:
    """Raise `typer.BadParameter` if a device lacks a control that was named."""
    known = [info.name for info in infos]
    for name in named:
        if name not in known:
            found = f"expected a control of {device}: {', '.join(known)}; found {name}"
            raise typer.BadParameter(found, param_hint="--zero")


def _zeros(said: list[str]) -> dict[str, Zero]:
    """Read the options for the zeros of controls. Raises `typer.BadParameter`."""
    zeros: dict[str, Zero] = {}
    for name, place in named_texts(said, "--zero").items():
        if place not in ("low", "middle"):
            raise typer.BadParameter(f"expected {name}=low or {name}=middle, found {name}={place}", param_hint="--zero")
        zeros[name] = "low" if place == "low" else "middle"
    return zeros


def can_ask() -> bool:
    """Return whether a person at the terminal can answer a question."""
    return results.is_terminal and sys.stdin.isatty()


def _asked_zeros(measurement: Measurement) -> dict[str, Zero]:
    """Ask where the zero is of each stick that stays at its low end, if there is a person to ask."""
    said: dict[str, Zero] = {}
    if not can_ask():
        return said
    for name, control in measurement.controls.items():
        if control.undecided:
            title = f"{name} stays at its low end. Where does it demand nothing?"
            places = [Choice("low", "at its low end: it has one direction"),
                      Choice("middle", "in its middle: below it drives backward, or sinks")]  # fmt: skip
            said |= _zeros([f"{name}={choose(title, places)}"])
    return said


def _lead(source: Source, ends: float, lets: float, page: str | None) -> list[Frame]:
    """Guide the user through the three steps, with a live picture, and return the frames of all of them."""
    from tenuto.calibration import measure
    from tenuto.calibration.measure import REST_SECONDS

    steps = (
        (REST_SECONDS + 0.5, "1 of 3: hands off. Do not touch anything."),
        (ends, "2 of 3: move every stick, lever and switch to all its ends, slowly, at least three times."),
        (lets, "3 of 3: push each stick out and let it snap back, in different directions, at least six times."),
    )
    frames: list[Frame] = []
    view = Watch(source, {})
    with ExitStack() as stack:
        live = stack.enter_context(Live(auto_refresh=False, console=results)) if results.is_terminal else None
        pages = watch_pages(stack, source, page)
        stopped = stack.enter_context(ctrl_c())
        clock = the_clock.get()
        start, refreshed, ended = clock.now(), -1.0, 0.0
        for number, (seconds, prompt) in enumerate(steps, 1):
            ended += seconds
            if live is None:
                results.print(prompt)
            while not stopped and (view.now < ended or not frames):
                frame = view.poll(clock.now() - start)
                if frame is not None:
                    if not frames:
                        ended += view.now  # the first step begins with the first frame
                    frames.append(frame)
                elif not frames and view.now > _PATIENCE:
                    return []
                if view.now - refreshed >= _REFRESH_SECONDS and (pages or live is not None):
                    refreshed = view.now
                    _show(view, pages, live, number, prompt, ended - view.now, _both_ends(frames, view))
                clock.sleep_until(start + view.now + _POLL_SECONDS)
        if pages and not stopped:
            _say_done(pages, view, measure(frames, source.controls()))
        if stopped:
            raise KeyboardInterrupt
    return frames


def _show(
    view: Watch, pages: list[PageServer], live: Live | None, number: int, prompt: str, left: float, done: list[str]
) -> None:
    """Show the instruction, the remaining time and the progress, in the terminal and on pages."""
    show_on(pages, view, {"step": number, "prompt": prompt, "left": math.ceil(left), "done": done})
    if live is not None:
        said = Text(f"{prompt}  {left:.0f} s", style="bold yellow")
        marks = dict.fromkeys(done, "✓ both ends")
        live.update(Group(said, view.link(), view.table(results.height - 4, marks)), refresh=True)


def _say_done(pages: list[PageServer], view: Watch, found: Measurement) -> None:
    """Show the result on pages; it remains there after the end of this program."""
    prompt = "Measured." if found.good else "Measured, but with errors. Fix those listed, and measure again."
    more = {
        "step": 0, "prompt": prompt, "findings": [f"{one.where}: {one.text}" for one in found.findings],
        "verdicts": {name: one.verdict for name, one in found.controls.items() if one.moved},
    }  # fmt: skip
    for server in pages:
        server.watched = {**view.as_page(), **more}
    clock = the_clock.get()
    clock.sleep_until(clock.now() + _LAST_LOOK)


def _both_ends(frames: list[Frame], view: Watch) -> list[str]:
    """Name the controls whose two known ends were each reached at least twice."""
    from tenuto.calibration import count_visits

    done = []
    for name, seen in view.observer.controls.items():
        low, high = seen.info.travel or (-math.inf, math.inf)
        if seen.info.kind == "button" or seen.high - seen.low < 0.5 * (high - low) or seen.high == seen.low:
            continue
        raw = np.array([frame.values[name] for frame in frames[:: max(1, len(frames) // 1000)] if frame.link_good])
        if len(raw) and min(count_visits(raw, seen.low, seen.high)) >= 2:
            done.append(name)
    return done


def _print(measurement: Measurement, name: str) -> None:
    table = Table(box=None, padding=(0, 1, 0, 0), header_style="dim", title=f"measured: {name}", title_justify="left")
    for column in ("control", "rests", "low", "centre", "high", "steps", "noise", "scatter", "zone", "verdict"):
        left = column in ("control", "rests", "verdict")
        table.add_column(column, justify="left" if left else "right", no_wrap=True)
    colours = {"good": "green", "usable": "yellow", "not good": "bold red"}
    still = [one.info.name for one in measurement.controls.values() if not one.moved]
    for one in measurement.controls.values():
        if one.moved:
            table.add_row(
                one.info.name,
                f"switch {len(one.positions)}" if one.kind == "switch" else one.kind,
                *map(_short, (one.low, one.centre, one.high)),
                str(one.steps),
                _short(one.noise),
                _short(one.scatter) if len(one.places) else "",
                "–" if math.isnan(one.dead_zone) else f"{100 * one.dead_zone:.1f} %",
                Text(one.verdict, style=colours[one.verdict]),
            )
    results.print(table)
    if still:
        results.print(f"never moved, so not measured: {', '.join(still)}", style="dim", soft_wrap=True)
    for stick, shape in measurement.shapes.items():
        results.print(f"{stick}: its travel is {shape}", soft_wrap=True)
    for finding in measurement.findings:
        style = "bold red" if finding.is_error else "yellow"
        results.print(Text.assemble((finding.where, style), f": {finding.text}"), soft_wrap=True)


def _short(value: float) -> str:
    """Write a number in as few characters as possible."""
    return f"{value:.0f}" if abs(value) >= 1000.0 else f"{value:.4g}"


def _keep(
    measurement: Measurement, identity: str, name: str, out: Path | None, force: bool, *, quiet: bool, recorded: bool
) -> bool:
    """Save the calibration if it is good enough, or report why it is not. Return whether it is."""
    from tenuto.calibration.store import default_path

    if not measurement.good and not force:
        if not quiet:
            results.print("Not saved: it has errors. Fix those listed above, or use --force.", style="bold red")
        return False
    if recorded and out is None:
        if not quiet:
            results.print("Not saved: a recording does not identify its device; use --out to name a file.")
        return True
    path = out or default_path(identity)
    measured = measurement.calibration(identity, name)
    try:
        measured.save(path)
    except CalibrationError as error:
        # The user has moved every stick for minutes: a full disk must not lose that.
        with tempfile.NamedTemporaryFile(prefix="tenuto-calibration-", suffix=".toml", delete=False) as rescue:
            measured.save(rescue.name)
        raise CalibrationError(f"{error}. It is saved in {rescue.name} instead: move it there") from error
    if not quiet:
        results.print(f"Saved in {path}", soft_wrap=True)
    return True


def _as_json(measurement: Measurement) -> dict[str, object]:
    return {
        "good": measurement.good, "shapes": measurement.shapes,
        "findings": [asdict(finding) for finding in measurement.findings],
        "controls": {
            name: {**asdict(one.calibration()), "verdict": one.verdict, "steps": one.steps,
                   "returns": len(one.places), "dead_zone": one.dead_zone, "drift": one.drift}
            for name, one in measurement.controls.items() if one.moved
        },
    }  # fmt: skip
