"""Settings of a profile that cannot go to a microcontroller: refused with their keys, never left out silently."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence

from tenuto.basics.findings import Finding, error
from tenuto.basics.frame import Signal
from tenuto.driving.limits import within_speeds
from tenuto.driving.plan import Plan
from tenuto.firmware.pieces import piece_file
from tenuto.profile.profile import Profile
from tenuto.protocols.radio.base import RADIOS
from tenuto.protocols.velocity_line import MOST_OUTPUTS
from tenuto.vehicles.base import Chassis

# An S-curve averages this many steps at most: each takes four bytes, for each axis.
MOST_AVERAGED = 400
_OUT = "remove it from the profile of the board"


# The text of a profile and the digest of its plan → its errors.
_CHECKED: dict[tuple[str, str], tuple[Finding, ...]] = {}
_MOST_CHECKED = 20


def refusals(profile: Profile, plan: Plan, real: str = "float", own: Plan | None = None) -> list[Finding]:
    """List the errors of `tenuto check`, and the settings that cannot go to a board; empty if all can.

    Args:
        profile, plan: of the robot, or of its part. real: the type of the numbers. own: the plan of the whole robot, if
            the other one is that of a part.
    """
    board = [*_tables(profile, plan), *_kinds(plan), *_curves(plan), *_averages(plan), *_doubled(plan, real)]
    return [*_errors(profile, plan if own is None else own), *board]


def _errors(profile: Profile, plan: Plan) -> tuple[Finding, ...]:
    """Find what `tenuto check` refuses: a board must not drive what a computer refuses to drive."""
    from tenuto.profile.checks.advice import advise
    from tenuto.sim.truth import truth_table

    # The robot is driven for it, which takes a second; code is often made several times, for several languages.
    key = (profile.text(), plan.digest())
    if key not in _CHECKED:
        if len(_CHECKED) >= _MOST_CHECKED:
            _CHECKED.clear()
        found = (*advise(profile, plan=plan), *truth_table(plan).findings)
        _CHECKED[key] = tuple(finding for finding in found if finding.is_error)
    return _CHECKED[key]


def passed_over(profile: Profile, plan: Plan, part: str) -> list[str]:
    """List the settings that a board ignores, though they are not refused: a computer may use the same profile.

    Args:
        profile, plan: of the robot. part: "whole", "sticks" or "robot".
    """
    found = [f"sinks.{name}: the board's own pins are its sinks" for name in profile.sinks]
    if "feedback" in profile.model_fields_set:
        found.append("feedback: a board neither rumbles nor rings; use an output instead")
    found += [
        f"trims.{one.control}: trims that are made on the board are lost without power" for one in plan.selection.trims
    ]
    radio = RADIOS.find(profile.source.kind)
    silent = radio is not None and radio.encode_link(Signal(100.0, -50.0, 0.0)) == b""
    if plan.guard.least_quality > 0.0 and part != "robot" and silent:
        found.append("guard.least_quality: this source reports none; pass it with robot_quality")
    if part != "whole":
        found += [f"actions.{one.name}: a velocity line carries no actions" for one in plan.actions]
    return found


def too_many_outputs(names: Sequence[str]) -> list[Finding]:
    """Refuse more outputs than a velocity line carries to the robot's board."""
    if len(names) <= MOST_OUTPUTS:
        return []
    text = f"a velocity line carries {MOST_OUTPUTS} outputs at most, and there are {len(names)}"
    return [error("outputs", text, 'remove some, or make the part "whole"')]


def _tables(profile: Profile, plan: Plan) -> Iterator[Finding]:
    for key, many, why in (
        ("drivers", profile.drivers, "a board supports one driver"),
        ("distances", profile.distances, "a board reads no distance sensors"),
        ("inhibits", profile.inhibits, "a board reads no inhibits"),
        ("measured", profile.measured, "a board reads no measured speeds"),
    ):
        for name in many:
            yield error(f"{key}.{name}", why, _OUT)
    for name, sink in profile.sinks.items():
        if sink.kind in ("mavlink", "mqtt", "udp"):
            yield error(f"sinks.{name}", f"a board has no {sink.kind}", _OUT)
    if plan.guard.needs.wanted:
        yield error("guard.needs", "a board has no far end to ask", _OUT)


def _kinds(plan: Plan) -> Iterator[Finding]:
    """Refuse kinds without a piece of code."""
    used: list[tuple[str, object]] = [("chassis.kind", plan.chassis)]
    used += [(f"modes.{mode.name}.style" if mode.name else "style.kind", mode.style) for mode in plan.modes]
    used += [(f"switches.{switch.name}.kind", switch) for switch in plan.selection.switches]
    used += [(f"outputs.{one.name}.kind", one) for mode in plan.modes for one in mode.outputs]
    for key, one in used:
        if piece_file(type(one)) is None:
            yield error(key, "this kind has no code for a board", "choose another kind, or drive from a computer")


def _curves(plan: Plan) -> Iterator[Finding]:
    for control in plan.controls:
        for shape in (control.shape, *control.rates.values()):
            if shape.curve is not None and piece_file(type(shape.curve)) is None:
                yield error(f"controls.{control.name}", "its curve has no code for a board", "choose another curve")


def _averages(plan: Plan) -> Iterator[Finding]:
    if steps_averaged(plan) > MOST_AVERAGED:
        longest = max(within_speeds(mode.limits, mode.speeds).smoothing for mode in plan.modes)
        text = f"the S-curve needs {longest:.1f} s of steps: too much memory for a board"
        yield error("limits.jerk", text, "raise the jerk, or lower the acceleration")


def _doubled(plan: Plan, real: str) -> Iterator[Finding]:
    """Refuse decisions below the resolution of float: whether modules have turned far enough, and which way round."""
    if real == "float" and type(plan.chassis).follows is not Chassis.follows and "jerk" not in plan.chassis.jerks:
        text = "modules that turn at a limited rate need double: a rounding error of float changes when they drive"
        yield error("chassis.turn_rate", text, "make it in C with --real double, for a board whose double has 64 bits")


def steps_averaged(plan: Plan) -> int:
    """Return the most steps that an S-curve of a plan averages; 0 if there is none."""
    longest = max(within_speeds(mode.limits, mode.speeds).smoothing for mode in plan.modes)
    return math.ceil(2.0 * longest / plan.period) + 4 if longest > 0.0 else 0
