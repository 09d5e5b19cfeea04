"""Settings from recorded sticks and the driver's wishes; each by a formula or a small search that is printed with it.

============================ ======================================================================================
key                          method
============================ ======================================================================================
``controls.NAME.dead_zone``  a quarter more than the largest deflection of the stick while nobody moved it, at
                             least 0.03; or, with a given noise σ, 4·σ more than its mean deflection
``sticks.NAME.dead_zone``    the same for the two axes of a stick that share a zone: the deflection in any
                             direction if the zone is round, and of the larger axis if it is not
``speeds.forward``           the wanted top speed
``controls.NAME.expo``       from y = (1 − e)·x + e·x³: the e at which a tenth of the way beyond the dead zone gives
                             the finest useful speed; 0 to 0.9
``guard.stop_…``             from d = v·(t + T/2): the decelerations, along the ground, turning and climbing, with which
                             every axis is at rest T s after the loss is detected, so that the robot stands within d of
                             the last frame that was received, at any speed; t is the time until a loss is detected.
                             None is lowered
``limits.acceleration``      the least of twelve with which the command follows the demand of the recorded
                             sticks as well as with a hundred times that value: within 5 % of the top speed, in the root
                             mean square; never above the stopping deceleration, because a stop must be faster
============================ ======================================================================================
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from tenuto.analysis.compare import strongest
from tenuto.analysis.sticks import recorded_sticks
from tenuto.basics.errors import RecordingError, TenutoError
from tenuto.basics.frame import Frame
from tenuto.basics.number import Array
from tenuto.curves.expo import Expo
from tenuto.driving.distance import Braking
from tenuto.driving.limits import within_speeds
from tenuto.driving.pipeline import Pipeline
from tenuto.driving.plan import Plan
from tenuto.driving.ramps import CommandRamp
from tenuto.driving.stopping import braking_for, reaction
from tenuto.profile.patch import Change
from tenuto.profile.prepare import prepare_profile
from tenuto.profile.profile import Profile
from tenuto.sticks.control import ControlPlan
from tenuto.sticks.travel import Travel
from tenuto.vehicles.units import NO_METRES
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# A stick is at rest while it stays within this share of its travel for this time, s, and this near its middle.
_STILL, _STILL_FOR, _NEAR = 0.02, 0.4, 0.15
_LEAST_REST = 1.0
_LEAST_ZONE, _MARGIN, _SIGMAS = 0.03, 1.25, 4.0
_FINE_AT, _MOST_EXPO = 0.1, 0.9
_NEAR_ENOUGH = 0.05


@dataclass(frozen=True, slots=True)
class Wish:
    """The wishes of a driver; None for what is to stay.

    Attributes:
        top_speed: m/s. stop_within: m, after the last received frame. finest: m/s, the finest useful speed.
        noise: standard deviation of the sticks at rest, as a share of their travel; None to find it in the sticks.
    """

    top_speed: float | None = None
    stop_within: float | None = None
    finest: float | None = None
    noise: float | None = None


def tune(profile: Profile, sticks: str | Path, wish: Wish, made_with: Profile | None = None) -> list[Change]:
    """Propose settings.

    Args:
        profile: the one to change. sticks: a recording, or a log. wish: the wishes.
        made_with: for a log: the profile that it was driven with. By default the one that was stored with it;
            ``profile`` if there is none.

    Returns:
        Changes, each with its reason; without those that change nothing.

    Raises:
        RecordingError: the sticks cannot be read; or the wish cannot be met, with the nearest possible value.
        TenutoError: a distance is wanted for a vehicle without measures.
    """
    frames = recorded_sticks(sticks, profile, made_with).frames
    prepared = prepare_profile(profile, log=sticks)
    plan = prepared.plan()
    changes = [*_dead_zones(plan, frames, wish), *_stick_zones(profile, plan, frames, wish)]
    top = wish.top_speed or plan.full_speeds().forward
    if wish.top_speed is not None:
        then, now = (plan.chassis.units.speed.shown(speed, ".3g") for speed in (top, plan.speeds.forward))
        changes.append(Change(("speeds", "forward"), then, now, "as wished"))
    if wish.finest is not None:
        changes += _expo(plan, wish.finest, top)
    wished = profile.model_copy(update={"speeds": profile.speeds.model_copy(update={"forward": top})})
    faster = plan if wish.top_speed is None else replace(prepared, profile=wished).plan()
    stop = faster.guard.stop_deceleration
    if wish.stop_within is not None:
        if not plan.chassis.units.known:
            raise TenutoError(f"it cannot be tuned to stop within a distance in metres: {NO_METRES}")
        stops = _stops(faster, wish.stop_within)
        stop = stops.level
        changes += _stop_changes(plan, stops, wish.stop_within)
    changes += _acceleration(faster, frames, stop)
    return [change for change in changes if str(change.value) != change.was]


def _dead_zones(plan: Plan, frames: list[Frame], wish: Wish) -> Iterator[Change]:
    """Propose the dead zone of each driving control that has its own."""
    time = np.array([frame.time for frame in frames])
    shared = {name for stick in plan.sticks if stick.zone != "axes" for name in (stick.x, stick.y)}
    for control in plan.controls:
        if control.name not in plan.driving_controls() or control.name in shared:
            continue
        positions = _positions(control, frames)
        found = _zone(time, np.abs(positions), np.array([positions]), wish)
        if found is not None:
            yield Change(("controls", control.name, "dead_zone"), found[0], f"{control.dead_zone:g}", found[1])


def _stick_zones(profile: Profile, plan: Plan, frames: list[Frame], wish: Wish) -> Iterator[Change]:
    """Propose the dead zone of each stick whose axes share one."""
    time = np.array([frame.time for frame in frames])
    controls = {control.name: control for control in plan.controls}
    for name, stick in zip(profile.sticks, plan.sticks, strict=True):
        if stick.zone == "axes":
            continue
        axes = np.array([_positions(controls[axis], frames) for axis in (stick.x, stick.y)])
        away = np.hypot(*axes) if stick.zone == "round" else np.abs(axes).max(axis=0)
        found = _zone(time, away, axes, wish)
        if found is not None:
            yield Change(("sticks", name, "dead_zone"), found[0], f"{stick.dead_zone:g}", found[1])


def _zone(time: Array, away: Array, axes: Array, wish: Wish) -> tuple[float, str] | None:
    """Return a dead zone and its reason.

    Args:
        time: of each frame, s. away: deflection of the stick. axes: (axis, frame), its positions.

    Returns:
        None if it was never released: then there is no data.
    """
    rest = np.all([_at_rest(time, axis) for axis in axes], axis=0)
    seconds = float(np.diff(time, prepend=time[0])[rest].sum())
    if seconds < _LEAST_REST:
        return None
    if wish.noise is not None:
        middle = float(np.hypot.reduce(axes[:, rest].mean(axis=1)))
        wide, why = middle + _SIGMAS * wish.noise, f"its middle is {middle:.3f} off, and 4 times the noise stated"
    else:
        far = float(away[rest].max())
        wide = _MARGIN * far
        why = f"in {seconds:.0f} s of rest it was up to {far:.3f} of its travel away, and a quarter more"
    return math.ceil(100.0 * max(wide, _LEAST_ZONE) - 1e-9) / 100.0, why


def _positions(control: ControlPlan, frames: list[Frame]) -> Array:
    def of(reads: str, travel: Travel) -> Array:
        raw = np.array([frame.values.get(reads, math.nan) for frame in frames])
        if not np.isfinite(raw).all():
            raise RecordingError(f"the sticks have no {reads}, which {control.name} reads")
        return np.asarray(travel.position(raw))

    found = of(control.reads, control.travel)
    return found if control.minus is None else found - of(control.minus.reads, control.minus.travel)


def _at_rest(time: Array, positions: Array) -> Array:
    """Find the frames at which a stick was released: near its middle, and still for a while."""
    found = np.zeros(len(time), dtype=bool)
    first = 0
    for last in range(len(time)):
        while float(np.ptp(positions[first : last + 1])) > _STILL or (abs(positions[last]) > _NEAR and first < last):
            first += 1
        if time[last] - time[first] >= _STILL_FOR and abs(positions[last]) <= _NEAR:
            found[first : last + 1] = True
    return found


def _expo(plan: Plan, finest: float, top: float) -> Iterator[Change]:
    """Propose the expo of the stick that drives, or of both of a tank: its first tenth gives the finest speed."""
    for control in strongest(plan, plan.mode, 0):
        curve = control.shape.curve
        if not (curve is None or isinstance(curve, Expo)) or control.rates:
            continue  # it has its own curve
        share = finest / top
        amount = round(min(max(0.0, (_FINE_AT - share) / (_FINE_AT - _FINE_AT**3)), _MOST_EXPO), 2)
        gives = top * ((1.0 - amount) * _FINE_AT + amount * _FINE_AT**3)
        speed = plan.chassis.units.speed
        why = f"a tenth of the way beyond the dead zone gives {speed.shown(gives, '.3g')} of {speed.shown(top, '.3g')}"
        was = f"{curve.positive if curve is not None else 0.0:g}"
        yield Change(("controls", control.name, "expo"), amount, was, why)


def _stops(plan: Plan, within: float) -> Braking:
    """Return the decelerations to stand within a distance, rounded up, none lower than before.

    Raises `RecordingError` if the distance is too short even for the detection.
    """
    guard = plan.guard
    try:
        level, turn, vertical = braking_for(plan, within)
    except ValueError as error:
        raise RecordingError(
            f"{error} before the loss of a link is detected (link_timeout and grace): to stop within {within:g} m it "
            f"needs less than {within / reaction(plan):.2g} m/s, or a shorter link_timeout"
        ) from error
    degrees = math.ceil(math.degrees(turn) - 1e-9)
    return Braking(
        max(guard.stop_deceleration, math.ceil(100.0 * level - 1e-9) / 100.0),
        max(guard.stop_turn_deceleration, math.radians(degrees)),
        max(guard.stop_vertical_deceleration, math.ceil(100.0 * vertical - 1e-9) / 100.0),
    )


def _stop_changes(plan: Plan, stops: Braking, within: float) -> Iterator[Change]:
    """Propose the decelerations of stops that are too low."""
    guard, degrees = plan.guard, math.degrees(1.0)
    why = f"with it the robot stands within {within:g} m of its last frame, whatever is driven"
    for key, now, then, unit, factor in (
        ("stop_deceleration", guard.stop_deceleration, stops.level, "m/s^2", 1.0),
        ("stop_turn_deceleration", guard.stop_turn_deceleration, stops.turn, "deg/s^2", degrees),
        ("stop_vertical_deceleration", guard.stop_vertical_deceleration, stops.vertical, "m/s^2", 1.0),
    ):
        if then > now:
            yield Change(("guard", key), f"{then * factor:.5g} {unit}", f"{now * factor:.5g} {unit}", why)


def _acceleration(plan: Plan, frames: list[Frame], most: float) -> Iterator[Change]:
    """Propose the acceleration: the least with which this driver does not wait."""
    demands, dt = _demands(plan, frames)
    speed = np.array([demand.vx for demand in demands])
    if float(np.ptp(speed)) < 0.1 * max(plan.full_speeds().forward, 1e-9):
        return  # it was not driven
    tried = np.geomspace(0.2, max(most, 0.3), 12)
    best = _behind(plan, demands, dt, 400.0)
    enough = best + _NEAR_ENOUGH * plan.full_speeds().forward
    for found in map(float, tried):
        error = _behind(plan, demands, dt, found)
        if error <= enough:
            break
    unit = plan.chassis.units.speed
    value = _ramp_text(plan, math.floor(100.0 * found + 1e-9) / 100.0)
    was = _ramp_text(plan, plan.limits.acceleration)
    why = f"with it the command is {unit.shown(error, '.2g')} behind the sticks (root mean square)"
    why += f", {unit.shown(best, '.2g')} of which has other causes" if best >= 0.01 else ""
    yield Change(("limits", "acceleration"), value, was, why)


def _ramp_text(plan: Plan, value: float) -> str:
    """Write an acceleration as in a profile; for a vehicle without measures the time to full."""
    return f"{value:.3g} m/s^2" if plan.chassis.units.known else f"{1.0 / value:.3g} s"


def _demands(plan: Plan, frames: list[Frame]) -> tuple[list[VelocityCommand], float]:
    """Return the demand at every tick while driving was permitted, and standstill otherwise."""
    pipeline, demands, newest = Pipeline(plan.without_far_end()), [], 0
    now, end = frames[0].time, frames[-1].time
    while now <= end:
        came = None
        while newest < len(frames) and frames[newest].time <= now:
            came, newest = frames[newest], newest + 1
        tick = pipeline.step(came, now)
        demands.append(tick.demand if tick.guard.state == "driving" else STANDSTILL)
        now += plan.period
    return demands, plan.period


def _behind(plan: Plan, demands: list[VelocityCommand], dt: float, acceleration: float) -> float:
    """Return how far the command is behind the demand with an acceleration, m/s (root mean square)."""
    mode = plan.mode
    limits = within_speeds(replace(mode.limits, acceleration=acceleration, deceleration=None), mode.speeds)
    ramp, command, squares = CommandRamp(plan.chassis), STANDSTILL, 0.0
    for demand in demands:
        target = plan.within_reach(demand)
        command = ramp.step(command, target, dt, limits, mode.style.way(mode.speeds))
        squares += (command.vx - target.vx) ** 2
    return math.sqrt(squares / len(demands))
