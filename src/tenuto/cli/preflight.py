"""``tenuto preflight``: is everything ready for a drive? It moves nothing."""

from __future__ import annotations

import os
import shutil
import time
from collections.abc import Iterator, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.table import Table
from rich.text import Text

from tenuto.basics.reasons import Code
from tenuto.cli.clock import loop_clock
from tenuto.cli.console import counted, print_json, results
from tenuto.cli.opened import Opened, open_all_sinks, open_sources
from tenuto.cli.signals import ctrl_c
from tenuto.driving.preflight import Check, checks_of, checks_of_others, neutral_of
from tenuto.kinds.texts import read_text

if TYPE_CHECKING:
    from tenuto.profile import Profile

# A disk with less free space than this, bytes, is reported: an hour of a text log takes some 300 MB.
_ROOM = 500e6
# A clock with an earlier year than this was never set.
_YEAR = 2025


def preflight(
    profile: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="The profile, a TOML file.")],
    source: Annotated[str | None, typer.Option(help="Another source than the profile's.", metavar="SOURCE")] = None,
    to: Annotated[list[str] | None, typer.Option(help="Other sinks than the profile's.", metavar="SINK")] = None,
    other: Annotated[list[str] | None, typer.Option(help="As in tenuto drive.", metavar="NAME=SOURCE")] = None,
    calibration: Annotated[Path | None, typer.Option(exists=True, dir_okay=False, help="Use this calibration.")] = None,
    seconds: Annotated[float, typer.Option(min=0.5, help="Check for this long.")] = 3.0,
    as_json: Annotated[bool, typer.Option("--json", help="Print what was found as JSON.")] = False,
) -> None:
    """Check that everything is ready: device, calibration, sticks, trims, far end, battery, disk, clock.

    Everything is opened as for a drive, and standstill is sent. The robot cannot be enabled, and no log is
    written.

    [bold]Examples:[/bold]

      tenuto preflight medlar.toml

      tenuto preflight damson-guided.toml --to mavlink:127.0.0.1:14550 --json
    """
    with ExitStack() as stack:
        stopped = stack.enter_context(ctrl_c())
        opened = open_sources(stack, profile, source, None, other or [], calibration, to or [])
        found = [*static_checks(opened, to or []), *_looked(stack, opened, to or [], seconds, stopped)]
    if as_json:
        print_json(
            "preflight", {"ready": all(check.good for check in found), "checks": [one._asdict() for one in found]}
        )
    else:
        _print(found)
    if not all(check.good for check in found):
        raise typer.Exit(1)


def _looked(stack: ExitStack, opened: Opened, to: Sequence[str], seconds: float, stopped: list[int]) -> list[Check]:
    """Open the sinks that move something, and check a tick."""
    from tenuto.basics.errors import SinkError
    from tenuto.runtime.preflight import look
    from tenuto.sinks.base import SINKS

    plan = opened.prepared.plan()
    said = [text for text in to if read_text(text, SINKS, SinkError).turns(plan) is not None]
    kept = {name: one for name, one in opened.profile.sinks.items() if one.turns(plan) is not None}
    moving = opened.profile.model_copy(update={"sinks": kept})
    sinks = open_all_sinks(stack, moving, said) if said or not to else []
    tick, others = look(
        opened.prepared, opened.source, sinks, others=opened.others, clock=loop_clock(), seconds=seconds,
        stopped=lambda: bool(stopped),
    )  # fmt: skip
    told = [one for one in tick.notices if one.code != Code.ENABLE_OFFERED]
    more = checks_of_others(others, tick.time, plan)
    return [*checks_of(tick, neutral_of(plan)), *more, *(Check("notice", False, one.text) for one in told)]


def static_checks(opened: Opened, to: Sequence[str]) -> list[Check]:
    """Check what is not in a tick: calibration, the disk of the logs, the clock, the profile itself."""
    return [_profile(opened), _calibration(opened), *_disks(opened.profile, to), _clock()]


def _profile(opened: Opened) -> Check:
    from tenuto.profile.checks.advice import advise

    wrong = [one for one in advise(opened.profile, opened.prepared.calibration) if one.is_error]
    if wrong:
        return Check("profile", False, f"{wrong[0].where}: {wrong[0].text}", "see tenuto check")
    return Check("profile", True, "no errors")


def _calibration(opened: Opened) -> Check:
    kept = opened.prepared.calibration
    if kept is not None:
        return Check("calibration", True, f"of {kept.device}")
    unsaid = [name for name, one in opened.profile.controls.items() if one.low is None and one.high is None]
    if not opened.source.identity or not unsaid:
        return Check("calibration", True, "the profile sets the ends itself")
    return Check("calibration", True, "none: the nominal ends of the device are used; tenuto calibrate measures them")


def _disks(profile: Profile, to: Sequence[str]) -> Iterator[Check]:
    """Check the disk of each log."""
    from tenuto.basics.errors import SinkError
    from tenuto.sinks.base import SINKS

    options = [read_text(text, SINKS, SinkError) for text in to] or [*profile.sinks.values()]
    for one in options:
        file = getattr(one, "file", None)
        if file is None:
            continue
        folder = Path(file).resolve().parent
        if not folder.is_dir() or not os.access(folder, os.W_OK):
            yield Check("log", False, f"{file}: cannot write there", "make the folder, or choose another")
            continue
        free = shutil.disk_usage(folder).free
        todo = "" if free > _ROOM else "free some space, or log to another disk"
        yield Check("log", free > _ROOM, f"{file}: {free / 1e9:.1f} GB free", todo)


def _clock() -> Check:
    year = time.gmtime().tm_year
    good = year >= _YEAR
    text = time.strftime("%Y-%m-%d %H:%M UTC", time.gmtime())
    return Check("clock", good, text, "" if good else "it was never set: sudo timedatectl set-ntp true")


def _print(found: list[Check]) -> None:
    table = Table.grid(padding=(0, 2))
    table.add_column(no_wrap=True)
    table.add_column(no_wrap=True)
    table.add_column(overflow="fold")
    for check in found:
        mark = Text("ready", "green") if check.good else Text("not ready", "bold red")
        table.add_row(Text(check.name, "bold cyan"), mark, Text(check.text))
        if check.todo:
            table.add_row("", "", Text(check.todo, "dim"))
    results.print(table)
    bad = sum(not check.good for check in found)
    results.print(f"{counted(bad, 'thing')} not ready" if bad else "Everything is ready.")
