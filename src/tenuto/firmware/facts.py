"""The facts of a plan for the templates, besides the plan itself."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any

import numpy as np

from tenuto.basics.reasons import Code
from tenuto.driving.guard import TABLE, Event, State
from tenuto.driving.limits import within_speeds
from tenuto.driving.plan import Plan, rest_bands
from tenuto.firmware.constants import CONSTANTS
from tenuto.firmware.hearing import Hearing
from tenuto.firmware.naming import quoted
from tenuto.firmware.refusals import steps_averaged
from tenuto.profile.profile import Profile
from tenuto.sticks.centring import FEWEST, STILL_SECONDS
from tenuto.vehicles.actuators import Wire
from tenuto.vehicles.base import Arcs, Chassis, Sides
from tenuto.vehicles.velocity import VelocityCommand

AXES = ("VX", "VY", "VZ", "YAW")


def facts_of(profile: Profile, plan: Plan, hearing: Hearing | None) -> dict[str, Any]:
    """Collect them; the names are those in the templates."""
    inputs = list(dict.fromkeys(reads for control in plan.controls for reads in control.all_reads))
    return {
        "profile": profile, "plan": plan, "g": plan.guard, "robot": quoted(profile.name),
        "inputs": inputs, "readers": {one: quoted(_readers(plan, one)) for one in inputs},
        "states": list(State), "codes": list(Code), "events": list(Event), "table": TABLE,
        "within_speeds": within_speeds, "way_of": way_name, "n": CONSTANTS,
        **_of_hearing(hearing, inputs),
        **_of_sticks(plan), **_of_guard(plan), **_of_motion(plan), **_of_outputs(plan),
    }  # fmt: skip


def _readers(plan: Plan, reads: str) -> str:
    return ", ".join(control.name for control in plan.controls if reads in control.all_reads)


def _of_hearing(hearing: Hearing | None, inputs: list[str]) -> dict[str, Any]:
    """Describe what reads the sticks: from bytes, or from edges; and the place of each input in a frame."""
    if hearing is None:
        return {"hearing": None, "receiver": "", "edges": "", "channels": []}
    by_edges = hearing.wires > 0
    return {
        "hearing": hearing, "receiver": "" if by_edges else hearing.kind, "edges": hearing.kind if by_edges else "",
        "serial_words": hearing.words, "channels": hearing.channels(inputs),
    }  # fmt: skip


def _of_sticks(plan: Plan) -> dict[str, Any]:
    """Describe the inputs, and how they are processed."""
    controls, selection = plan.controls, plan.selection
    named = [name for control in controls for name in control.rates]
    rates = list(dict.fromkeys([*selection.rates.order, *named])) if named else [selection.rates.begin]
    begin = plan.mode.rates if plan.mode.rates is not None else selection.rates.begin
    zoned = {name for stick in plan.sticks if stick.zone != "axes" for name in (stick.x, stick.y)}
    curves = [shape.curve for control in controls for shape in (control.shape, *control.rates.values())]
    travels = [control.travel for control in controls]
    travels += [control.minus.travel for control in controls if control.minus is not None]

    def is_shaped(control: Any) -> bool:
        return control.name in zoned or not all(control.plain_for(name) for name in (*rates, begin))

    on_sticks = {name for stick in plan.sticks for name in (stick.x, stick.y)}

    return {
        "rates": rates, "begin_rates": begin, "zoned": zoned,
        "curves": list(dict.fromkeys(curve for curve in curves if curve is not None and not curve.straight)),
        "shaped_controls": [control.name for control in controls if is_shaped(control)],
        # Shaped in one step, from the position.
        "direct": lambda one: is_shaped(one) and not one.spike_filter and one.name not in on_sticks,
        "uses_zone": any((c.dead_zone or c.outer_dead_zone) and c.name not in zoned for c in controls),
        "uses_centre": any(travel.centre is not None for travel in travels),
        "uses_end": any(travel.centre is None for travel in travels),
        "centred": [control for control in controls if control.centre_at_start],
        "centre_numbers": centre_numbers(plan),
        "noisy": [c for c in controls if c.noise > 0.0] if math.isfinite(plan.guard.frozen_after) else [],
        "at_start_switches": {switch.name for switch in selection.switches if switch.at_start},
        "control_names": {control.name for control in controls},
    }  # fmt: skip


def _of_guard(plan: Plan) -> dict[str, Any]:
    g = plan.guard
    return {
        "knows_links": g.grace > 0.0 or g.on_link_loss != "stop" or bool(g.test_at_start),
        "bands": rest_bands(plan), "arrivals": math.ceil(g.least_frame_rate),
        "paired": bool((g.hold_to_run and g.hold_to_run_2) or (g.emergency_stop and g.emergency_stop_2)),
        # The reset and actions: a press in any frame since the last step counts.
        "press_counts": bool(plan.selection.switches) and bool(g.reset or plan.actions),
        "stops": [name for name in dict.fromkeys((g.stop, g.emergency_stop, g.emergency_stop_2)) if name],
    }  # fmt: skip


def centre_numbers(plan: Plan) -> int:
    """Return the most numbers that are kept of a control whose centre is taken at start."""
    return math.ceil(STILL_SECONDS / plan.period) + FEWEST + 2


def axes_of(chassis: Chassis) -> list[str]:
    """Return the axes of a vehicle's velocity; ahead and turning are always there."""
    dice = np.random.default_rng(1)
    made = [chassis.possible(*map(float, dice.normal(size=4))) for _ in range(8)]
    moves = [any(abs(one[axis]) > 1e-12 for one in made) for axis in range(4)]
    return [axis for axis, moved in zip(AXES, moves, strict=True) if moved or axis in ("VX", "YAW")]


