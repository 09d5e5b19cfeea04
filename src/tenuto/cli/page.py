"""``tenuto page``: drive and watch from a browser, on this machine or on a phone."""

from __future__ import annotations

import math
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tenuto.cli.console import counted, print_json, problems, results
from tenuto.files import write_atomically

if TYPE_CHECKING:
    from tenuto.links.broker import Broker
    from tenuto.links.page import PageSettings
    from tenuto.page.class_page import Classroom
    from tenuto.page.visitors import Page


# For each option that selects something other than a drive, the options that go with it; and those only for it.
_SERVED = ("port", "lan", "watchers", "seconds")
_BESIDE = {
    "devices": ("as_json",), "forget": (), "log": ("profile", *_SERVED),
    "broker": ("user", "password_file", "ca", "plain_password", "key", "name", *_SERVED),
}  # fmt: skip
_OF_A_BROKER = ("user", "password_file", "ca", "plain_password", "key")
_OF_A_CLASS = (*_OF_A_BROKER, "name")
# The word for robots whose pages this machine serves.
_HERE = "here"


def _refuse_what_means_nothing(ctx: typer.Context) -> None:
    """Refuse options that would be ignored. Raises `typer.BadParameter`."""
    said = {one.name: one for one in ctx.command.params if _was_said(ctx, one.name)}
    picks = [name for name in _BESIDE if name in said]
    allowed = (picks[0], *_BESIDE[picks[0]]) if picks else tuple(name for name in said if name not in _OF_A_CLASS)
    here = " here" if picks[:1] == ["broker"] and ctx.params["broker"] == _HERE else ""
    if here:
        allowed = tuple(name for name in allowed if name not in _OF_A_BROKER)
    for name, option in said.items():
        if name not in allowed:
            what = option.opts[0] if option.opts[0].startswith("-") else "PROFILE"
            pick = said[picks[0]].opts[0] + here if picks else ""
            why = f"it cannot be used with {pick}" if pick else "it needs --class"
            raise typer.BadParameter(why, param_hint=what)


def _was_said(ctx: typer.Context, name: str | None) -> bool:
    source = ctx.get_parameter_source(name) if name is not None else None
    return source is not None and source.name == "COMMANDLINE"


def page(
    ctx: typer.Context,
    profile: Annotated[
        Path | None,
        typer.Argument(exists=True, dir_okay=False, help="The profile, a TOML file.", show_default=False),
    ] = None,
    to: Annotated[
        list[str] | None,
        typer.Option(
            help="A sink, instead of the profile's: simulated, serial:PORT, … (docs/sinks.md). "
            "May be given several times.",
            show_default=False,
        ),
    ] = None,
    other: Annotated[
        list[str] | None,
        typer.Option(help="A source for another driver or a sensor of the profile: NAME=SOURCE.", show_default=False),
    ] = None,
    log: Annotated[
        Path | None,
        typer.Option(exists=True, dir_okay=False, help="Show the log of a drive instead."),
    ] = None,
    broker: Annotated[
        str | None,
        typer.Option(
            "--class",
            metavar="BROKER|here",
            help="Show every robot at a broker, HOST[:PORT], or every robot whose "
            "page this machine serves, with one stop for all.",
        ),
    ] = None,
    name: Annotated[str, typer.Option(help="With --class: the driver's name for the stops.")] = "teacher",
    key: Annotated[
        Path | None,
        typer.Option(
            exists=True, dir_okay=False, help="With --class: the key file of that driver, if the robots have keys."
        ),
    ] = None,
    user: Annotated[str | None, typer.Option(help="With --class: a user name at the broker.")] = None,
    password_file: Annotated[str | None, typer.Option(help="With --class: a file that holds the password.")] = None,
    ca: Annotated[str | None, typer.Option(help='With --class: certificates to trust, or "system"; then TLS.')] = None,
    plain_password: Annotated[
        bool, typer.Option("--plain-password", help="With --class: permit a password without TLS.")
    ] = False,
    port: Annotated[int, typer.Option(min=0, max=65535, help="The TCP port of the page; 0 for a free one.")] = 8600,
    lan: Annotated[
        bool, typer.Option("--lan", help="Admit devices in the network: TLS, and a code for each new device.")
    ] = False,
    watchers: Annotated[
        bool, typer.Option("--watchers", help="With --lan: anybody in the network may watch, without a code.")
    ] = False,
    seconds: Annotated[
        float,
        typer.Option(min=0.1, help="Stop the robot and end after this time; by default at Ctrl-C.", show_default=False),
    ] = math.inf,
    devices: Annotated[bool, typer.Option("--devices", help="List the admitted devices, and exit.")] = False,
    forget: Annotated[
        str | None, typer.Option(help="Revoke the devices of this name within a second, and exit.", metavar="NAME")
    ] = None,
    permit: Annotated[
        bool,
        typer.Option("--permit", help="Make a new code for the next device, also after many wrong ones, and exit."),
    ] = False,
    anyway: Annotated[
        bool, typer.Option("--anyway", help="Drive even if tenuto check finds errors in the profile.")
    ] = False,
    as_json: Annotated[bool, typer.Option("--json", help="Print how the loop went, or the devices, as JSON.")] = False,
) -> None:
    """Serve a page for driving: touch sticks, the laptop's gamepad, keys, and the complete live view.

    The page replaces the device of the profile, so it can drive any profile. Only this machine may open
    it, unless --lan is given. The page is also a source and a sink: --source page:8600, --to page:8600.

    [bold]Examples:[/bold]

      tenuto page medlar.toml --to simulated

      tenuto page medlar.toml --lan

      tenuto page --log run.csv

      tenuto page --class localhost --key teacher.key

      tenuto page --class here

      tenuto page --forget "my phone"
    """
    _refuse_what_means_nothing(ctx)
    if permit:
        _permit()
        return
    if devices or forget is not None:
        _devices(forget, as_json)
        return
    if watchers and not lan:
        raise typer.BadParameter("it needs --lan", param_hint="--watchers")
    if log is not None or broker is not None:
        from tenuto.cli.station import broker_of
        from tenuto.links.page import PageSettings

        settings = PageSettings(port=port, lan=lan, watchers=watchers)
        if log is not None:
            _show_log(log, profile, settings, seconds)
        elif broker == _HERE:
            _show_class_here(name, settings, seconds)
        elif broker is not None:
            link = broker_of(broker, user, password_file, ca, plain_password=plain_password)
            _show_class(link, name, key, settings, seconds)
        return
    if profile is None:
        raise typer.BadParameter("expected a profile", param_hint="PROFILE")
    from tenuto.cli.drive import drive

    words = {True: "true", False: "false"}
    drive(
        profile, source=f"page:{port},lan={words[lan]},watchers={words[watchers]}", to=to, other=other, seconds=seconds,
        plain=True, anyway=anyway, as_json=as_json,
    )  # fmt: skip


