"""``tenuto service``: drive or follow from boot."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import Annotated

import typer

from tenuto.basics.errors import TenutoError
from tenuto.cli.console import print_json, results
from tenuto.files import write_atomically


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

      tenuto service medlar.toml --to serial:/dev/ttyUSB0

      sudo tenuto service medlar.toml --to serial:/dev/ttyUSB0 --user pi --install

      tenuto service medlar.toml --follow udp::14660,key=medlar.key --to serial:/dev/ttyUSB0
    """
    import tenuto
    from tenuto.health.service import service_for
    from tenuto.kinds.texts import read_text, with_whole_paths
    from tenuto.sinks.base import SINKS
    from tenuto.sources.base import SOURCES

    loaded = tenuto.load_profile(profile)
    # At boot the folder is another one, and nobody sees an error.
    folder = profile.resolve().parent
    sinks = [with_whole_paths(text, SINKS, tenuto.SinkError, folder) for text in to or ()]
    if not sinks and not loaded.sinks:
        raise TenutoError(
            f"{profile}: it names no sink, so at boot it would drive a simulated robot: set --to, such as "
            "--to serial:/dev/ttyUSB0, or [sinks] in the profile; --to simulated for a trial"
        )
    what = ["drive", str(profile.resolve()), "--plain"]
    used: list[object] = [read_text(text, SINKS, tenuto.SinkError) for text in sinks] or [*loaded.sinks.values()]
    if follow is not None:
        source = with_whole_paths(follow, SOURCES, tenuto.SourceError, folder)
        what = ["follow", str(profile.resolve()), "--source", source]
        used.append(read_text(source, SOURCES, tenuto.SourceError))
    for text in sinks:
        what += ["--to", text]
    made = service_for(loaded, what, python=sys.executable, user=user or _me(), used=used)
    files = {made.unit_at: made.unit, made.rules_at: made.rules}
    if as_json:
        print_json("service", {"files": {str(place): text for place, text in files.items()}})
    for place, text in files.items() if not as_json else ():
        if text:
            results.print(f"# {place}", style="bold cyan", soft_wrap=True)
            results.print(text, soft_wrap=True)
    if install:
        _install({place: text for place, text in files.items() if text})
    if not as_json and all(getattr(one, "kind", "") in ("simulated", "log", "events") for one in used):
        results.print("It drives a simulated robot only.", style="yellow")
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
            write_atomically(place, text)
        except OSError as error:
            raise TenutoError(f"{place}: cannot write it: {error.strerror or error}; with sudo?") from error
        results.print(f"Wrote {place}.", soft_wrap=True)