def way_name(way: object) -> str:
    """Name the coordinates in which a command changes: "each", "straight", "sides" or "arcs"."""
    if isinstance(way, Sides):
        return "sides"
    return "arcs" if isinstance(way, Arcs) else str(way)


def _of_motion(plan: Plan) -> dict[str, Any]:
    """Describe how commands change, and the actuators."""
    chassis, modes = plan.chassis, plan.modes
    own = way_name(chassis.ramp_way)
    ways = [own if own in ("straight", "arcs") else way_name(m.style.way(m.speeds) or own) for m in modes]
    styles: list[Any] = []
    for mode in modes:
        if mode.style not in styles:
            styles.append(mode.style)
    steerings = [getattr(style, "steering", "") for style in styles]
    ramped = any(control.ramp_up or control.ramp_down for control in plan.controls)
    axes = axes_of(chassis)
    return {
        "meaning_changes": len(modes) > 1 and plan.selection.through_rest and len(styles) > 1,
        "axes": axes, "level_axes": [axis for axis in axes if axis in ("VX", "VY")],
        "actuators": list(chassis.bounds()),
        "many_modes": len(modes) > 1, "styles": styles, "ways": ways,
        "arcs": own == "arcs", "straight": own == "straight",
        "uses_rate_limit": ramped or "sides" in ways or own == "arcs" or not all(mode.limits.plain for mode in modes),
        "uses_steering": None in steerings or "counter" in steerings,
        "steering_kinds": list(CONSTANTS.STEERING_KINDS),
        "follows": type(chassis).follows is not Chassis.follows,
        "at_once": type(chassis).actuators is Chassis.actuators,
        "steps_averaged": steps_averaged(plan),
        # Some mode has an S-curve and two limits: then a speed that reverses goes through rest.
        "rests_between": bool(steps_averaged(plan)) and not all(mode.limits.plain for mode in modes),
        "units": "m/s and rad/s" if chassis.units.known else "shares of full",
        "axes_of": lambda one: axes, "shares_of": _shares_of, "rows_of": _rows_of,
    }  # fmt: skip


def _shares_of(output: Any, mix: Any) -> list[float]:
    return [share / full for share, full in zip(output.shares, mix.full, strict=True)]


def _rows_of(mix: Any) -> list[list[float]]:
    return [[mix.full[i] * cell / mix.full[j] for j, cell in enumerate(row)] for i, row in enumerate(mix._projection)]


def _of_outputs(plan: Plan) -> dict[str, Any]:
    """Describe each output in all modes; the initial one of several plans is last."""
    plans: dict[str, list[Any]] = {}
    for mode in plan.modes:
        for output in mode.outputs:
            known = plans.setdefault(output.name, [])
            if output in known:
                known.remove(output)
            known.append(output)
    return {"output_plans": plans, "wires": plan.actuators}


def what_is_read(plan: Plan, axes: list[str], outputs: dict[str, Any]) -> Iterator[tuple[str, str, str]]:
    """List what can be read after a step: its name, and its place: the kind of place, and its name there."""
    for field, axis in zip(VelocityCommand._fields, AXES, strict=True):
        yield field, "command", axis if axis in axes else ""
    actuators, taken = list(plan.chassis.bounds()), {*VelocityCommand._fields}
    for name in actuators:
        yield (f"actuators.{name}" if name in taken else name), "actuator", name
    taken.update(actuators)
    for name in outputs:
        yield (f"outputs.{name}" if name in taken else name), "level", name
    nothing = dict.fromkeys((*actuators, *outputs), 0.0)
    for name in Wire(plan.actuators).step(nothing) if plan.actuators else ():
        yield name, "wire", name
