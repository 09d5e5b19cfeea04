"""The validity of a plan: `Pipeline` checks it before it takes one."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator

from tenuto.basics.findings import Finding, error, unexpected
from tenuto.driving.measured import MEASURED
from tenuto.driving.modes import ModePlan
from tenuto.driving.plan import DriverPlan, Plan
from tenuto.driving.selection import SelectionPlan
from tenuto.sticks.control import ControlPlan
from tenuto.vehicles.priority import PRIORITIES, takes_priority


def plan_errors(plan: Plan) -> list[Finding]:
    """List the errors of a plan: invalid numbers and unknown names."""
    found = [*_guard(plan), *_controls("controls", plan.controls), *_names(plan, plan.controls, plan.selection, "")]
    for name, value in (("period", plan.period), ("stall_timeout", plan.stall_timeout)):
        found += _above_zero(name, value)
    for mode in plan.modes:
        found += _mode(plan, mode)
    if sum(mode.fallback for mode in plan.modes) != 1:
        names = ", ".join(mode.name for mode in plan.modes if mode.fallback) or "none"
        found.append(unexpected("modes", "exactly one fallback mode", names))
    if plan.priority not in PRIORITIES or not takes_priority(plan.chassis, plan.priority):
        found.append(unexpected("priority", NO_PRIORITY, plan.priority))
    for one in plan.below:
        found += _below(plan, one)
    return [*found, *_inputs(plan), *_measured(plan)]


# The expectation in the error about a jerk limit that a vehicle cannot keep.
NO_JERK = "no such limit: the wheels of this vehicle must steer first, at their own rate"
# The same for a priority, with a vehicle whose parts cannot be separated.
NO_PRIORITY = '"arc", because this vehicle cannot do that part alone'


def _inputs(plan: Plan) -> Iterator[Finding]:
    """Check the distance sensors and the inhibits."""
    for inhibit in plan.inhibits:
        place = f"inhibits.{inhibit.name}"
        yield from _above_zero(f"{place}.timeout", inhibit.timeout)
        if inhibit.category not in (0, 1, 2, None):
            yield unexpected(f"{place}.stop_category", "0, 1 or 2", f"{inhibit.category}")
        if not 0.0 < inhibit.share <= 1.0:
            yield unexpected(f"{place}.speed_share", "a share above 0, up to 1", f"{inhibit.share}")
        if not math.isfinite(inhibit.on_from):
            yield unexpected(f"{place}.on_from", "a number", f"{inhibit.on_from}")
    for sensor in plan.distances:
        place = f"distances.{sensor.name}"
        for name in ("scale", "keep", "reach", "timeout"):
            yield from _above_zero(f"{place}.{name}", getattr(sensor, name), endless=name == "reach")


def _measured(plan: Plan) -> Iterator[Finding]:
    """Check the measured speeds."""
    for measured in plan.measured:
        place = f"measured.{measured.name}"
        for name in ("tolerance", "within", "timeout"):
            yield from _above_zero(f"{place}.{name}", getattr(measured, name))
        if not (math.isfinite(measured.scale) and measured.scale):
            yield unexpected(f"{place}.scale", "a number that is not 0", f"{measured.scale}")
        if measured.of not in MEASURED:
            yield unexpected(f"{place}.of", ", ".join(MEASURED), measured.of)


def _above_zero(where: str, value: float, *, zero: bool = False, endless: bool = False) -> Iterator[Finding]:
    """Require a number above zero; or zero too, or infinity too."""
    good = value > 0.0 or (zero and value == 0.0)
    if not good or not (math.isfinite(value) or (endless and value > 0.0)):
        yield unexpected(where, "a number from 0" if zero else "a number above 0", f"{value}")


def _guard(plan: Plan) -> Iterator[Finding]:
    guard = plan.guard
    for name in ("link_timeout", "stop_deceleration", "stop_turn_deceleration", "stop_vertical_deceleration"):
        yield from _above_zero(f"guard.{name}", getattr(guard, name))
    yield from _above_zero("guard.command_timeout", guard.command_timeout)
    yield from _above_zero("guard.discrepancy_time", guard.discrepancy_time)
    for name in ("frozen_after", "attention", "pressed_through"):
        yield from _above_zero(f"guard.{name}", getattr(guard, name), endless=True)
    for name in (
        "link_good_for",
        "least_quality",
        "descend_speed",
        "descend_for",
        "least_frame_rate",
        "start_warning",
        "grace",
    ):
        yield from _above_zero(f"guard.{name}", getattr(guard, name), zero=True)
    if guard.hold_to_run is None and guard.enable is None:
        yield error(
            "guard.hold_to_run", "no control must be held or pressed to drive", "set guard.hold_to_run or guard.enable"
        )
    if guard.on_link_loss not in ("stop", "descend", "silent"):
        yield unexpected("guard.on_link_loss", "stop, descend or silent", guard.on_link_loss)


def _mode(plan: Plan, mode: ModePlan) -> Iterator[Finding]:
    place = f"modes.{mode.name}" if mode.name else "mode"
    speeds, limits = mode.speeds, mode.limits
    for name in ("forward", "backward", "turn", "sideways", "up", "down"):
        yield from _above_zero(f"{place}.speeds.{name}", getattr(speeds, name), zero=True)
    for name in ("acceleration", "turn_acceleration", "vertical_acceleration", "deceleration", "turn_deceleration"):
        value = getattr(limits, name)
        if value is not None:
            yield from _above_zero(f"{place}.limits.{name}", value)
    for name in ("jerk", "turn_jerk"):
        value = getattr(limits, name)
        yield from _above_zero(f"{place}.limits.{name}", value, endless=True)
        if value < math.inf and name not in plan.chassis.jerks:
            yield unexpected(f"{place}.limits.{name}", NO_JERK, f"{value:g}")
    controls = [control.name for control in plan.controls]
    yield from _known(f"{place}.style", mode.style.controls(), controls)


def _controls(place: str, controls: Iterable[ControlPlan]) -> Iterator[Finding]:
    seen: set[str] = set()
    for control in controls:
        where = f"{place}.{control.name}"
        if control.name in seen:
            yield error(where, "two controls have this name")
        seen.add(control.name)
        total = control.dead_zone + control.outer_dead_zone + control.hysteresis
        if not 0.0 <= total < 1.0:
            yield unexpected(f"{where}.dead_zone", "dead zones and hysteresis of less than 1 together", f"{total}")
        for name in ("smoothing", "ramp_up", "ramp_down", "noise"):
            yield from _above_zero(f"{where}.{name}", getattr(control, name), zero=True)


def _names(plan: Plan, controls: Iterable[ControlPlan], chosen: SelectionPlan, place: str) -> Iterator[Finding]:
    """Check every name in a driver's plan."""
    known = [control.name for control in controls]
    guard, switches = plan.guard, [switch.name for switch in chosen.switches]
    asked = {
        "guard.hold_to_run": guard.hold_to_run, "guard.stop": guard.stop, "guard.emergency_stop": guard.emergency_stop,
        "guard.hold_to_run_2": guard.hold_to_run_2, "guard.emergency_stop_2": guard.emergency_stop_2,
        "guard.takes_over": guard.takes_over, "heading": chosen.heading,
        **{f"switches.{switch.name}": switch.reads or None for switch in chosen.switches},
        **{f"trims.{trim.control}": trim.control for trim in chosen.trims},
    }  # fmt: skip
    pressed = {
        "guard.enable": guard.enable, "guard.reset": guard.reset, "mode": chosen.mode.switch,
        "rates": chosen.rates.switch, "mode.back": chosen.mode.back,
        "steering": chosen.steering.switch, "heading_zero": chosen.heading_zero,
        **{f"actions.{action.name}": action.press for action in plan.actions if not place},
    }  # fmt: skip
    for names, there in ((asked, known), (pressed, switches)):
        for where, name in names.items():
            yield from _known(place + where, [name] if name is not None else [], there)


def _below(plan: Plan, one: DriverPlan) -> Iterator[Finding]:
    place = f"drivers.{one.name}"
    yield from _above_zero(f"{place}.link_timeout", one.link_timeout)
    if not 0.0 < one.share <= 1.0:
        yield unexpected(f"{place}.speed_share", "a share above 0, up to 1", f"{one.share}")
    yield from _known(f"{place}.permit", [one.permit] if one.permit else [], [c.name for c in plan.controls])
    switches = [switch.name for switch in plan.selection.switches]
    yield from _known(f"{place}.given_by", [one.given_by] if one.given_by else [], switches)
    if one.controls:
        yield from _controls(f"{place}.controls", one.controls)
        yield from _names(plan, one.controls, one.selection, f"{place}.")


def _known(where: str, names: Iterable[str], known: list[str]) -> Iterator[Finding]:
    for name in names:
        if name not in known:
            yield unexpected(where, f"one of {', '.join(known) or 'none'}", f'"{name}"')
