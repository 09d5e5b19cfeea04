"""``tenuto robot``: a simulated robot in a process of its own, at the far end of a serial line."""

from __future__ import annotations

import csv
import math
import time
from contextlib import ExitStack, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, TextIO

import typer

from tenuto.cli.console import results
from tenuto.core.errors import SinkError

if TYPE_CHECKING:
    from tenuto.sim.far_end import FarEnd

_SHOWN_EVERY = 0.25


def robot(
    profile: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="The profile, a TOML file.")],
    log: Annotated[
        Path | None, typer.Option(dir_okay=False, help="Write where it is, a row each 10 ms, to this CSV file.")
    ] = None,
    link: Annotated[Path | None, typer.Option(help="Give its port this name too, such as ./cart.")] = None,
    seconds: Annotated[
        float, typer.Option(min=0.1, help="End after so long; else with Ctrl-C.", show_default=False)
    ] = math.inf,
) -> None:
    """Stand in for a robot: read velocity lines from a serial line, move, and stop when they stop coming.

    [bold]Examples:[/bold]

      tenuto robot medlar.toml --link ./cart

      tenuto drive medlar.toml --to serial:./cart          (in another terminal)
    """
    import tenuto
    from tenuto.sim.far_end import FarEnd

    loaded = tenuto.load_profile(profile)
    with ExitStack() as stack:
        file = None
        if log is not None:
            try:
                file = stack.enter_context(log.open("w", newline="", encoding="utf-8"))
            except OSError as error:
                raise SinkError(f"{log}: cannot write there: {error.strerror}") from error
        far_end = stack.enter_context(FarEnd(loaded, link=str(link) if link is not None else None))
        results.print(f"{loaded.name} listens on {link or far_end.port}. Ctrl-C ends it.", soft_wrap=True)
        with suppress(KeyboardInterrupt):
            _live(far_end, file, seconds)
        here, counts = far_end.robot.now, far_end.decoder.counts
        pose = f"x {here.x:+.2f} m, y {here.y:+.2f} m, {math.degrees(here.heading):+.0f} deg"
        results.print(f"It is at {pose}, {here.vx:+.2f} m/s. {counts.good} good lines, {counts.bad} bad.")


def _live(far_end: FarEnd, file: TextIO | None, seconds: float) -> None:
    """Let the robot live, show where it is, and write it down."""
    writer = csv.writer(file, lineterminator="\n") if file is not None else None
    if writer is not None:
        writer.writerow(("clock", "x", "y", "heading", "vx", "yaw_rate"))
    shown = 0.0
    for point in far_end.run():
        if writer is not None and file is not None:
            here = (point.x, point.y, point.heading, point.vx, point.yaw_rate)
            writer.writerow((f"{time.monotonic():.4f}", *(f"{value:.4f}" for value in here)))
            file.flush()
        if results.is_terminal and point.time - shown >= _SHOWN_EVERY:
            shown = point.time
            text = f"x {point.x:+.2f} m, y {point.y:+.2f} m, {point.vx:+.2f} m/s"
            results.print(f"{text}; {far_end.decoder.counts.good} good lines   ", end="\r")
        if point.time >= seconds:
            return
