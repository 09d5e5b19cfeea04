"""``tenuto station``: every robot at a broker, its state, and why it stands."""

from __future__ import annotations

import math
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.console import Group, RenderableType
from rich.live import Live
from rich.table import Table
from rich.text import Text

from tenuto.basics.errors import SourceError
from tenuto.cli.clock import the_clock
from tenuto.cli.console import counted, print_json, results
from tenuto.cli.signals import ctrl_c
from tenuto.cli.status import STATE_COLOURS
from tenuto.driving.guard import State

if TYPE_CHECKING:
    from tenuto.links.broker import Broker
    from tenuto.links.robots import Robots

_REFRESH_SECONDS = 0.2
_CHECKED = "Each state is signed by its robot, and new."
_NOT_CHECKED = "Not checked: whoever may write to the broker can make these states (see --key)."


def _table(robots: Robots, now: float) -> Table:
    """A row per robot."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    for name in ("robot", "state", "driver"):
        table.add_column(name, no_wrap=True)
    for name in ("ahead", "left", "up", "turning"):
        table.add_column(name, no_wrap=True, justify="right")
    table.add_column("why")
    known = {str(state): colour for state, colour in STATE_COLOURS.items()}
    for name in sorted(robots.states):
        said, condition = robots.states[name], robots.condition(name, now)
        axes = (said.vx, said.vy, said.vz)
        speeds = [f"{axis:+z.2f} m/s" if round(axis, 2) else "0" for axis in axes]
        speeds.append(f"{math.degrees(said.yaw_rate):+z.0f} deg/s" if round(said.yaw_rate, 2) else "0")
        if condition in ("gone", "silent"):
            speeds = [""] * 4
        style = known.get(condition, "bold red")
        table.add_row(
            Text(name, style="bold"), Text(condition, style=style), said.driver or "nobody", *speeds,
            _first(robots.why(name, now)),
        )  # fmt: skip
    return table


def _first(reasons: list[str]) -> str:
    """Describe the first of the reasons, and how many more there are."""
    more = f" (and {len(reasons) - 1} more)" if len(reasons) > 1 else ""
    return reasons[0] + more if reasons else ""


def station(
    broker: Annotated[str, typer.Argument(help="The broker: HOST, or HOST:PORT.", show_default=False)],
    user: Annotated[str | None, typer.Option(help="A user name at the broker.")] = None,
    password_file: Annotated[str | None, typer.Option(help="A file that holds the password.")] = None,
    ca: Annotated[
        str | None, typer.Option(help='A file of certificates to trust, or "system"; then TLS is used.')
    ] = None,
    plain_password: Annotated[bool, typer.Option("--plain-password", help="Permit a password without TLS.")] = False,
    name: Annotated[str, typer.Option(help="With --key: the driver whose key it is.")] = "",
    key: Annotated[
        Path | None,
        typer.Option(help="A driver's key file: states count only if a robot signed them for this driver, just now."),
    ] = None,
    seconds: Annotated[
        float, typer.Option(min=0.1, help="Stop after this time; by default at Ctrl-C.", show_default=False)
    ] = math.inf,
    as_json: Annotated[
        bool, typer.Option("--json", help="Listen for 1.5 s (or --seconds), and print what was heard as JSON.")
    ] = False,
) -> None:
    """Show every robot that follows over a broker: its state, its driver, and why it stands.

    It moves no robot. Without --key it shows what anybody who may write to the broker says; with it, a state counts
    only if the robot signed it for this driver a moment ago. With --json, the exit status is 1 if a robot is silent,
    gone, in a fault or in an emergency stop, or if there is none.

    [bold]Examples:[/bold]

      tenuto station localhost

      tenuto station shed.local:8883 --ca shed.crt --user picker --password-file pw --json

      tenuto station localhost --name shed --key shed.key
    """
    from tenuto.links.robots import Robots

    if (key is None) is not (not name):
        raise typer.BadParameter("a name needs a key, and a key a name", param_hint="--name and --key")
    secret = driver_s_key(key)
    link = broker_of(broker, user, password_file, ca, plain_password=plain_password)
    try:
        robots = Robots(link, name, secret)
        if as_json:
            _print_json(link, robots, 1.5 if seconds == math.inf else seconds)
        else:
            with ctrl_c() as stopped:
                _show(link, robots, seconds, stopped)
    finally:
        link.close()


def broker_of(
    place: str,
    user: str | None = None,
    password_file: str | None = None,
    ca: str | None = None,
    *,
    plain_password: bool = False,
) -> Broker:
    """Start to connect to a broker at HOST or HOST:PORT. Raises `SourceError` if a file is invalid."""
    from tenuto.links.broker import Broker
    from tenuto.links.broker_settings import BrokerSettings

    if "@" in place:
        raise typer.BadParameter("an address has no user and no password: see --user", param_hint="BROKER")
    host, _, port = place.partition(":")
    if not host or (port and not port.isdecimal()):
        raise typer.BadParameter(f'expected HOST or HOST:PORT, found "{place}"', param_hint="BROKER")
    settings = BrokerSettings(host, int(port) if port else None, user, password_file, ca, plain_password=plain_password)
    return Broker(settings, SourceError)


def driver_s_key(file: Path | None) -> bytes | None:
    """Read a driver's key; None for no file. Raises `SourceError`."""
    if file is None:
        return None
    from tenuto.basics.extras import needs
    from tenuto.links.key_file import read_key

    needs("cryptography")
    return read_key(str(file), SourceError)


def _print_json(link: Broker, robots: Robots, seconds: float) -> None:
    if not link.wait(5.0):
        raise SourceError(link.problem)
    clock = the_clock.get()
    end = clock.now() + seconds
    while (now := clock.now()) < end:
        robots.hear(now)
        clock.sleep_until(now + 0.02)
    print_json("station", {"checked": robots.checked, "robots": robots.as_json(now)})
    from tenuto.links.robots import SILENT
    from tenuto.protocols.remote import GONE

    bad = (GONE, SILENT, State.FAULT, State.EMERGENCY_STOP)
    if not robots.states or any(robots.condition(name, now) in bad for name in robots.states):
        raise typer.Exit(1)


def _show(link: Broker, robots: Robots, seconds: float, stopped: list[int]) -> None:
    clock = the_clock.get()
    began = clock.now()

    from tenuto.links.robots import MOST_ROBOTS

    def view() -> RenderableType:
        now = clock.now()
        many = f", and more that are not shown: {MOST_ROBOTS} at most" if robots.too_many else ""
        head = Text.assemble((f"broker {link.name}", "bold"), f"   {counted(len(robots.states), 'robot')}{many}")
        line = Text(link.problem, style="bold red") if link.problem else Text("connected", style="green")
        empty = Text("no robot has been heard yet: run tenuto follow on a robot" if not robots.states else "")
        return Group(
            head,
            line,
            Text(),
            _table(robots, now) if robots.states else empty,
            Text(_CHECKED if robots.checked else _NOT_CHECKED, style="dim"),
            Text("Ctrl-C ends.", style="dim"),
        )

    with Live(view(), console=results, auto_refresh=False, transient=False) as live:
        while not stopped and (now := clock.now()) - began < seconds:
            robots.hear(now)
            live.update(view(), refresh=True)
            clock.sleep_until(now + _REFRESH_SECONDS)
