"""``tenuto begin``: from an empty folder to a robot that drives, by questions."""

from __future__ import annotations

import json
import sys
from contextlib import ExitStack
from dataclasses import asdict
from pathlib import Path
from typing import Annotated

import typer
from rich.text import Text

from tenuto.basics.errors import ProfileError, TenutoError
from tenuto.basics.findings import unexpected
from tenuto.basics.json_in import read_json
from tenuto.basics.layouts import ControlInfo
from tenuto.calibration.binding import Meant
from tenuto.cli.begin_steps import (
    ask_device,
    ask_sink,
    ask_style,
    ask_vehicle,
    check_reverse,
    checked_sink,
    chosen_style,
    first_drive,
    measure_sticks,
    turn_motors,
)
from tenuto.cli.clock import the_clock
from tenuto.cli.console import results
from tenuto.cli.gestures import HOLD, PACE, STOP, SWITCH, WAYS, Asker, Role, style_roles
from tenuto.cli.menus import Pages, confirmed
from tenuto.cli.signals import ctrl_c
from tenuto.cli.watch import asked_pages, watch_pages
from tenuto.files import MOST_TOML, read_text, write_atomically
from tenuto.profile.beginning import begun_for, chassis_in
from tenuto.profile.begun import Answers, opened_document, table_in, text_of
from tenuto.sources import known_infos, open_source, source_options
from tenuto.styles.base import STYLES
from tenuto.vehicles.base import VEHICLES

# How long the sticks are moved to their ends, s.
_ENDS = 10.0
_ENABLES = {"hold": HOLD, "switch": SWITCH}
_GESTURE = "Nothing is held: both sticks at their low ends for 1 s switch driving on and off."


def begin(
    profile: Annotated[Path, typer.Argument(dir_okay=False, help="The profile to make or change.")] = Path(
        "robot.toml"
    ),
    source: Annotated[str | None, typer.Option(help="The device, such as gamepad or sbus:/dev/ttyAMA0.")] = None,
    recording: Annotated[
        Path | None, typer.Option("--from", exists=True, dir_okay=False, help="Take the gestures from a recording.")
    ] = None,
    vehicle: Annotated[str | None, typer.Option(help="The kind of vehicle, such as motors.", metavar="KIND")] = None,
    style: Annotated[str | None, typer.Option(help="The kind of style, such as tank.", metavar="KIND")] = None,
    enable: Annotated[str | None, typer.Option(help="hold, switch or gesture.", metavar="WAY")] = None,
    control: Annotated[
        list[str] | None,
        typer.Option(help="The control for a role: drive=left_y, steer=-right_x …", metavar="ROLE=[-]CONTROL"),
    ] = None,
    to: Annotated[str | None, typer.Option(help="The sink for commands, such as simulated or serial:PORT.")] = None,
    reverse: Annotated[
        list[str] | None,
        typer.Option(help="A motor that turns the wrong way; may be given several times.", metavar="MOTOR"),
    ] = None,
    swap: Annotated[bool, typer.Option("--swap", help="Left and right are swapped.")] = False,
    motors: Annotated[bool | None, typer.Option(help="Turn each motor alone.")] = None,
    calibrate: Annotated[bool | None, typer.Option(help="Measure the sticks.")] = None,
    drive: Annotated[bool | None, typer.Option(help="Drive at the end.")] = None,
    wait: Annotated[float, typer.Option(min=1.0, help="Seconds to wait for each gesture.")] = 30.0,
    page: Annotated[
        str | None, typer.Option(help="Ask on a page too: its port, such as 8600 or 8600,lan=true.")
    ] = None,
    yes: Annotated[bool, typer.Option("--yes", help="Use the options and defaults, ask nothing, and write.")] = False,
) -> None:
    """Set up a robot by questions: device, vehicle, sticks, enabling control, sink, each motor, a first drive.

    An existing file keeps its comments and its order; only its sticks are asked for. An interrupted run moves nothing,
    and the next run continues it.

    [bold]Examples:[/bold]

      tenuto begin

      tenuto begin cart.toml --source gamepad --vehicle motors --style tank --to simulated --yes

      tenuto begin cart.toml --control drive=left_y --control steer=right_x --control hold=left_shoulder --yes
    """
    talks = sys.stdin.isatty() and not yes
    _check(vehicle, enable)
    new, kept = not profile.exists(), Path(f"{profile}.begun")
    if recording is not None and page is not None:
        raise typer.BadParameter("a recording cannot answer questions: not possible with --from", param_hint="--page")
    if calibrate and (recording is not None or not (new or source)):
        raise typer.BadParameter("name the device to measure with --source, without --from", param_hint="--calibrate")
    if not new and (said_too := [name for name, one in (("vehicle", vehicle), ("style", style), ("to", to)) if one]):
        raise typer.BadParameter(f"{profile} exists and sets this itself: edit it", param_hint=f"--{said_too[0]}")
    with ExitStack() as stack:
        pages = asked_pages(stack, page)
        answers = _answers(profile, kept, source if new else source or "", recording, vehicle, style, to, talks, pages)
        said = control or []
        infos = _sticks(profile, answers, said, kept, recording, enable, wait, talks, pages)
        if new and talks and not answers.sink:
            answers.sink = ask_sink(answers.vehicle, pages)
            _keep(kept, answers)
        _write(profile, answers, infos, reverse or [], pages, new=new, ask=not yes)
        kept.unlink(missing_ok=True)
        real = recording is None and answers.source != ""
        if calibrate is None:
            calibrate = talks and real and confirmed("Measure the sticks now (40 s)?", pages)
    if calibrate:
        measure_sticks(profile, answers.source, page)
    turn_motors(profile, reverse or [], swap, ask=motors if motors is not None else talks and new)
    _next(profile, new)
    if drive or (drive is None and talks and new and real and typer.confirm("Drive now, slowly?", True)):
        first_drive(profile)


