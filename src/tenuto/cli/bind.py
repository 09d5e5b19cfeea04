"""``tenuto bind``: make or change a profile by asking which stick does what."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import MISSING, fields
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, NamedTuple

import typer
from rich.text import Text

from tenuto.basics.errors import ProfileError, SourceError, TenutoError
from tenuto.basics.findings import unexpected
from tenuto.basics.frame import Frame
from tenuto.basics.layouts import ControlInfo
from tenuto.calibration.binding import Listener, Meant, Unclear
from tenuto.cli.calibrate import known_infos
from tenuto.cli.clock import the_clock
from tenuto.cli.console import results
from tenuto.cli.signals import ctrl_c
from tenuto.clock import Clock, SimulatedClock
from tenuto.kinds.options import Ask, about
from tenuto.profile.beginning import begun_for, text_begun_for
from tenuto.sources import Source, open_source, source_options
from tenuto.sources.base import SOURCES
from tenuto.styles.base import STYLES, StyleOptions

if TYPE_CHECKING:
    import tomlkit


class Role(NamedTuple):
    """Something that a control is asked for.

    Attributes:
        name: what the control is called in a new profile.
        prompt: what to do.
        key: the key of [style] that names the control; empty for what is no part of a style.
        other_way: what to do for the other way, where a trigger or button was taken that goes one way only.
        optional: whether it may be left out. speed: see `Ask`.
        stays: whether it may stay where it was put.
    """

    name: str
    prompt: str
    key: str = ""
    other_way: str = ""
    optional: bool = False
    stays: bool = False
    speed: str = ""


def _role(key: str, ask: Ask, *, optional: bool) -> Role:
    """Ask for a stick that is pushed one way, or two controls that are pressed for one way each."""
    end = "all the way, and let it go" + ("; or wait, if nothing should" if optional else "")
    if not ask.other:
        return Role(ask.name, f"press what should {ask.way}, {end}", key, optional=optional, speed=ask.speed)
    other = f"press what should {ask.other}, all the way, and let it go"
    way = f"push the stick the way that should {ask.way}, {end}"
    return Role(ask.name, way, key, other, optional, speed=ask.speed)


def style_roles(style: type[StyleOptions]) -> tuple[Role, ...]:
    """List what is asked for a style; nothing where it can only be written by hand."""
    asked = [(one.name, about(one).ask, one.default is None) for one in fields(style)]
    return tuple(_role(key, ask, optional=optional) for key, ask, optional in asked if ask is not None)


WAYS = Role("ways", "press what should change the way of steering; or wait, if nothing should", optional=True)
GUARD_ROLES = (
    Role("hold", "press the control that must be HELD to drive, for a moment, and let it go"),
    Role("stop", "flip or press what STOPS everything; or wait, if there is none", optional=True, stays=True),
)


def bind(
    profile: Annotated[Path, typer.Argument(dir_okay=False, help="The profile to make or change.")],
    source: Annotated[str, typer.Option(help="The source, such as gamepad or sbus:/dev/ttyAMA0.")] = "gamepad",
    recording: Annotated[
        Path | None, typer.Option("--from", exists=True, dir_okay=False, help="Take the gestures from a recording.")
    ] = None,
    vehicle: Annotated[
        str, typer.Option(help=f"The vehicle to begin a new profile for: {', '.join(begun_for())}.")
    ] = "differential",
    wait: Annotated[float, typer.Option(min=1.0, help="Seconds to wait for each gesture.")] = 30.0,
    yes: Annotated[bool, typer.Option("--yes", help="Write without asking.")] = False,
) -> None:
    """Make or change a profile by asking: push the stick that should drive forward, turn left, be held.

    An existing file keeps its comments and its order; only what was asked is changed.

    [bold]Example:[/bold]  tenuto bind mine.toml --source gamepad
    """
    import tenuto

    if vehicle not in begun_for():
        raise typer.BadParameter(f"expected one of {', '.join(begun_for())}", param_hint="--vehicle")
    with ExitStack() as stack:
        stopped = stack.enter_context(ctrl_c())
        if recording is not None:
            opened = stack.enter_context(open_source(f"recording:{recording}"))
            infos = known_infos(opened)
        else:
            opened = stack.enter_context(open_source(source, clock=the_clock.get()))
            infos = opened.controls()
        document = _begin(profile, vehicle)
        roles = _roles(profile, document)
        results.print(Text.assemble((opened.name, "bold"), ": let go of everything."))
        found = _ask(_frames(opened, stopped, fast=recording is not None), infos, roles, wait)
        if stopped:
            raise KeyboardInterrupt
    for role, meant in found.items():
        way = "rises" if meant.rising else "falls"
        results.print(f"  {role.replace('_minus', ', other way'):<6} {meant.control}, which {way}")
    text = _write_into(document, profile, source, infos, roles, found)
    tenuto.parse_profile(text, str(profile))  # raises before anything is written
    if not yes and (not sys.stdin.isatty() or not typer.confirm(f"Write {profile}?")):
        results.print("Nothing was written; --yes writes without asking.")
        raise typer.Exit(1)
    from tenuto.calibration.store import write_atomically

    try:
        write_atomically(profile, text)
    except OSError as error:
        raise TenutoError(f"{profile}: cannot write it: {error.strerror}") from error
    results.print(f"Wrote {profile}. Next: tenuto calibrate {source}, then tenuto check {profile}", soft_wrap=True)


def _frames(source: Source, stopped: list[int], *, fast: bool) -> Iterator[Frame | None]:
    """Return the frames of a source as they come, and None while none comes."""
    clock: Clock = SimulatedClock() if fast else the_clock.get()
    start = clock.now()
    while not stopped and not source.finished:
        now = clock.now() - start
        yield source.poll(now)
        clock.sleep_until(start + now + (0.01 if fast else 0.005))


def _begin(profile: Path, vehicle: str) -> tomlkit.TOMLDocument:
    """Return the profile to change: the file that is there, or the beginning of one for a vehicle."""
    import tomlkit

    try:
        return tomlkit.parse(profile.read_text(encoding="utf-8") if profile.exists() else text_begun_for(vehicle))
    except (OSError, UnicodeDecodeError, tomlkit.exceptions.ParseError) as error:
        raise ProfileError(str(profile), [unexpected("file", "TOML that can be changed", str(error))]) from error


def _roles(profile: Path, document: tomlkit.TOMLDocument) -> tuple[Role, ...]:
    """Return what is to be asked for: what the style needs, and the guard."""
    kind = str(_table(document, "style").get("kind", "arcade"))
    style = STYLES.all.get(kind)
    roles = style_roles(style) if style is not None else ()
    if style is None or not roles:
        able = ", ".join(name for name, one in STYLES.all.items() if style_roles(one))
        expected = f"a style that can be asked for: {able}"
        raise ProfileError(str(profile), [unexpected("style.kind", expected, f'"{kind}"', "edit the file by hand")])
    if not profile.exists():
        speeds = _table(document, "speeds")
        roles = tuple(role for role in roles if not role.speed or role.speed in speeds)
    new = (WAYS,) if style.switched_steering and "choose" not in document else ()
    return (*roles, *new, *GUARD_ROLES)


def _ask(
    frames: Iterator[Frame | None], infos: tuple[ControlInfo, ...], roles: tuple[Role, ...], wait: float
) -> dict[str, Meant]:
    """Ask for one role after another; raise where a needed one does not come."""
    listener = Listener(infos)
    found: dict[str, Meant] = {}
    for role in roles:
        results.print(f"Now {role.prompt}.", soft_wrap=True)
        answer = _listen(frames, listener, role, wait)
        if answer is not None:
            found[role.name] = answer
            listener.taken.add(answer.control)
            results.print(f"  understood: {answer.control}", style="green")
            kind = next(info.kind for info in infos if info.name == answer.control)
            if role.other_way and kind != "stick":
                results.print(f"Now {role.other_way}.", soft_wrap=True)
                other = _listen(frames, listener, role._replace(prompt=role.other_way), wait)
                if other is not None:
                    found[f"{role.name}_minus"] = other
                    listener.taken.add(other.control)
                    results.print(f"  understood: {other.control}; the two make one axis", style="green")
        elif not role.optional:
            raise SourceError(f"no gesture came for {role.name}: nothing was written")
    return found


def _listen(frames: Iterator[Frame | None], listener: Listener, role: Role, wait: float) -> Meant | None:
    began = None
    for frame in frames:
        if frame is None:
            continue
        began = frame.time if began is None else began
        answer = listener.feed(frame, stays=role.stays)
        if isinstance(answer, Meant):
            return answer
        if isinstance(answer, Unclear):
            results.print(f"  {answer.why}. Again: {role.prompt}.", style="yellow", soft_wrap=True)
            began = frame.time
        if frame.time - began > wait:
            return None
    return None


def _write_into(
    document: tomlkit.TOMLDocument,
    profile: Path,
    source: str,
    infos: tuple[ControlInfo, ...],
    roles: tuple[Role, ...],
    found: dict[str, Meant],
) -> str:
    """Return the profile's text with what was understood put in; comments and order of an existing file stay."""
    import tomlkit

    known = {info.name: info for info in infos}
    if not profile.exists():
        document["name"] = profile.stem
        for key, value in _source_table(source).items():
            _table(document, "source")[key] = value
    style, guard, controls = (_table(document, name) for name in ("style", "guard", "controls"))
    for role in roles:
        if not role.key or role.name not in found:
            continue
        name = str(style.get(role.key, role.name))
        style[role.key] = name
        _put(controls, name, found[role.name], known)
        if f"{role.name}_minus" in found:
            controls[name]["minus"] = found[f"{role.name}_minus"].control
        else:
            controls[name].pop("minus", None)
        controls[name].setdefault("dead_zone", 0.08)
    for role_name, key in (("hold", "hold_to_run"), ("stop", "stop")):
        if role_name not in found:
            continue
        meant = found[role_name]
        plain = meant.rising and known[meant.control].kind != "stick"
        guard[key] = meant.control if plain else role_name
        if not plain:
            _put(controls, role_name, meant, known)
    if WAYS.name in found:
        _table(document, "switches")["steering_button"] = {"kind": "cycle", "reads": found[WAYS.name].control}
        order = ["front", "counter", "crab", "rear"]
        _table(document, "choose")["steering"] = {"switch": "steering_button", "order": order}
    return tomlkit.dumps(document)