def _permit() -> None:
    """Let the running page show a new code."""
    from tenuto.basics.errors import TenutoError
    from tenuto.page.devices import permit_file

    path = permit_file()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_atomically(path, "")
    except OSError as error:
        raise TenutoError(f"{path}: cannot be written: {error.strerror or error}") from error
    results.print("The page that is served shows a new code within a second, in its terminal.", soft_wrap=True)


def _devices(forget: str | None, as_json: bool) -> None:
    """List the devices that may use the page, or remove some."""
    from tenuto.basics.errors import TenutoError
    from tenuto.page.devices import Devices

    known = Devices()
    if forget is not None:
        try:
            gone = known.forget(forget)
        except OSError as error:
            raise TenutoError(f"{known.path}: cannot write there: {error.strerror or error}") from error
        if not gone:
            names = ", ".join(sorted({one.name for one in known.all.values()})) or "none"
            raise TenutoError(f'no device is called "{forget}"; there are: {names}')
        results.print(f"revoked {counted(gone, 'device')} of the name {forget}", soft_wrap=True)
        return
    found = [{"name": one.name, "since": one.since} for one in known.all.values()]
    if as_json:
        print_json("page", {"devices": found})
        return
    for one in found:
        results.print(f"{one['name']}, since {one['since']}", soft_wrap=True)
    if not found:
        results.print("No device is admitted: tenuto page PROFILE --lan shows a code for a new one.", soft_wrap=True)


def _show_log(log: Path, profile: Path | None, settings: PageSettings, seconds: float | None) -> None:
    """Serve the log of a drive until Ctrl-C."""
    import tenuto
    from tenuto.basics.extras import needs
    from tenuto.cli.why import beside
    from tenuto.profile.prepare import prepare_profile

    needs(*settings.packages())
    from tenuto.page.player import Player
    from tenuto.page.server import serve
    from tenuto.page.visitors import LogPage

    prepared = prepare_profile(profile or beside(log), log=log)
    player = Player(tenuto.load_log(log), prepared, prepared.profile.name, f"log {log.name}")
    serve(settings, lambda said, addresses: LogPage(said, addresses, player, _say), _ready, seconds)


def _ready(page: Page, url: str, fingerprint: str) -> None:
    """Print the address of a page without a drive."""
    from tenuto.cli.opened import say_where

    say_where(url, page.code.text if page.lan else "", fingerprint)


def _say(text: str) -> None:
    problems.print(text, soft_wrap=True)


def _show_class(link: Broker, name: str, key: Path | None, settings: PageSettings, seconds: float | None) -> None:
    """Serve the robots at a broker until Ctrl-C."""
    from tenuto.basics.extras import needs

    needs(*settings.packages())
    from tenuto.cli.station import driver_s_key
    from tenuto.links.robots import Robots, Stopper
    from tenuto.page.class_page import AtBroker

    try:
        robots = Robots(link, name, driver_s_key(key))
        found = AtBroker(robots, Stopper(robots))
        _serve_class(found, "run tenuto follow on a robot", settings, seconds)
    finally:
        link.close()


def _show_class_here(name: str, settings: PageSettings, seconds: float | None) -> None:
    """Serve the robots whose pages this machine serves, until Ctrl-C."""
    from tenuto.basics.extras import needs

    needs(*settings.packages())
    from tenuto.page.class_here import Here

    _serve_class(Here(name), "run tenuto page PROFILE on this machine, as the same user", settings, seconds)


def _serve_class(robots: Classroom, hint: str, settings: PageSettings, seconds: float | None) -> None:
    from tenuto.page.class_page import ClassPage
    from tenuto.page.server import serve

    serve(settings, lambda said, addresses: ClassPage(said, addresses, robots, hint, _say), _ready, seconds)
