"""``tenuto robot``: a simulated robot in a process of its own, at the far end of a serial line or of MAVLink."""

from __future__ import annotations

import csv
import math
import time
from collections.abc import Iterator, Mapping
from contextlib import ExitStack
from pathlib import Path
from typing import IO, TYPE_CHECKING, Annotated, Any, Protocol

import typer

from tenuto.basics.errors import SinkError
from tenuto.cli.clock import the_clock
from tenuto.cli.console import results
from tenuto.cli.signals import ctrl_c
from tenuto.cli.words import quantity_of
from tenuto.clock import Clock
from tenuto.files import open_to_write
from tenuto.kinds.quantities import TIME

if TYPE_CHECKING:
    from tenuto.profile import Profile
    from tenuto.sim.robots import PathPoint, SimulatedRobot

_SHOWN_EVERY = 0.25


class _Stands(Protocol):
    """A simulated robot."""

    robot: SimulatedRobot

    def run(self, clock: Clock) -> Iterator[PathPoint]: ...

    def summary(self) -> str: ...


def robot(
    profile: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="The profile, a TOML file.")],
    log: Annotated[
        Path | None, typer.Option(dir_okay=False, help="Write its pose every 10 ms to this CSV file.")
    ] = None,
    link: Annotated[Path | None, typer.Option(help="A link to its serial port, such as ./cart.")] = None,
    mavlink: Annotated[
        str | None,
        typer.Option(help="Simulate an autopilot that listens at this address: HOST:PORT.", show_default=False),
    ] = None,
    form: Annotated[str, typer.Option(help="The form of the serial line: text, binary or signed.")] = "text",
    key: Annotated[Path | None, typer.Option(help="A key file: only signed messages count.")] = None,
    loss: Annotated[
        float, typer.Option(min=0.0, max=1.0, help="Drop this share of the messages in both directions, 0 to 1.")
    ] = 0.0,
    delay: Annotated[
        str | None, typer.Option(help='The delay of each message, such as "80 ms".', show_default=False)
    ] = None,
    seconds: Annotated[
        float, typer.Option(min=0.1, help="Stop after this time; by default at Ctrl-C.", show_default=False)
    ] = math.inf,
) -> None:
    """Simulate a robot: read velocity lines or MAVLink, move, and stop when they are missing.

    [bold]Examples:[/bold]

      tenuto robot medlar.toml --link ./cart

      tenuto drive medlar.toml --to serial:./cart          (in another terminal)

      tenuto robot damson.toml --mavlink 127.0.0.1:14550

      tenuto drive damson-guided.toml                      (in another terminal)
    """
    import tenuto

    if mavlink is not None and link is not None:
        raise typer.BadParameter("give only one of them", param_hint="--link and --mavlink")
    if form not in ("text", "binary", "signed"):
        raise typer.BadParameter("expected text, binary or signed", param_hint="--form")
    if mavlink is None and (form == "signed") is not (key is not None):
        raise typer.BadParameter("a key is for --form signed, or for --mavlink", param_hint="--key")
    line = {"loss": loss, "delay": quantity_of(delay, TIME, "--delay") or 0.0}
    loaded = tenuto.load_profile(profile)
    with ExitStack() as stack:
        file = None
        if log is not None:
            try:
                file = stack.enter_context(open_to_write(log, text=True))
            except OSError as error:
                raise SinkError(f"{log}: cannot write there: {error.strerror or error}") from error
        stands, where = (
            _autopilot(stack, loaded, mavlink, key, line) if mavlink is not None
            else _serial(stack, loaded, link, form, key, line)
        )  # fmt: skip
        results.print(f"{loaded.name} listens on {where}. Ctrl-C ends it.", soft_wrap=True)
        with ctrl_c() as stopped:
            _live(stands, file, seconds, stopped)
        here, units = stands.robot.now, stands.robot.chassis.units
        pose = f"at x {here.x:+z.2f} m, y {here.y:+z.2f} m, {math.degrees(here.heading):+z.0f} deg, "
        pose = pose if units.known else ""
        results.print(f"It is {pose}{units.speed.shown(here.vx, '+.2f')}. {stands.summary()}.", soft_wrap=True)


def _serial(
    stack: ExitStack, profile: Profile, link: Path | None, form: str, key: Path | None, line: Mapping[str, float]
) -> tuple[_Stands, str]:
    from tenuto.links.key_file import read_key
    from tenuto.sim.far_end import FarEnd

    secret = read_key(str(key), SinkError) if key is not None else None
    place = str(link) if link is not None else None
    far_end = stack.enter_context(
        FarEnd(profile, link=place, form=form, key=secret, loss=line["loss"], delay=line["delay"])
    )
    return far_end, str(link or far_end.port)


def _autopilot(
    stack: ExitStack, profile: Profile, address: str, key: Path | None, line: Mapping[str, float]
) -> tuple[_Stands, str]:
    from tenuto.links.key_file import read_key
    from tenuto.sim.autopilot import Autopilot

    secret = read_key(str(key), SinkError) if key is not None else None
    autopilot = stack.enter_context(Autopilot(profile, address, key=secret, loss=line["loss"], delay=line["delay"]))
    host, port = autopilot.address
    return autopilot, f"{host}:{port} for MAVLink"


def _live(stands: _Stands, file: IO[Any] | None, seconds: float, stopped: list[int]) -> None:
    """Run the robot, show its position, and record it."""
    writer = csv.writer(file, lineterminator="\n") if file is not None else None
    if writer is not None:
        writer.writerow(("time", "x", "y", "z", "heading", "vx", "vy", "vz", "yaw_rate"))
    shown = 0.0
    for point in stands.run(the_clock.get()):
        if writer is not None and file is not None:
            where = (point.x, point.y, point.z, point.heading)
            if not stands.robot.chassis.units.known:
                where = (math.nan,) * 4  # unknown
            here = (*where, point.vx, point.vy, point.vz, point.yaw_rate)
            # On the clock that all processes of a machine share, so that logs can be compared.
            writer.writerow((f"{time.monotonic():.4f}", *(f"{value:.4f}" for value in here)))
            file.flush()
        if results.is_terminal and point.time - shown >= _SHOWN_EVERY:
            shown = point.time
            units = stands.robot.chassis.units
            up = f", z {point.z:+z.2f} m" if point.z else ""
            pose = f"x {point.x:+z.2f} m, y {point.y:+z.2f} m{up}, " if units.known else ""
            text = f"{pose}{units.speed.shown(point.vx, '+.2f')}; {stands.summary()}   "
            results.print(text, end="\r", no_wrap=True, crop=True)
        if stopped or point.time >= seconds:
            return