def _answers(
    profile: Path, kept: Path, source: str | None, recording: Path | None, vehicle: str | None, style: str | None,
    to: str | None, talks: bool, pages: Pages,
) -> Answers:  # fmt: skip
    """Ask for the device, the vehicle and the style, unless options or an interrupted run answer."""
    new = not profile.exists()
    answers = _begun(kept) if new else Answers()
    if source is not None:
        answers.source = source  # that of the profile if it is empty
    elif talks and recording is None and not answers.vehicle:
        answers.source = ask_device(pages)
    if new:
        answers.vehicle = vehicle or answers.vehicle or (ask_vehicle(pages) if talks else "motors")
        usual = VEHICLES.all[answers.vehicle].beginning
        chosen = (
            style or answers.style or (ask_style(answers.vehicle, pages) if talks else usual.style if usual else "")
        )
        answers.style = chosen_style(answers.vehicle, chosen)
        answers.sink = checked_sink(answers.vehicle, to) if to else answers.sink
        _keep(kept, answers)
    return answers


def _check(vehicle: str | None, enable: str | None) -> None:
    if vehicle is not None and vehicle not in begun_for():
        raise typer.BadParameter(f"expected one of {', '.join(begun_for())}", param_hint="--vehicle")
    if enable not in (None, "hold", "switch", "gesture"):
        raise typer.BadParameter("expected hold, switch or gesture", param_hint="--enable")


