"""The complete response of each control, from raw number to shaped, in every mode and with every set of rates."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from tenuto.basics.extras import needs
from tenuto.basics.number import Array
from tenuto.calibration.store import Calibration
from tenuto.driving.modes import ModePlan
from tenuto.driving.plan import Plan
from tenuto.profile.profile import Profile
from tenuto.sticks.control import ControlPlan, StickPlan, stick_zone
from tenuto.sticks.resolution import resolution_of
from tenuto.sticks.shaping import dead_zone
from tenuto.styles.base import Setting
from tenuto.vehicles.velocity import VelocityCommand

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True, slots=True)
class Response:
    """The response of one control in one mode, with one set of rates.

    Attributes:
        control: its name. label: its modes and rates; empty if there are none.
        raw: the numbers of the device, one a step. positions, shaped: the results for each.
        speeds: modes and rates → its demand alone, m/s or rad/s.
        unit: "m/s" or "rad/s"; "%" for a vehicle without measures.
    """

    control: str
    label: str
    raw: Array
    positions: Array
    shaped: Array
    speeds: dict[str, Array]
    unit: str


def steps_of(plan: ControlPlan, profile: Profile, calibration: Calibration | None) -> tuple[int, bool]:
    """Return the number of steps of a control over its travel, and whether that was measured."""
    measured = calibration.controls.get(plan.reads) if calibration is not None else None
    if measured is not None and measured.steps > 1:
        return measured.steps, True
    return profile.source.steps, False


def responses(profile: Profile, calibration: Calibration | None = None) -> dict[str, list[Response]]:
    """Return, for each driving control, its response in each mode and with each set of rates, without duplicates.

    Hysteresis, smoothing and ramps need time and are left out. The other axis of a stick is assumed at rest.
    """
    plan = profile.plan(calibration)
    found: dict[str, list[Response]] = {}
    for control in plan.controls:
        if control.name not in plan.driving_controls():
            continue
        steps, _ = steps_of(control, profile, calibration)
        raw = np.linspace(control.travel.low, control.travel.high, steps)
        positions = control.travel.position(raw)
        if control.minus is not None:
            # Two controls make one axis: the half of the second is a mirror image of that of the first.
            raw = np.concatenate([-raw[:0:-1], raw])
            positions = np.concatenate([-positions[:0:-1], positions])
        kept: list[Response] = []
        for mode, rates in _ways(profile, plan, control.name):
            shaped = shaped_alone(plan, control, positions, rates)
            label = ", ".join(word for word in (mode.name, rates) if word)
            speed, unit = _speed(plan, mode, control.name, shaped)
            speeds = {label: speed}
            same = next((one for one in kept if np.array_equal(one.shaped, shaped)), None)
            if same is not None:
                kept.remove(same)
                label = f"{same.label}; {label}"
                speeds = {**same.speeds, **speeds}
            kept.append(Response(control.name, label, raw, positions, shaped, speeds, unit))
        found[control.name] = [replace(kept[0], label="")] if len(kept) == 1 else kept
    return found


def _ways(profile: Profile, plan: Plan, name: str) -> Iterator[tuple[ModePlan, str]]:
    """List the modes in which a control drives, each with its possible sets of rates."""
    for mode in plan.modes:
        if name in mode.style.controls():
            yield from ((mode, rates) for rates in _rates_in(profile, plan, mode))


def _speed(plan: Plan, mode: ModePlan, name: str, shaped: Array) -> tuple[Array, str]:
    """Return the speed for a control, on the axis that it moves most, and its unit.

    The others rest; but if it has no effect alone, as the steering of a car at standstill, the first control of
    the style is at its end.
    """
    at_rest = {control.name: 0.0 for control in plan.controls}
    for others in (at_rest, {**at_rest, mode.style.controls()[0]: 1.0}):
        asked = np.array([_asked(mode, {**others, name: value}) for value in shaped.tolist()])
        moves = np.ptp(asked, axis=0)
        if moves.max() > 0.0:
            break
    axis = int(moves.argmax())
    units = plan.chassis.units
    if not units.known:
        return units.speed.scale * asked[:, axis], units.speed.name
    return asked[:, axis], "rad/s" if axis == 3 else "m/s"


def _asked(mode: ModePlan, shaped: dict[str, float]) -> VelocityCommand:
    return mode.style.demand(mode.style.intent(shaped), mode.speeds, Setting(), shaped)


def shaped_alone(plan: Plan, control: ControlPlan, positions: Array, rates: str = "") -> Array:
    """Return the result for positions of one control while all others rest."""
    shape = control.shape_for(rates)
    for stick in plan.sticks:
        if stick.zone != "axes" and control.name in (stick.x, stick.y):
            return shape(_along(stick, control.name, positions))
    return shape(dead_zone(positions, control.dead_zone, control.outer_dead_zone))


def _along(stick: StickPlan, name: str, positions: Array) -> Array:
    pairs = [stick_zone(stick, p, 0.0) if name == stick.x else stick_zone(stick, 0.0, p) for p in positions.tolist()]
    return np.array([pair[0] if name == stick.x else pair[1] for pair in pairs])


def _rates_in(profile: Profile, plan: Plan, mode: ModePlan) -> list[str]:
    """List the possible sets of rates of a mode, the initial one first."""
    if not profile.rates:
        return [""]
    begin = mode.rates or plan.selection.rates.begin
    chosen = list(plan.selection.rates.order) if plan.selection.rates.switch else []
    return list(dict.fromkeys([begin, *chosen]))


def curve_table(profile: Profile, calibration: Calibration | None = None) -> pd.DataFrame:
    """Make a table of all responses, a row per step of the device: control, rates, raw, position, shaped."""
    needs("pandas")
    import pandas as pd

    rows = [
        pd.DataFrame(
            {"control": one.control, "in": one.label or "always", "raw": one.raw, "position": one.positions,
             "shaped": one.shaped}
        )
        for several in responses(profile, calibration).values() for one in several
    ]  # fmt: skip
    return pd.concat(rows, ignore_index=True)


def curve_summary(profile: Profile, calibration: Calibration | None = None) -> pd.DataFrame:
    """Make a table with a row per response: dead zone, and the remaining steps of the device."""
    import pandas as pd

    plan = profile.plan(calibration)
    controls = {control.name: control for control in plan.controls}
    zones = {name: stick for stick in plan.sticks if stick.zone != "axes" for name in (stick.x, stick.y)}
    rows = []
    for name, several in responses(profile, calibration).items():
        control = controls[name]
        zone = zones[name].dead_zone if name in zones else control.dead_zone
        outer = zones[name].outer_dead_zone if name in zones else control.outer_dead_zone
        steps, measured = steps_of(control, profile, calibration)
        for one in several:
            left = resolution_of(one.shaped)
            rows.append(
                {
                    "control": name, "in": one.label or "always", "dead_zone": zone, "outer": outer, "steps": steps,
                    "measured": measured, "outputs": left.outputs, "smallest": left.smallest,
                    "slow_outputs": left.slow, "half_way": float(np.interp(0.5, *_rising(one))),
                    "end": float(one.shaped.max()),
                }
            )  # fmt: skip
    return pd.DataFrame(rows)


def _rising(one: Response) -> tuple[Array, Array]:
    order = np.argsort(one.positions, kind="stable")
    return one.positions[order], one.shaped[order]
