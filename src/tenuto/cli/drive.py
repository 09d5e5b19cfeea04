"""``tenuto drive``: drive live, with a view of what moves, or why nothing does."""

from __future__ import annotations

import math
from collections.abc import Mapping
from contextlib import ExitStack
from dataclasses import asdict, replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.text import Text

from tenuto.cli.clock import loop_clock, the_clock
from tenuto.cli.console import print_json, problems, results
from tenuto.cli.live import ShownChanges, live_view, may_take_the_screen, until
from tenuto.cli.opened import Opened, open_all_sinks, open_sources, opened_box, say_of_box, say_of_pages
from tenuto.cli.preflight import static_checks
from tenuto.cli.words import report_in_words

if TYPE_CHECKING:
    from tenuto.calibration.store import Calibration
    from tenuto.profile import Profile
    from tenuto.profile.profile import PreparedProfile
    from tenuto.sinks import Sink
    from tenuto.sources import Source


def drive(
    profile: Annotated[
        Path,
        typer.Argument(exists=True, dir_okay=False, help="The profile, a TOML file.", show_default=False),
    ],
    recording: Annotated[
        Path | None,
        typer.Option(exists=True, dir_okay=False, help="Play a recording (CSV) instead of the profile's source."),
    ] = None,
    source: Annotated[
        str | None, typer.Option(help="Another source than the profile's, such as simulated:gamepad.")
    ] = None,
    to: Annotated[
        list[str] | None,
        typer.Option(
            help="A sink, instead of the profile's: simulated, serial:PORT, mavlink:HOST:PORT, "
            "mqtt:HOST/ROBOT, udp:HOST:PORT,key=FILE, log:FILE.csv, … (docs/sinks.md). May be given several times.",
            show_default=False,
        ),
    ] = None,
    other: Annotated[
        list[str] | None,
        typer.Option(
            help="Another source for a driver or sensor of the profile: NAME=SOURCE. May be given several times.",
            show_default=False,
        ),
    ] = None,
    seconds: Annotated[
        float,
        typer.Option(min=0.1, help="Stop the robot and end after this time; by default at Ctrl-C.", show_default=False),
    ] = math.inf,
    calibration: Annotated[
        Path | None,
        typer.Option(exists=True, dir_okay=False, help="Use this calibration; by default the stored one."),
    ] = None,
    raw: Annotated[
        Path | None,
        typer.Option(dir_okay=False, help="Record the bytes of ports and sockets in this black box, FILE.mcap."),
    ] = None,
    plain: Annotated[
        bool,
        typer.Option("--plain", help="A status line instead of the full-screen view; the default without a terminal."),
    ] = False,
    anyway: Annotated[
        bool, typer.Option("--anyway", help="Drive even if tenuto check finds errors in the profile.")
    ] = False,
    as_json: Annotated[bool, typer.Option("--json", help="Print how the loop went as JSON at the end.")] = False,
) -> None:
    """Drive a robot as its profile says, from the gamepad or from a recording, at the real rate.

    In a terminal of 80 x 24 or more it shows sticks, commands, actuators, link and loop, and the reasons; q stops.
    Ctrl-C stops the robot and ends; a second Ctrl-C does not wait for the stop. A profile that is saved while it is
    driven is checked, and taken once the robot has stopped for it.

    [bold]Examples:[/bold]

      tenuto drive medlar.toml --to simulated --to log:run.csv

      tenuto drive medlar.toml --recording orchard-row.csv

      tenuto drive medlar-lesson.toml --source gamepad --other learner=simulated:sticks
    """
    import tenuto
    from tenuto.profile.trims import save_trims, trims_path
    from tenuto.runtime import DriveReport
    from tenuto.runtime.changes import WatchedProfile

    if source is not None and recording is not None:
        raise typer.BadParameter("give only one of them", param_hint="--source and --recording")
    with ExitStack() as stack:
        loaded, prepared, opened, others = open_sources(
            stack, profile, source, recording, other or [], calibration, to or []
        )
        if not anyway:
            _refuse_errors(loaded, prepared.calibration)

        def prepare(changed: Profile) -> PreparedProfile:
            return replace(prepared, profile=changed)

        sinks = open_all_sinks(stack, loaded, to or [])
        box = opened_box(stack, raw, [opened, *others.values(), *sinks])
        if not as_json:
            _introduce(prepared, opened, others, sinks)
        say_of_pages([opened, *others.values(), *sinks])
        watched = stack.enter_context(WatchedProfile(profile, loaded, prepare, clock=the_clock.get()))
        origin = f"{opened.name} → {', '.join(sink.name for sink in sinks)}"
        full = not (as_json or plain) and may_take_the_screen([opened, *others.values()], by_keys=True)
        report, handle = DriveReport(), tenuto.DriveHandle()
        checks = static_checks(Opened(loaded, prepared, opened, others), to or []) if not as_json else []
        try:
            with live_view(prepared.plan(), loaded.name, origin, handle.interrupt, [opened, *others.values()],
                           full=full, quiet=as_json, checks=checks) as view:  # fmt: skip
                tenuto.drive(
                    prepared, opened, sinks, others=others, clock=loop_clock(), on_tick=until(seconds, view.show),
                    changes=ShownChanges(watched, view, loaded.name, origin), bell=view.ring, notes=view.note,
                    report=report, handle=handle,
                )  # fmt: skip
        finally:
            trims_kept = save_trims(trims_path(profile), loaded, report.trims)
    say_of_box(box)
    if as_json:
        print_json("drive", asdict(report))
    else:
        results.print(report_in_words(report), soft_wrap=True)
        for failed in report.failed_logs:
            problems.print(f"It continued without a log: {failed}", soft_wrap=True)
        if trims_kept:
            results.print(f"The trims are kept in {trims_path(profile)}.", soft_wrap=True)


def _refuse_errors(profile: Profile, calibration: Calibration | None) -> None:
    """Refuse a profile with errors of `tenuto check`. Raises `ProfileError`."""
    from tenuto.basics.errors import ProfileError
    from tenuto.profile.checks.advice import advise

    wrong = [finding for finding in advise(profile, calibration) if finding.is_error]
    if wrong:
        raise ProfileError(f"{profile.name}, not driven (--anyway drives it)", wrong)


def _introduce(prepared: PreparedProfile, source: Source, others: Mapping[str, Source], sinks: list[Sink]) -> None:
    """Report the robot, its source and its sinks."""
    names = ", ".join(sink.name for sink in sinks)
    from_all = ", ".join([source.name, *(f"{name} ({one.name})" for name, one in others.items())])
    results.print(
        Text.assemble((prepared.profile.name, "bold"), f": {from_all} → {names}. Ctrl-C stops it."), soft_wrap=True
    )
    for path in prepared.files:
        results.print(f"calibrated by {path}", style="dim", soft_wrap=True)
    if prepared.trims:
        words = ", ".join(f"{name} {value:+g}" for name, value in prepared.trims.items())
        results.print(f"trims as they were left: {words}", style="dim", soft_wrap=True)
    if source.hint:
        results.print(source.hint, style="dim")