def _begun(kept: Path) -> Answers:
    """Return the answers of an interrupted run, if there are any."""
    if not kept.exists():
        return Answers()
    try:
        said = read_json(read_text(kept, MOST_TOML))
        said["meant"] = {role: Meant(**meant) for role, meant in said["meant"].items()}
        found = Answers(**said)
        wrong = [found.vehicle] * (found.vehicle not in begun_for()) + [found.style] * (found.style not in STYLES.all)
        if any(wrong):
            raise ValueError(f"nothing is called {', '.join(filter(None, wrong))}")
    except (ValueError, TypeError, KeyError, AttributeError) as error:
        raise TenutoError(f"{kept}: not a file of tenuto begin: {error}; delete it to start again") from error
    known = ", ".join(filter(None, (found.source, found.vehicle, found.style, *found.meant)))
    results.print(f"Continuing from {kept}: {known}. Delete it to start again.", soft_wrap=True)
    return found


def _keep(kept: Path, answers: Answers) -> None:
    """Store the answers, so that an interrupted run need not be repeated."""
    try:
        write_atomically(kept, json.dumps(asdict(answers)))
    except OSError as error:
        raise TenutoError(f"{kept}: cannot write it: {error.strerror or error}") from error


def _sticks(
    profile: Path, answers: Answers, said: list[str], kept: Path, recording: Path | None, enable: str | None,
    wait: float, talks: bool, pages: Pages,
) -> tuple[ControlInfo, ...]:  # fmt: skip
    """Ask for the sticks, the enabling control and the stop; return the controls of the device."""
    import tenuto

    roles = _roles(profile, answers)
    known = source_options(answers.source) if answers.source and recording is None else None
    if known is not None and known.means:
        # The keys of a terminal have fixed purposes.
        if not all(role.name in known.means or role.optional for role in roles):
            raise typer.BadParameter(f"a {known.kind} has one control that drives and one that turns: arcade or car",
                                     param_hint="--style")  # fmt: skip
        answers.meant = {role: Meant(control, rising=True) for role, control in known.means.items()}
        return known.layout
    with ExitStack() as stack:
        stopped = stack.enter_context(ctrl_c())
        if recording is not None:
            opened = stack.enter_context(open_source(f"recording:{recording}"))
            infos = known_infos(opened)
        else:
            what = answers.source or tenuto.load_profile(profile)
            opened = stack.enter_context(open_source(what, clock=the_clock.get()))
            infos = opened.controls()
        answers.meant |= _said(said, infos, (*roles, HOLD, SWITCH, STOP, PACE))
        pages = (*watch_pages(stack, opened, None), *pages)
        results.print(Text.assemble((opened.name, "bold"), ": release everything."))
        asker = Asker(opened, infos, stopped, wait=wait, fast=recording is not None, pages=pages)
        asker.know(answers.meant)
        # If the options answer everything, nothing is asked.
        more = not said or talks
        pace = (PACE,) if (talks or recording) and not profile.exists() else ()
        try:
            _ask_all(asker, tuple(role for role in roles if more or not role.optional))
            enabled = _enabling(asker, infos, enable, roles)
            answers.gesture = not enabled and (enable == "gesture" or not profile.exists())
            if answers.gesture:
                results.print(_GESTURE, soft_wrap=True)
            _ask_all(asker, (STOP, *pace) if more and len(asker.found) < len(infos) else ())
            unknown = {one.control for one in asker.found.values()} & {one.name for one in infos if one.travel is None}
            if unknown:
                asker.go_to_ends(sorted(unknown), _ENDS)
                answers.ends = {name: asker.ends[name] for name in unknown}
        finally:
            answers.meant = asker.found
            if not profile.exists():
                _keep(kept, answers)
        if stopped:
            raise KeyboardInterrupt
    return infos


def _ask_all(asker: Asker, roles: tuple[Role, ...]) -> None:
    for role in roles:
        asker.ask(role)


def _said(texts: list[str], infos: tuple[ControlInfo, ...], roles: tuple[Role, ...]) -> dict[str, Meant]:
    """Read the controls from the options. Raises `typer.BadParameter`."""
    known, found = {info.name: info for info in infos}, {}
    for text in texts:
        role, _, control = text.partition("=")
        name = control.removeprefix("-")
        if role not in [one.name for one in roles] or name not in known:
            raise typer.BadParameter(
                f"expected {', '.join(one.name for one in roles)} = one of {', '.join(known)}; found {text}",
                param_hint="--control",
            )
        found[role] = Meant(name, rising=control.startswith("-") == known[name].counts_down)
    return found


