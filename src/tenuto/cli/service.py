"""``tenuto service``: drive or follow from boot."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import Annotated

import typer

from tenuto.basics.errors import TenutoError
from tenuto.cli.console import print_json, results


def service(
    profile: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="The profile, a TOML file.")],
    follow: Annotated[
        str | None,
        typer.Option(help="Follow a driver's machine with this source, instead of driving.", metavar="SOURCE"),
    ] = None,
    to: Annotated[
        list[str] | None, typer.Option(help="The sinks for commands; by default those of the profile.")
    ] = None,
    user: Annotated[str | None, typer.Option(help="The user that runs it; by default you.")] = None,
    install: Annotated[bool, typer.Option("--install", help="Install both files. Needs root.")] = False,
    as_json: Annotated[bool, typer.Option("--json", help="Print both files as JSON.")] = False,
) -> None:
    """Print a systemd unit that drives or follows from boot, and a udev rule for the device.

    After a crash it starts again, not enabled. When it is stopped, it first stops the robot.

    [bold]Examples:[/bold]

      tenuto service medlar.toml

      sudo tenuto service medlar.toml --user pi --install

      tenuto service medlar.toml --follow udp::14660,key=medlar.key
    """
    import tenuto
    from tenuto.health.service import service_for
    from tenuto.sources import source_options

    loaded = tenuto.load_profile(profile)
    if follow is not None:
        source_options(follow)  # raises if it names nothing
    what = ["drive", str(profile.resolve()), "--plain"] if follow is None else [
        "follow", str(profile.resolve()), "--source", follow]  # fmt: skip
    for text in to or []:
        what += ["--to", text]
    made = service_for(loaded, what, python=sys.executable, user=user or _me())
    files = {made.unit_at: made.unit, made.rules_at: made.rules}
    if as_json:
        print_json("service", {"files": {str(place): text for place, text in files.items()}})
    for place, text in files.items() if not as_json else ():
        if text:
            results.print(f"# {place}", style="bold cyan", soft_wrap=True)
            results.print(text, soft_wrap=True)
    if install:
        _install({place: text for place, text in files.items() if text})
    if not as_json:
        done = "Now:" if install else "Install them (or use --install), then run:"
        results.print("\n  ".join((done, *made.starts_by())), soft_wrap=True)


def _me() -> str:
    """Return the name of the account that runs this; no variable of the environment decides it."""
    try:
        import pwd

        return pwd.getpwuid(os.getuid()).pw_name
    except (ImportError, KeyError) as error:
        raise TenutoError("the name of your account is not known: set --user") from error


def _install(files: dict[Path, str]) -> None:
    for place, text in files.items():
        try:
            place.write_text(text, encoding="utf-8")
        except OSError as error:
            raise TenutoError(f"{place}: cannot write it: {error.strerror or error}; with sudo?") from error
        results.print(f"Wrote {place}.", soft_wrap=True)
