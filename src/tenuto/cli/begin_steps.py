"""The steps of ``tenuto begin``: menus, and the steps after the profile is written."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import fields
from pathlib import Path
from typing import Any

import typer

from tenuto.basics.errors import SinkError
from tenuto.cli.clock import loop_clock, the_clock
from tenuto.cli.console import problems, results
from tenuto.cli.gestures import style_roles
from tenuto.cli.menus import Choice, Pages, choose
from tenuto.kinds.options import Role, about
from tenuto.profile.beginning import begun_for, chassis_in, text_begun_for
from tenuto.profile.begun import fitted_sink
from tenuto.profile.patch import Change, apply_changes
from tenuto.profile.profile import Profile
from tenuto.sources import open_source
from tenuto.styles.base import STYLES
from tenuto.vehicles.base import VEHICLES

# The movement that selects a device, as a share of its travel; and how long to wait for it, s.
_MOVED, _PATIENCE = 0.3, 15.0
_IN_THE_LINE = 'name the motors in its line, such as line = "{left_wheel.share:.3f} {right_wheel.share:.3f}"'


def _first_line(what: type) -> str:
    return (what.__doc__ or "").splitlines()[0].rstrip(".")


def ask_device(pages: Pages = ()) -> str:
    """Ask for the device: by number, or with several pads by moving one."""
    from tenuto.cli.devices import find_devices

    found = find_devices()
    pads = [device.open_as[0] for device in found if device.what == "gamepad"]
    if len(pads) > 1:
        moved = _moved(pads)
        if moved:
            return moved
    choices = [Choice(text, device.name) for device in found for text in device.open_as]
    choices.append(Choice("simulated:gamepad", "a simulated pad that moves by itself, to try this"))
    return choose("Which device do you hold?", choices, pages)


def _moved(pads: Sequence[str]) -> str:
    """Return the pad that is moved; empty if none is."""
    results.print("Move a stick of the device in your hands.")
    clock = the_clock.get()
    with ExitStack() as stack:
        opened = {text: stack.enter_context(open_source(text, clock=clock)) for text in pads}
        start, rest = clock.now(), dict[tuple[str, str], float]()
        while clock.now() - start < _PATIENCE:
            for text, source in opened.items():
                frame = source.poll(clock.now() - start)
                for info in source.controls() if frame is not None else ():
                    value = frame.values.get(info.name, 0.0) if frame is not None else 0.0
                    low, high = info.travel or (info.low, info.high)
                    if abs(value - rest.setdefault((text, info.name), value)) > _MOVED * (high - low):
                        results.print(f"  understood: {source.name}", style="green")
                        return text
            clock.sleep_until(clock.now() + 0.01)
    return ""


def ask_vehicle(pages: Pages = ()) -> str:
    """Ask for the vehicle; those without measures come first."""
    kinds = sorted(begun_for(), key=lambda kind: (not VEHICLES.all[kind].in_shares, kind != "motors"))
    choices = [Choice(kind, _first_line(VEHICLES.all[kind]), VEHICLES.all[kind].picture) for kind in kinds]
    return choose("Which vehicle is it?", choices, pages, "Up is forward; those with % need no measuring tape.")


def styles_for(vehicle: str) -> list[str]:
    """Name the styles that fit a vehicle and can be asked for, its usual one first."""
    import tomllib

    chassis, beginning = chassis_in(tomllib.loads(text_begun_for(vehicle))), VEHICLES.all[vehicle].beginning
    assert chassis is not None
    usual, speeds = (beginning.style, dict(beginning.speeds)) if beginning is not None else ("", {})
    able = []
    for kind, style in STYLES.all.items():
        roles = style_roles(style, chassis)
        drives = [one.name for one in fields(style) if about(one).role is Role.DRIVES]
        given: dict[str, Any] = {name: name for name in drives}
        given |= {one.name: 2 for one in fields(style) if one.name == "stick_mode"}
        given |= {role.key[0]: {} for role in roles if len(role.key) > 1}
        goes = kind == usual or all(role.speed in speeds for role in roles if role.speed)
        if roles and goes and style(**given).misfit(chassis) is None:
            able.append(kind)
    return sorted(able, key=lambda kind: kind != usual)


def ask_style(vehicle: str, pages: Pages = ()) -> str:
    """Ask for the style, if there is a choice."""
    able = styles_for(vehicle)
    if len(able) == 1:
        return able[0]
    return choose("How do you steer it?", [Choice(kind, _first_line(STYLES.all[kind])) for kind in able], pages)


def chosen_style(vehicle: str, style: str) -> str:
    """Return the style of an option. Raises `typer.BadParameter` if it does not fit the vehicle."""
    able = styles_for(vehicle)
    if style not in able:
        raise typer.BadParameter(f"a {vehicle} takes {', '.join(able)}; found {style}", param_hint="--style")
    return style


def checked_sink(vehicle: str, sink: str) -> str:
    """Return a sink that fits a vehicle. Raises `typer.BadParameter` if it does not, or if there is no such sink."""
    try:
        options = fitted_sink(sink, vehicle)
    except SinkError as error:
        raise typer.BadParameter(str(error), param_hint="--to") from error
    if options.in_metres and VEHICLES.all[vehicle].in_shares:
        text = f"{sink} takes velocities in m/s, and {vehicle} has no measures: choose another sink or vehicle"
        raise typer.BadParameter(text, param_hint="--to")
    return sink


def ask_sink(vehicle: str, pages: Pages = ()) -> str:
    """Ask for the sink of a vehicle until it fits."""
    while True:
        try:
            return checked_sink(vehicle, _asked_sink(pages))
        except typer.BadParameter as error:
            problems.print(error.message, style="yellow", soft_wrap=True)


def _asked_sink(pages: Pages) -> str:
    from serial.tools.list_ports import comports

    choices = [Choice("simulated", "a simulated robot, to try it")]
    for port in sorted(comports()):
        what = f", {port.description}" if port.description != "n/a" else ""
        choices.append(Choice(f"serial:{port.device}", f"a line to your firmware{what}"))
    choices.append(Choice("another", "an autopilot, a servo bus, a remote robot: see tenuto drive --help"))
    found = choose("Where do commands go?", choices, pages)
    return str(typer.prompt("Sink, such as sbus:/dev/ttyAMA0")) if found == "another" else found


def measure_sticks(profile: Path, source: str, page: str | None) -> None:
    """Calibrate the device, and store the result beside the profile."""
    import tenuto
    from tenuto.calibration import Calibration
    from tenuto.cli.calibrate import calibrate, can_ask

    beside = profile.with_suffix(".calibration.toml")
    try:
        calibrate(source, out=beside, page=page)
    except typer.Exit:
        results.print(f"The profile works without it. Later: tenuto calibrate {source}", soft_wrap=True)
        return
    if not can_ask():
        return  # nobody said where the zero is, so the profile must not either: the plan refuses it
    # A person has answered where a stick that stays at its low end has its zero: the profile says it too.
    loaded, measured = tenuto.load_profile(profile), Calibration.load(beside)
    lows = {
        f"controls.{name}.rests": "end" for name, control in loaded.controls.items()
        if (info := loaded.source.control(control.reads)) is not None
        and (found := measured.controls.get(control.reads)) is not None and control.loses_a_direction(info, found)
    }  # fmt: skip
    if lows:
        loaded.with_(**lows).save(profile)


def check_reverse(profile: Profile, reverse: Sequence[str]) -> None:
    """Refuse motors that a robot does not have, or that no sink can reverse. Raises `typer.BadParameter`."""
    from tenuto.cli.motors import motors_of, turned_alone

    names, alone = motors_of(profile.plan()), turned_alone(profile)
    for name in reverse:
        if name not in names:
            raise typer.BadParameter(f"expected one of {', '.join(names)}; found {name}", param_hint="--reverse")
        if not alone.get(name, False):
            text = f"{name} needs a form in [actuators], and every sink must send it: {_IN_THE_LINE}"
            raise typer.BadParameter(text, param_hint="--reverse")


def turn_motors(profile: Path, reverse: Sequence[str], swap: bool, *, ask: bool) -> None:
    """Turn each motor alone if that is wanted, and store in the profile which one turns the wrong way."""
    import tenuto
    from tenuto.cli.motors import motors_of, turned_alone

    loaded = tenuto.load_profile(profile)
    names, wrong, swapped = list(turned_alone(loaded)), list(reverse), swap
    missing = [name for name in motors_of(loaded.plan()) if name not in names]
    if ask and names and missing:
        results.print(f"The sinks do not send {', '.join(missing)}: not tested alone.", soft_wrap=True)
    if ask and not names:
        results.print(
            f"No motor can be tested alone, because the sinks send velocities: {_IN_THE_LINE}", soft_wrap=True
        )
    elif ask and sys.stdin.isatty() and typer.confirm(
        f"Turn each of {', '.join(names)} alone? Lift the wheels off the ground first.", True
    ):  # fmt: skip
        more, swapped = _ask_motors(profile, names)
        wrong += more
    changes = _motor_changes(profile, wrong, swapped)
    if changes:
        apply_changes(profile, changes)
        results.print(f"Put into {profile}: {', '.join(change.place for change in changes)}.", soft_wrap=True)


def _ask_motors(profile: Path, names: Sequence[str]) -> tuple[list[str], bool]:
    """Turn each motor, and ask; return those that turn the wrong way, and whether two are swapped."""
    wrong, swapped = [], False
    for name in names:
        words = name.replace("_", " ")
        results.print(f"Hold the up arrow: {words} turns slowly, as for driving forward. Enter ends it.", style="bold")
        if not _turned(profile, name):
            results.print("  the motor was not commanded to turn: hold the key longer", style="yellow")
            continue
        said = typer.prompt(
            f"Did {words} turn forward? y: yes, n: backward, o: another one turned, s: skip", default="y"
        )
        if said.startswith("n"):
            wrong.append(name)
        swapped = swapped or said.startswith("o")
    return wrong, swapped


def _turned(profile: Path, name: str) -> bool:
    """Turn one motor while a key is held; return whether it was commanded to turn."""
    import tenuto
    from tenuto.cli.motors import HeldKey, OneMotor, one_motor_plan
    from tenuto.sinks import open_sink, open_sinks
    from tenuto.sources.keyboard import Keyboard

    loaded = tenuto.load_profile(profile)
    with ExitStack() as stack:
        keys = stack.enter_context(Keyboard())
        sinks = [stack.enter_context(one) for one in open_sinks(loaded) or [open_sink("simulated")]]
        alone = [OneMotor(sink, loaded.plan(), name) for sink in sinks if not sink.is_log]

        def held(now: float) -> bool | None:
            values = keys.poll(now)
            if values is None or not values.link_good:
                return None
            return None if values.values["enable"] > 0.0 else values.values["forward"] > 0.0

        tenuto.drive(one_motor_plan(), HeldKey(held), alone, clock=loop_clock())
        return any(one.moved for one in alone)


def _motor_changes(profile: Path, wrong: Sequence[str], swapped: bool) -> list[Change]:
    """Return the changes of a profile by the answers about motors."""
    import tenuto
    from tenuto.cli.motors import turned_alone

    loaded = tenuto.load_profile(profile)
    alone = turned_alone(loaded)
    for name in wrong:
        if not alone[name]:
            results.print(f"{name} turned backward: change its sign in the line of the sink, or swap its two wires.")
    wrong = [name for name in wrong if alone[name]]
    changes = [Change(("actuators", name, "reverse"), True, "", "it turned backward") for name in wrong]
    groups = {name: bound.quantity.group for name, bound in loaded.plan().chassis.bounds().items()}
    for name in wrong:
        said = [loaded.actuators[key] for key in (name, groups[name]) if key in loaded.actuators]
        if not any(table.form for table in said):
            changes.append(Change(("actuators", name, "form"), "share", "", "so that it can be reversed"))
    if swapped and loaded.chassis.kind == "motors" and getattr(loaded.chassis, "mix", None) is None:
        changes += [
            Change(("chassis", "mix", name, key), value, "", "left and right were swapped")
            for name, turn in (("left", 1.0), ("right", -1.0)) for key, value in (("forward", 1.0), ("turn", turn))
        ]  # fmt: skip
    elif swapped:
        results.print("Another motor turned: swap the two plugs, or their names in the line of [sinks.robot].")
    return changes


def first_drive(profile: Path) -> None:
    """Drive as `tenuto drive` does."""
    from tenuto.cli.drive import drive

    drive(profile)
