"""Errors between the tables of a profile."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import replace

from tenuto.basics.findings import Finding, unexpected
from tenuto.basics.layouts import ControlInfo
from tenuto.curves.base import CURVES
from tenuto.outputs.start_warning import StartWarningOptions
from tenuto.profile.build import GUARD_CONTROLS, control_table, seen_by, styles_of
from tenuto.profile.checks.drivers import drivers_errors, inputs_errors
from tenuto.profile.checks.names import driving_names, name_errors, unknown
from tenuto.profile.checks.needs import needs_errors
from tenuto.profile.controls import ControlTable, curves_said
from tenuto.profile.schema import GuardTable, Tables
from tenuto.sources.base import SourceOptions


def errors_of(profile: Tables) -> list[Finding]:
    """List the errors between the tables of a profile, in the order of the file."""
    own = [
        *_controls(profile), *_style(profile), *_guard(profile),
        *name_errors(profile), *_loop(profile), *drivers_errors(profile), *inputs_errors(profile),
        *(finding.within("source") for finding in profile.source.errors()), *_sinks(profile), *needs_errors(profile),
    ]  # fmt: skip
    return own or [*_drivers(profile)]


def _drivers(profile: Tables) -> Iterator[Finding]:
    """List the errors of another driver's controls: the same checks, with that driver's source and controls."""
    for name, table in profile.drivers.items():
        if table.sends == "velocities":
            continue
        for finding in errors_of(seen_by(profile, name)):
            key, hint = finding.where, finding.hint
            if not key.startswith(("source.", "controls.")):
                # The key is valid, but this device has no such control.
                hint = f"say which of its controls it is: [drivers.{name}.controls.NAME] with reads"
            yield replace(finding, hint=hint).within(f"drivers.{name}")


def _sinks(profile: Tables) -> Iterator[Finding]:
    for name, options in profile.sinks.items():
        for finding in options.errors(profile.actions):
            yield finding.within(f"sinks.{name}")


def _controls(profile: Tables) -> Iterator[Finding]:
    source = profile.source
    columns = source.columns_said()
    known = (*(columns or ()), *(info.name for info in source.layout))
    for name, control in profile.controls.items():
        key = f"controls.{name}"
        info = source.control(control.reads)
        if info is None or (columns is not None and control.reads not in known):
            yield unknown(f"{key}.reads", f"a control of the {source.kind}", control.reads, known)
            continue
        for name_of in ("margin", "pull"):
            if math.isfinite(info.low) and name_of in control.model_fields_set:
                expected = "no such key: the range of this device is known, so it has no effect"
                yield unexpected(f"{key}.{name_of}", expected, str(getattr(control, name_of)))
        for end in ("low", "centre", "high"):
            raw = getattr(control, end)
            if isinstance(raw, (int, float)) and not info.low <= raw <= info.high:
                yield unexpected(f"{key}.{end}", f"a raw number from {info.low:g} to {info.high:g}", f"{raw:g}")
            if raw is None and end != "centre" and info.travel is None:
                expected = ControlTable.model_fields[end].description or ""
                yield unexpected(f"{key}.{end}", expected, "nothing", "the device does not report it")
        yield from _order(key, control, info)
        if control.rests == "end" and control.centre is not None:
            yield unexpected(
                f"{key}.centre", "no centre for a control that rests at its end", f"{control.centre}", "remove it"
            )
        yield from _shape(key, control, info)
        if control.minus is not None:
            yield from _minus(key, source, control, info)


def _minus(key: str, source: SourceOptions, control: ControlTable, info: ControlInfo) -> Iterator[Finding]:
    minus = control.minus or ""
    other = source.control(minus)
    if other is None:
        yield unknown(f"{key}.minus", f"a control of the {source.kind}", minus, (info.name for info in source.layout))
    elif "stick" in (other.kind, info.kind) and control.rests != "end":
        hint = 'a stick has both directions; if both rest at their low end, set rests = "end"'
        yield unexpected(f"{key}.minus", "two controls that rest at their ends", f'"{info.name}" and "{minus}"', hint)


def _shape(key: str, control: ControlTable, info: ControlInfo) -> Iterator[Finding]:
    if control.dead_zone + control.outer_dead_zone + control.hysteresis >= 1.0:
        found = f"{control.dead_zone:g}, {control.outer_dead_zone:g} and {control.hysteresis:g}"
        yield unexpected(f"{key}.dead_zone", "dead zones and hysteresis of less than 1 together", found)
    given = list(curves_said(control))
    if len(given) > 1:
        yield unexpected(f"{key}.{given[1]}", f"one of {', '.join(CURVES.all)}", " and ".join(given), "remove one")
    one_way = control.minus is None and (control.rests == "end" or (control.rests is None and info.kind != "stick"))
    try:
        control.shape(one_way=one_way and control.centre is None)
    except ValueError as error:
        kind, value = next(iter(curves_said(control).items()))
        shown = [list(point) for point in value] if kind == "curve" else value
        yield unexpected(f"{key}.{kind}", CURVES.all[kind].what, f"{shown}", str(error))


def _order(key: str, control: ControlTable, info: ControlInfo) -> Iterator[Finding]:
    if info.travel is None and (control.low is None or control.high is None):
        return  # reported already
    try:
        control.travel(info)
    except ValueError:
        found = f"low {control.low}, centre {control.centre}, high {control.high}"
        yield unexpected(key, "low < centre < high", found, "missing keys have their usual values")


def _style(profile: Tables) -> Iterator[Finding]:
    for place, style in styles_of(profile):
        taken: dict[str, str] = {}
        for key, name in style.driving().items():
            column = profile.source.control(name) if name in (profile.source.columns_said() or ()) else None
            if name not in profile.controls and column is not None:
                expected = "a table with low, centre and high: the range of this source is not known"
                yield unexpected(f"controls.{name}", expected, "nothing", "tenuto begin measures them")
            elif name not in profile.controls:
                known = (*profile.controls, *(info.name for info in profile.source.layout))
                expected = f"a control of the {profile.source.kind} or the name of one under [controls]"
                yield unknown(f"{place}.{key}", expected, name, known)
            elif name in taken:
                yield unexpected(f"{place}.{key}", f"another control than style.{taken[name]}", f'"{name}"')
            taken.setdefault(name, key)


def _guard(profile: Tables) -> Iterator[Finding]:
    source, guard = profile.source, profile.guard
    named = {key: getattr(guard, key) for key in GUARD_CONTROLS}
    given = {key: name for key, name in named.items() if name is not None}
    if guard.hold_to_run is None and guard.enable is None:
        field = type(guard).model_fields["hold_to_run"]
        hint = "add it, or guard.enable: a button, a switch, or a gesture of sticks where there is neither"
        yield unexpected("guard.hold_to_run", field.description or "", "nothing", hint)
    for key, name in given.items():
        if name in driving_names(profile):
            hint = "hold one control, steer with another"
            yield unexpected(f"guard.{key}", "a control that does not drive", f'"{name}"', hint)
        elif name not in profile.controls:
            info = source.control(name)
            if info is None or info.travel is None:
                known = (*profile.controls, *(info.name for info in source.layout))
                expected = f"a control of the {source.kind} or the name of one under [controls]"
                yield unknown(f"guard.{key}", expected, name, known)
    for key, name in given.items():
        for held in ("hold_to_run", "hold_to_run_2"):
            if key != held and (key, held) != ("hold_to_run", "hold_to_run_2") and name == given.get(held):
                yield unexpected(f"guard.{key}", f"another control than guard.{held}", f'"{name}"')
    yield from _descend(guard)
    yield from _second_channels(profile)
    yield from _start_warning(profile)
    if guard.emergency_stop is not None and guard.reset is None:
        yield unexpected("guard.reset", type(guard).model_fields["reset"].description or "", "nothing", "add it")


def _second_channels(profile: Tables) -> Iterator[Finding]:
    """Require the first channel for a second one, and the controls for three positions and for a test."""
    guard = profile.guard
    hold = guard.hold_to_run
    table = control_table(profile, hold) if hold is not None else None
    info = profile.source.control(table.reads) if table is not None else None
    if guard.pressed_through is not None and info is not None and table is not None and table.springs_back(info):
        hint = "a button has no middle position: use a trigger or a lever, or remove it"
        yield unexpected(
            "guard.pressed_through", f"nothing where {hold} is a button", f"{guard.pressed_through:g}", hint
        )
    if "discrepancy_time" in guard.model_fields_set and guard.hold_to_run_2 is guard.emergency_stop_2 is None:
        expected = "nothing without hold_to_run_2 or emergency_stop_2"
        yield unexpected("guard.discrepancy_time", expected, f"{guard.discrepancy_time:g} s")
    for key, first in (
        ("hold_to_run_2", "hold_to_run"), ("emergency_stop_2", "emergency_stop"), ("pressed_through", "hold_to_run"),
    ):  # fmt: skip
        if getattr(guard, key) is not None and getattr(guard, first) is None:
            yield unexpected(f"guard.{first}", f"a control, because guard.{key} belongs to it", "nothing")
    if guard.emergency_stop is not None and guard.emergency_stop == guard.emergency_stop_2:
        found = f'"{guard.emergency_stop}"'
        yield unexpected("guard.emergency_stop_2", "another control than guard.emergency_stop", found)
    if "emergency stop" in guard.test_at_start and guard.emergency_stop is None:
        yield unexpected("guard.emergency_stop", "a control, because guard.test_at_start names it", "nothing")
    if "link" in guard.test_at_start and not profile.source.loses_link:
        hint = "its link cannot be lost and come back"
        yield unexpected("guard.test_at_start", f"no link with {profile.source.kind}", '"link"', hint)


def _start_warning(profile: Tables) -> Iterator[Finding]:
    warning, kind = profile.guard.start_warning, StartWarningOptions.kind
    warns = [name for name, output in profile.outputs.items() if output.kind == kind]
    if warning is not None and not warns:
        hint = f'add [outputs.horn] with kind = "{kind}": a delay alone warns nobody'
        yield unexpected("guard.start_warning", f"an output of kind {kind} with it", f"{warning:g} s", hint)
    if warning is None and warns:
        yield unexpected("guard.start_warning", f"a time, because outputs.{warns[0]} warns", "nothing", 'such as "2 s"')


def _descend(guard: GuardTable) -> Iterator[Finding]:
    wanted = guard.on_link_loss == "descend"
    if wanted and guard.fault_category != 2:
        hint = "without power it would fall, not sink"
        yield unexpected("guard.fault_category", '2 with on_link_loss = "descend"', f"{guard.fault_category}", hint)
    for key in ("descend_speed", "descend_for"):
        if (getattr(guard, key) is not None) != wanted:
            expected = (type(guard).model_fields[key].description or "") if wanted else "nothing"
            hint = 'it belongs to on_link_loss = "descend"'
            yield unexpected(f"guard.{key}", expected, f"{getattr(guard, key) or 'nothing'}", hint)


def _loop(profile: Tables) -> Iterator[Finding]:
    period = 1.0 / profile.loop.rate
    for key, value in (
        ("guard.link_timeout", profile.guard.link_timeout),
        ("loop.stall_timeout", profile.loop.stall_timeout),
    ):
        if value < 2.0 * period:
            yield unexpected(
                key,
                f"at least two ticks of the loop ({2.0 * period:g} s)",
                f"{value:g} s",
                "or raise loop.rate",
            )
