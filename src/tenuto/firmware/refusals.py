"""What of a profile cannot go to a microcontroller: refused with its key, never left out in silence."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any

from tenuto.basics.findings import Finding, error
from tenuto.driving.plan import Plan
from tenuto.firmware.pieces import piece_file
from tenuto.profile.profile import Profile
from tenuto.vehicles.base import Chassis

# Steps that are averaged for an S-curve take 4 bytes an axis each.
MOST_AVERAGED = 400


def refusals(profile: Profile, plan: Plan) -> list[Finding]:
    """List what of a profile cannot go to a microcontroller; nothing where all of it can."""
    return [*_tables(profile), *_kinds(plan), *_others(plan)]


def _tables(profile: Profile) -> Iterator[Finding]:
    for key, many, why in (
        ("drivers", profile.drivers, "a board has one driver"),
        ("distances", profile.distances, "sensors of distance are not read by the generated code yet"),
        ("inhibits", profile.inhibits, "inhibits are not read by the generated code yet"),
        ("measured", profile.measured, "measured speeds are not read by the generated code yet"),
    ):
        for name in many:
            yield error(f"{key}.{name}", f"this cannot go to a microcontroller: {why}", "take it out of the board's profile")
    for name, sink in profile.sinks.items():
        if sink.kind in ("mavlink", "mqtt", "udp"):
            yield error(f"sinks.{name}", f"a board has no {sink.kind}", "take it out of the board's profile")
    if profile.guard.needs is not None and plan_needs(profile):
        yield error("guard.needs", "the generated code asks no far end for anything", "take it out")


def plan_needs(profile: Profile) -> bool:
    """Tell whether a profile wants anything of a far end."""
    return bool(profile.plan().guard.needs.wanted)


def _kinds(plan: Plan) -> Iterator[Finding]:
    used: list[tuple[str, Any]] = [("chassis.kind", plan.chassis)]
    used += [(f"modes.{mode.name}.style" if mode.name else "style.kind", mode.style) for mode in plan.modes]
    used += [(f"switches.{switch.name}.kind", switch) for switch in plan.selection.switches]
    used += [(f"outputs.{one.name}.kind", one) for mode in plan.modes for one in mode.outputs]
    for control in plan.controls:
        used += [
            (f"controls.{control.name}", shape.curve)
            for shape in (control.shape, *control.rates.values())
            if shape.curve is not None
        ]
    for key, one in used:
        if piece_file(type(one)) is None:
            yield error(key, f"{type(one).__name__} has no code for a microcontroller", "choose another kind")


def _others(plan: Plan) -> Iterator[Finding]:
    if any(math.isinf(number) for number in plan.chassis.limits() if number != number):
        yield error("chassis", "it has no limits")
    longest = max((mode.limits.smoothing for mode in plan.modes), default=0.0)
    if steps_averaged(plan) > MOST_AVERAGED:
        text = f"the S-curve averages {longest:.1f} s, which are more steps than a board has room for"
        yield error("limits.jerk", text, "raise the jerk, or lower the acceleration")
    if not all(type(plan.chassis).possible is Chassis.possible or True for _ in (0,)):
        yield error("chassis", "it cannot be told")


def steps_averaged(plan: Plan) -> int:
    """Return how many steps an S-curve of a plan averages at most; 0 where there is none."""
    from tenuto.driving.limits import within_speeds

    longest = max(within_speeds(mode.limits, mode.speeds).smoothing for mode in plan.modes)
    return math.ceil(2.0 * longest / plan.period) + 4 if longest > 0.0 else 0