def _table(document: tomlkit.TOMLDocument, name: str) -> Any:
    import tomlkit

    if name not in document:
        document[name] = tomlkit.table()
    return document[name]


def _put(controls: Any, name: str, meant: Meant, known: dict[str, ControlInfo]) -> None:
    import tomlkit

    if name not in controls:
        controls[name] = tomlkit.table()
    table = controls[name]
    if table.get("reads") != meant.control:
        # Another control: what was measured of the one before means nothing for it.
        for key in ("low", "centre", "high"):
            table.pop(key, None)
    table["reads"] = meant.control
    # A rise is positive, unless the device counts down; what was meant is to be positive.
    reverse = meant.rising == known[meant.control].counts_down
    if reverse or "reverse" in table:
        table["reverse"] = reverse


def _source_table(source: str) -> dict[str, object]:
    """Return the keys of ``[source]`` for a short text; of a simulated device those of its kind."""
    options = source_options(source)
    if not options.in_profiles:
        device = str(getattr(options, "device", ""))
        kind = SOURCES.all.get(device)
        if kind is None or not kind.in_profiles:
            return {"kind": "gamepad"}
        places = [one.name for one in fields(kind) if about(one).place and one.default is MISSING]
        return {"kind": device, **dict.fromkeys(places, device)}
    said = {one.name: getattr(options, one.name) for one in fields(options) if about(one).word}
    usual = {one.name: one.default for one in fields(options)}
    return {"kind": options.kind, **{key: value for key, value in said.items() if value != usual[key]}}
