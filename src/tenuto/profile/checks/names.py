"""Checks of the names in a profile."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from difflib import get_close_matches
from itertools import pairwise

from tenuto.basics.findings import Finding, unexpected
from tenuto.driving.valid import NO_JERK, NO_PRIORITY
from tenuto.kinds.options import Role, named
from tenuto.kinds.quantities import a
from tenuto.profile.actuators import dimension_of
from tenuto.profile.build import (
    GUARD_CONTROLS,
    actuator_plans,
    goes_first,
    headings,
    pressed_names,
    read_names,
    styles_of,
)
from tenuto.profile.checks.shares import no_metres_errors
from tenuto.profile.choices import ModeTable
from tenuto.profile.schema import Tables
from tenuto.profile.speeds import full_velocity
from tenuto.sticks.control import is_stretched_first
from tenuto.vehicles.base import LEVEL_FORMS, Chassis, Quantity
from tenuto.vehicles.priority import takes_priority
from tenuto.vehicles.velocity import VelocityCommand

_CONTROL = "the name of a control under [controls]"


def driving_names(profile: Tables) -> set[str]:
    """Return the names of all controls that drive in any mode."""
    return {name for _, style in styles_of(profile) for name in style.driving().values()}


def name_errors(profile: Tables) -> list[Finding]:
    """List every unknown or unsuitable name."""
    return [
        *_read(profile), *_sticks(profile), *_rates_and_trims(profile), *_switches(profile), *_modes(profile),
        *_levels(profile), *_outputs(profile), *_vehicle(profile),
    ]  # fmt: skip


def _read(profile: Tables) -> Iterator[Finding]:
    source, driving = profile.source, driving_names(profile)
    pressed = {key for key, _ in pressed_names(profile)}
    has = source.columns_said() or [info.name for info in source.layout]
    for key, name in read_names(profile):
        own = profile.controls.get(name)
        if own is not None and own.reads != name and name in has:
            hint = f"{key} may mean it, or the device's own {name}: give it another name"
            yield unexpected(f"controls.{name}", "a name that no other control of the device has", f'"{name}"', hint)
        if key.removeprefix("guard.") in GUARD_CONTROLS or own is not None:
            if key in pressed and name in driving:
                yield unexpected(
                    key, "a control that does not drive", f'"{name}"', "press one thing, steer with another"
                )
            continue
        info = source.control(name)
        if info is None or info.travel is None:
            known = (*profile.switches, *profile.controls, *(info.name for info in source.layout))
            expected = "a switch or a control" if key in pressed else "a control"
            yield unknown(key, f"{expected} of the {source.kind} or one of this profile", name, known)


def _sticks(profile: Tables) -> Iterator[Finding]:
    taken: set[str] = set()
    for name, stick in profile.sticks.items():
        for key in ("x", "y"):
            control = getattr(stick, key)
            if control not in profile.controls:
                yield unknown(f"sticks.{name}.{key}", _CONTROL, control, profile.controls)
            elif control in taken:
                yield unexpected(f"sticks.{name}.{key}", "a control that is no axis of another stick", f'"{control}"')
            elif stick.zone != "axes" and profile.controls[control].dead_zone:
                hint = f"sticks.{name} has the dead zone of both axes"
                yield unexpected(
                    f"controls.{control}.dead_zone", "nothing", f"{profile.controls[control].dead_zone}", hint
                )
            taken.add(control)
        # In the corners of a circle that is stretched to the square its zone is, too.
        wide = stick.dead_zone * (math.sqrt(2.0) if is_stretched_first(stick.travel, stick.zone) else 1.0)
        if wide + stick.outer_dead_zone + max(stick.hysteresis, stick.growth) >= 1.0:
            yield unexpected(
                f"sticks.{name}.dead_zone", "dead zones and growth of less than 1 together", f"{stick.dead_zone}"
            )


def _rates_and_trims(profile: Tables) -> Iterator[Finding]:
    for name, rates in profile.rates.items():
        for control in rates.controls or ():
            if control not in profile.controls:
                yield unknown(f"rates.{name}.controls", _CONTROL, control, profile.controls)
    for name, trim in profile.trims.items():
        if abs(trim.begin) > trim.most:
            yield unexpected(f"trims.{name}.begin", f"at most trims.{name}.most, {trim.most:g}", f"{trim.begin:g}")
        if name not in profile.controls:
            yield unknown(f"trims.{name}", "a table named as a control under [controls]", name, profile.controls)
        if (trim.up is None) != (trim.down is None):
            missing = "down" if trim.down is None else "up"
            yield unexpected(
                f"trims.{name}.{missing}", "a switch or control that is pressed", "nothing", "the other way"
            )


def _switches(profile: Tables) -> Iterator[Finding]:
    for name, switch in profile.switches.items():
        key = f"switches.{name}"
        if name in profile.controls:
            yield unexpected(key, "a name that no control has", f'"{name}"')
        yield from (finding.within(key) for finding in switch.errors())


def _modes(profile: Tables) -> Iterator[Finding]:
    modes, choose = profile.modes, profile.choose
    fallbacks = [name for name, mode in modes.items() if mode.fallback]
    if len(modes) > 1 and len(fallbacks) != 1:
        found = ", ".join(fallbacks) if fallbacks else "none"
        hint = "the simplest and most manual one"
        yield unexpected("modes", "fallback = true in exactly one mode", found, hint)
    if choose.mode is None and len(modes) > 1:
        yield unexpected("choose.mode", "a table that says what chooses between the modes", "nothing", "add it")
    for name, mode in modes.items():
        yield from _mode(profile, name, mode)
    for key, choice, known in (("mode", choose.mode, set(modes)), ("rates", choose.rates, set(profile.rates))):
        for name in choice.order if choice is not None else ():
            if name not in known:
                yield unknown(f"choose.{key}.order", f"names under [{key.rstrip('s')}s]", name, known)


def _mode(profile: Tables, name: str, mode: ModeTable) -> Iterator[Finding]:
    if mode.rates is not None and mode.rates not in profile.rates:
        yield unknown(f"modes.{name}.rates", "a set of rates under [rates]", mode.rates, profile.rates)
    for key, names in (("outputs", mode.outputs), ("without", mode.without)):
        for output in names:
            if output not in profile.outputs:
                yield unknown(f"modes.{name}.{key}", "an output under [outputs]", output, profile.outputs)


def _levels(profile: Tables) -> Iterator[Finding]:
    for key, table, lowest in (("levels", profile.levels, "above"), ("rear_share", profile.rear_share, "from")):
        if table is None:
            continue
        steps = table.steps
        good = all(a < b for a, b in pairwise(steps)) and steps[-1] <= 1.0
        if not good or steps[0] < 0.0 or (lowest == "above" and steps[0] == 0.0):
            yield unexpected(f"{key}.steps", f"shares {lowest} 0, rising, up to 1", f"{steps}")
        elif table.begin is not None and table.begin not in steps:
            yield unexpected(f"{key}.begin", f"one of {', '.join(f'{step:g}' for step in steps)}", f"{table.begin:g}")


def _outputs(profile: Tables) -> Iterator[Finding]:
    for name, output in profile.outputs.items():
        key = f"outputs.{name}"
        for option, control in named(output, Role.READS):
            if control not in profile.controls:
                yield unknown(f"{key}.{option}", Role.READS, control, profile.controls)
        yield from (finding.within(key) for finding in output.errors(profile.controls))


def _vehicle(profile: Tables) -> Iterator[Finding]:
    wrong = [finding.within("chassis") for finding in profile.chassis.errors()]
    if wrong:
        yield from wrong
        return
    chassis = profile.chassis.chassis(full_velocity(profile.speeds.speeds()))
    for key, style in styles_of(profile):
        if (misfit := style.misfit(chassis)) is not None:
            yield unexpected(f"{key}.{misfit.key}", misfit.expected, misfit.found)
        for option, name in named(style, Role.READS):
            if name not in profile.controls:
                yield unknown(f"{key}.{option}", Role.READS, name, profile.controls)
    known = headings(profile)
    for key, heading, zero in known[1:]:
        if (heading, zero) != known[0][1:]:
            yield unexpected(f"{key}.heading", "the same heading and heading_zero in every mode", f'"{heading}"')
    first = goes_first(profile)
    apart = next((style for _, style in styles_of(profile) if style.apart), None)
    if first != "arc" and apart is not None:
        why = f'"arc" with {apart.kind}, or a part whose stick rests would move'
        yield unexpected("chassis.priority", why, f'"{first}"')
    elif not takes_priority(chassis, first):
        yield unexpected("chassis.priority", NO_PRIORITY, f'"{first}"')
    yield from _jerks(profile, chassis)
    yield from _sinks(profile, chassis)
    yield from no_metres_errors(profile)
    yield from _actuators(profile, chassis)


def _jerks(profile: Tables, chassis: Chassis) -> Iterator[Finding]:
    """Refuse a jerk limit that the vehicle cannot keep, once if modes inherit it from the profile."""
    modes = {f"modes.{name}.limits": mode.limits for name, mode in profile.modes.items() if mode.limits is not None}
    for key in ("jerk", "turn_jerk"):
        for place, table in {"limits": profile.limits, **modes}.items():
            value = getattr(table, key)
            if value is not None and key not in chassis.jerks:
                yield unexpected(f"{place}.{key}", NO_JERK, f"{value:g}", "remove it")
                break


def _sinks(profile: Tables, chassis: Chassis) -> Iterator[Finding]:
    if profile.guard.descend_speed is None:
        return
    sinks = VelocityCommand(vz=-profile.guard.descend_speed)
    if chassis.within_reach(sinks) != (sinks, 1.0):
        found = chassis.units.speed.shown(profile.guard.descend_speed, "g")
        yield unexpected("guard.descend_speed", "a speed at which this vehicle can sink", found)


def _actuators(profile: Tables, chassis: Chassis) -> Iterator[Finding]:
    bounds = chassis.bounds()
    groups = {bound.quantity.group for bound in bounds.values()}
    known = [*groups, *bounds, *chassis.axles(), *profile.outputs]
    for name, table in profile.actuators.items():
        if name not in known:
            yield unknown(
                f"actuators.{name}", "an actuator of this vehicle, a group of them, or an output", name, known
            )
        elif name in profile.outputs and table.form not in (*LEVEL_FORMS, None):
            expected = f"{', '.join(LEVEL_FORMS[:-1])} or {LEVEL_FORMS[-1]}, for an output is a level"
            yield unexpected(f"actuators.{name}.form", expected, f'"{table.form}"')
    for name in set(profile.outputs) & {*groups, *bounds, *chassis.axles()}:
        yield unexpected(f"outputs.{name}", "a name that no actuator of this vehicle has", f'"{name}"')
    for plan in actuator_plans(profile, chassis):
        quantity = Quantity.STEERING_ANGLE if plan.of else bounds[plan.name].quantity if plan.name in bounds else None
        if quantity is not None and plan.form not in quantity.forms:
            key = f"actuators.{plan.name if plan.name in profile.actuators else quantity.group}.form"
            what = f"a number in {quantity.unit}" if quantity.unit else "a share"
            yield unexpected(key, f"{', '.join(quantity.forms)}: {plan.name} takes {what}", f'"{plan.form}"')
        yield from _full(profile, plan.name, quantity)
        if plan.form in ("share", "duty", "pulse") and math.isinf(plan.full):
            expected = "full, the value of the share 1, or a greatest speed under [chassis]"
            yield unexpected(f"actuators.{plan.name}.full", expected, "nothing")


def _full(profile: Tables, name: str, quantity: Quantity | None) -> Iterator[Finding]:
    """Refuse a value of another dimension than that of the actuator."""
    wanted = dimension_of(quantity.unit if quantity is not None else "")
    for key in (name, quantity.group if quantity is not None else name):
        full = profile.actuators[key].full if key in profile.actuators else None
        if full is not None:
            if full.dimension not in (wanted, None):
                expected = f"{a(wanted.name)} (in {', '.join(wanted.units())}), for {name} takes that"
                yield unexpected(f"actuators.{key}.full", expected, a(full.dimension.name))
            return


def unknown(key: str, expected: str, found: str, known: Iterable[str]) -> Finding:
    """Make the error of an unknown name."""
    return unexpected(key, expected, f'"{found}"', nearest(found, known))


def nearest(word: str, known: Iterable[str]) -> str:
    """Return "did you mean …?" for the most similar other word that is known, or nothing."""
    close = get_close_matches(word, [other for other in known if other != word], n=1, cutoff=0.65)
    return f'did you mean "{close[0]}"?' if close else ""