def _enabling(asker: Asker, infos: tuple[ControlInfo, ...], enable: str | None, roles: tuple[Role, ...]) -> bool:
    """Ask for the enabling control; return whether there is one. Without any button, the sticks enable."""
    if enable == "gesture" or (enable is None and len(infos) <= len(roles)):
        return False
    if enable is not None:
        return asker.ask(_ENABLES[enable]._replace(optional=False))
    return asker.ask(HOLD) or asker.ask(SWITCH)


def _roles(profile: Path, answers: Answers) -> tuple[Role, ...]:
    """Return the roles to ask for, for a style."""
    document = opened_document(profile, answers.vehicle)
    kind = answers.style or str(table_in(document, "style").get("kind", "arcade"))
    style, chassis = STYLES.all.get(kind), chassis_in(document.unwrap())
    roles = style_roles(style, chassis) if style is not None and chassis is not None else ()
    if style is None or not roles:
        able = ", ".join(name for name, one in STYLES.all.items() if chassis is None or style_roles(one, chassis))
        expected = f"one of these styles: {able}"
        raise ProfileError(str(profile), [unexpected("style.kind", expected, f'"{kind}"', "edit the file by hand")])
    if not profile.exists():
        speeds = table_in(document, "speeds")
        roles = tuple(role for role in roles if not role.speed or role.speed in speeds)
    return (*roles, WAYS) if style.switched_steering and "choose" not in document else roles


def _write(
    profile: Path, answers: Answers, infos: tuple[ControlInfo, ...], reverse: list[str], pages: Pages, *, new: bool,
    ask: bool,
) -> None:  # fmt: skip
    """Write the profile after a check."""
    import tenuto
    from tenuto.files import write_atomically

    for role, meant in answers.meant.items():
        way = "increases" if meant.rising else "decreases"
        results.print(f"  {role.replace('_minus', ', other way'):<6} {meant.control} ({way})")
    keys = {role.name: role.key for role in _roles(profile, answers) if role.key}
    document = opened_document(profile, answers.vehicle)
    text = text_of(document, profile.stem if new else "", answers, infos, keys)
    check_reverse(tenuto.parse_profile(text, str(profile)), reverse)  # both raise before anything is written
    if ask and (not sys.stdin.isatty() or not confirmed(f"Write {profile}?", pages)):
        results.print("Nothing was written; use --yes to write without asking.")
        raise typer.Exit(1)
    try:
        write_atomically(profile, text)
    except OSError as error:
        raise TenutoError(f"{profile}: cannot write it: {error.strerror or error}") from error
    results.print(f"Wrote {profile}.", soft_wrap=True)


def _next(profile: Path, new: bool) -> None:
    """Report what to measure next."""
    import tenuto

    loaded = tenuto.load_profile(profile)
    if new and not loaded.chassis.in_shares:
        results.print(f"Measure what [chassis] of {profile} names: its lengths are only examples until then.",
                      soft_wrap=True)  # fmt: skip
    if new and loaded.chassis.in_shares:
        results.print("Everything is a share of what the motors can do: nothing needs to be measured. For metres, give "
                      "[chassis] a kind with measures, such as differential.", soft_wrap=True)  # fmt: skip
    if loaded.guard.enable and loaded.plan().guard.enable_stays:
        results.print(f"{loaded.guard.enable} is taken for a switch that keeps its position: it permits driving while "
                      "it is on. If it is a push-button, which springs back, set push_button = true in its table under "
                      "[controls].", soft_wrap=True)  # fmt: skip
    results.print(f"Next: tenuto check {profile}, then tenuto drive {profile}", soft_wrap=True)
