"""Settings from recorded sticks and the driver's wishes: each is found by a rule, applied, and then driven.

Every number that is stated with a proposal comes from the profile with all proposals before it.

============================ ======================================================================================
key                          rule
============================ ======================================================================================
``controls.NAME.dead_zone``  a quarter more than the largest deflection of the stick while nobody moved it, at
                             least 0.03; with a given noise σ, at least 4·σ more than its mean deflection; never less
                             than the calibration of the device has measured
``sticks.NAME.dead_zone``    the same for the two axes of a stick that share a zone: the deflection in any
                             direction if the zone is round, and of the larger axis if it is not
``speeds.forward``           the wanted top speed; a mode that is faster gets it too
``controls.NAME.expo``       the expo of 0 to 0.9 with which a tenth of the way beyond the dead zone is nearest to the
                             finest useful speed, as the sticks are shaped
``limits.acceleration``      the lowest of twelve up to the present one with which the command follows the recorded
                             sticks as closely as now, within 5 % of the top speed in the root mean square. It is never
                             raised. What would follow it is kept: ``limits.deceleration``, and the stops
``guard.stop_…``             from d = v·(t + T/2): the decelerations, along the ground, turning and climbing, with which
                             every axis is at rest T s after the loss is detected, so that the robot stands within d of
                             the last frame that was received, at any speed; t is the time until a loss is detected.
                             None is lowered
============================ ======================================================================================
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from tenuto.analysis.compare import asked_together, strongest
from tenuto.analysis.sticks import recorded_sticks
from tenuto.analysis.sweep import figures_of
from tenuto.analysis.ticks import replay
from tenuto.basics.errors import RecordingError, SourceError, TenutoError
from tenuto.basics.frame import Frame
from tenuto.basics.number import Array
from tenuto.curves.expo import Expo
from tenuto.driving.distance import Braking
from tenuto.driving.plan import Plan
from tenuto.driving.stopping import at_most, braking_for, reaction, whose_link, worst_stop
from tenuto.files import parse_toml
from tenuto.profile.patch import Change
from tenuto.profile.prepare import prepare_profile
from tenuto.profile.profile import PreparedProfile, Profile
from tenuto.sources.recording import Recording
from tenuto.sticks.control import ControlPlan
from tenuto.sticks.travel import Travel
from tenuto.vehicles.units import NO_METRES
from tenuto.vehicles.velocity import VelocityCommand

# A stick is at rest while it stays within this share of its travel for this time, s, and this near its middle.
_STILL, _STILL_FOR, _NEAR = 0.02, 0.4, 0.15
_LEAST_REST = 1.0
_LEAST_ZONE, _MARGIN, _SIGMAS = 0.03, 1.25, 4.0
_FINE_AT, _MOST_EXPO = 0.1, 0.9
_NEAR_ENOUGH = 0.05
# The lowest acceleration that is tried, as a share of the present one, and the number of those that are tried.
_LEAST_SHARE, _TRIED = 0.2, 12
# A robot that never went at this share of its top speed was not driven.
_DRIVEN = 0.1
# The stops: key, unit and factor to it.
_STOPS = (
    ("stop_deceleration", "m/s^2", 1.0),
    ("stop_turn_deceleration", "deg/s^2", math.degrees(1.0)),
    ("stop_vertical_deceleration", "m/s^2", 1.0),
)


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
    before = _Tuned(prepare_profile(profile, log=sticks))
    now = before.changed(_zones(before, frames, wish))
    if wish.top_speed is not None:
        now = now.changed(_top_speed(now.plan, before.profile, wish.top_speed))
    if wish.finest is not None:
        now = now.changed(_expo(now.plan, wish.finest))
    now = now.changed(_acceleration(now, frames))
    now = now.changed(_kept(before.plan, now.plan))
    if wish.stop_within is not None:
        now = now.changed(_stops(now.plan, wish.stop_within))
    return list(now.changes)


class _Tuned:
    """A profile with the changes so far."""

    def __init__(self, prepared: PreparedProfile, changes: tuple[Change, ...] = ()) -> None:
        self.prepared, self.changes = prepared, changes
        self.plan = prepared.plan()

    @property
    def profile(self) -> Profile:
        return self.prepared.profile

    def changed(self, changes: Iterable[Change]) -> _Tuned:
        """Return it with more changes; those that change nothing are left out, and the last one of a key counts."""
        more = [change for change in changes if str(change.value) != change.was]
        if not more:
            return self
        tried = self.profile.with_(**{change.place: change.value for change in more})
        kept = [change for change in self.changes if change.key not in {one.key for one in more}]
        return _Tuned(replace(self.prepared, profile=tried), (*kept, *more))


def _zones(tuned: _Tuned, frames: list[Frame], wish: Wish) -> Iterator[Change]:
    """Propose the dead zone of each driving control that has its own, and of each stick whose axes share one."""
    plan, time = tuned.plan, np.array([frame.time for frame in frames])
    controls = {control.name: control for control in plan.controls}
    found = tuned.prepared.calibration
    measured = {name: one.dead_zone for name, one in found.controls.items()} if found is not None else {}
    shared = {name for stick in plan.sticks if stick.zone != "axes" for name in (stick.x, stick.y)}

    def least(*names: str) -> float:
        return max(measured.get(reads, 0.0) for name in names for reads in controls[name].all_reads)

    for control in plan.controls:
        if control.name not in plan.driving_controls() or control.name in shared:
            continue
        positions = _positions(control, frames)
        zone = _zone(time, np.abs(positions), np.array([positions]), wish, least(control.name))
        if zone is not None:
            yield Change(("controls", control.name, "dead_zone"), zone[0], f"{control.dead_zone:g}", zone[1])
    for name, stick in zip(tuned.profile.sticks, plan.sticks, strict=True):
        if stick.zone == "axes":
            continue
        axes = np.array([_positions(controls[axis], frames) for axis in (stick.x, stick.y)])
        away = np.hypot(*axes) if stick.zone == "round" else np.abs(axes).max(axis=0)
        zone = _zone(time, away, axes, wish, least(stick.x, stick.y))
        if zone is not None:
            yield Change(("sticks", name, "dead_zone"), zone[0], f"{stick.dead_zone:g}", zone[1])


def _zone(time: Array, away: Array, axes: Array, wish: Wish, measured: float) -> tuple[float, str] | None:
    """Return a dead zone and its reason: the widest of what was seen, stated and measured.

    Args:
        time: of each frame, s. away: deflection of the stick. axes: (axis, frame), its positions.
        measured: the one that the calibration of the device recommends; 0 if there is none.

    Returns:
        None if it was never released: then there is no data.
    """
    rest = np.all([_at_rest(time, axis) for axis in axes], axis=0)
    seconds = float(np.diff(time, prepend=time[0])[rest].sum())
    if seconds < _LEAST_REST:
        return None
    far = float(away[rest].max())
    seen = f"in {seconds:.0f} s of rest it was up to {far:.3f} of its travel away, and a quarter more"
    wide = [(_MARGIN * far, seen), (measured, f"its calibration measured {measured:.3f}")]
    if wish.noise is not None:
        middle = float(np.hypot.reduce(axes[:, rest].mean(axis=1)))
        wide.append((middle + _SIGMAS * wish.noise, f"its middle is {middle:.3f} off, and 4 times the noise stated"))
    widest, why = max(wide)
    return math.ceil(100.0 * max(widest, _LEAST_ZONE) - 1e-9) / 100.0, why


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


def _top_speed(plan: Plan, profile: Profile, wished: float) -> Iterator[Change]:
    """Propose the forward speed of the fastest mode, and of every other one that would be faster.

    Raises `RecordingError` if the vehicle cannot go that fast.
    """
    unit = plan.chassis.units.speed
    able = plan.within_reach(VelocityCommand(wished)).vx
    if able < wished * (1.0 - 1e-9):
        raise RecordingError(
            f"{unit.shown(wished, '.3g')} is faster than it can go: {unit.shown(able, '.3g')} at most, by its chassis"
        )
    places: dict[tuple[str, ...], float] = {}
    for mode in plan.modes:
        own = _has_own(profile, mode.name, "speeds", "forward")
        places[("modes", mode.name, "speeds") if own else ("speeds",)] = mode.speeds.forward
    fastest = max(places.values())
    for place, now in places.items():
        if now == fastest or now > wished:
            yield Change((*place, "forward"), unit.shown(wished, ".3g"), unit.shown(now, ".3g"), "as wished")


def _has_own(profile: Profile, mode: str, table: str, key: str) -> bool:
    """Return whether a mode has a key of its own in its file; a key that it lacks is that of all modes."""
    return key in parse_toml(profile.text()).get("modes", {}).get(mode, {}).get(table, {})


def _expo(plan: Plan, finest: float) -> Iterator[Change]:
    """Propose the expo of the stick that drives, or of both of a tank: its first tenth is nearest to the finest speed.

    Raises `RecordingError` if one of them has its own curve or rates.
    """
    sticks, speed = strongest(plan, plan.mode, 0), plan.chassis.units.speed
    # One side of a tank alone would make it turn.
    own = [one.name for one in sticks if one.rates or not isinstance(one.shape.curve, Expo | None)]
    if own or not sticks:
        why = f"{', '.join(own)} has its own curve or rates" if own else "no stick drives it ahead"
        raise RecordingError(f"--finest is met by an expo, but {why}")
    amounts = [number / 100.0 for number in range(round(100 * _MOST_EXPO) + 1)]
    amount = min(amounts, key=lambda one: abs(_fine(_with_expo(plan, sticks, one), sticks) - finest))
    top = abs(asked_together(plan, plan.mode, sticks, 1.0).vx)
    fine = speed.shown(_fine(_with_expo(plan, sticks, amount), sticks), ".3g")
    why = f"a tenth of the way beyond the dead zone gives {fine} of {speed.shown(top, '.3g')}"
    for control in sticks:
        curve = control.shape.curve
        was = (curve.positive, curve.negative) if isinstance(curve, Expo) else (0.0, 0.0)
        shown = f"{was[0]:g}" if was[0] == was[1] else f"{was[0]:g}, {was[1]:g}"
        yield Change(("controls", control.name, "expo"), amount, shown, why)


def _with_expo(plan: Plan, sticks: list[ControlPlan], amount: float) -> Plan:
    """Return the plan with another expo on some of its sticks."""
    curve, names = Expo(amount, amount), {control.name for control in sticks}
    return replace(plan, controls=tuple(
        replace(one, shape=replace(one.shape, curve=curve)) if one.name in names else one for one in plan.controls
    ))  # fmt: skip


def _fine(plan: Plan, sticks: list[ControlPlan]) -> float:
    """Return the speed a tenth of the way beyond the dead zone, m/s."""
    shared = {name: stick for stick in plan.sticks if stick.zone != "axes" for name in (stick.x, stick.y)}
    zone = shared.get(sticks[0].name, sticks[0])
    begins, ends = zone.dead_zone, 1.0 - zone.outer_dead_zone
    return abs(asked_together(plan, plan.mode, sticks, begins + _FINE_AT * (ends - begins)).vx)


def _acceleration(tuned: _Tuned, frames: list[Frame]) -> Iterator[Change]:
    """Propose a lower acceleration if this driver does not notice it; each one is driven with the recorded sticks.

    Nothing is proposed from a recording of some of the controls only, which drives nothing; nor if a mode has its own
    acceleration: the recording shows what one of them needs, and not the other.
    """
    if any(_has_own(tuned.profile, mode, "limits", "acceleration") for mode in tuned.profile.modes):
        return
    plan, now = tuned.plan, tuned.plan.limits.acceleration
    top, unit = plan.full_speeds().forward, plan.chassis.units.speed

    def driven(acceleration: str | None) -> dict[str, float]:
        changed = {} if acceleration is None else {"limits.acceleration": acceleration}
        if changed and plan.limits.deceleration is None:  # it is kept, see below
            changed["limits.deceleration"] = _exactly(plan, plan.limits.acceleration, "m/s^2")
        tried = tuned.profile.with_(**changed) if changed else tuned.profile
        sticks = Recording("sticks", frames=frames)
        return figures_of(replay(replace(tuned.prepared, profile=tried), sticks, alone=True))

    try:
        present = driven(None)
    except SourceError:
        return
    if not present["top_speed"] >= _DRIVEN * top or math.isnan(present["behind"]):
        return
    found, behind = now, present["behind"]
    for tried in np.geomspace(now, _LEAST_SHARE * now, _TRIED)[1:]:
        text = _ramp_text(plan, float(tried))
        figures = driven(text)
        if not figures["behind"] <= present["behind"] + _NEAR_ENOUGH * top:
            break
        found, behind = float(tried), figures["behind"]
    why = f"with it the command is {unit.shown(behind, '.2g')} behind the sticks (root mean square), "
    why += f"{unit.shown(present['behind'], '.2g')} as it is"
    yield Change(("limits", "acceleration"), _ramp_text(plan, found), _ramp_text(plan, now), why)


def _deceleration(plan: Plan) -> float:
    limits = plan.limits
    return limits.acceleration if limits.deceleration is None else limits.deceleration


def _ramp_text(plan: Plan, value: float) -> str:
    """Write an acceleration as in a profile; for a vehicle without measures the time to full."""
    return f"{value:.3g} m/s^2" if plan.chassis.units.known else f"{1.0 / value:.3g} s"


def _kept(before: Plan, now: Plan) -> Iterator[Change]:
    """Write down what would become lower because it follows a limit that was lowered: how it slows down and stops."""
    why = "without this key it would follow limits.acceleration, which is lower now"
    if _deceleration(now) < _deceleration(before):
        yield Change(("limits", "deceleration"), _exactly(before, _deceleration(before), "m/s^2"), "", why)
    climbs = any(mode.speeds.up or mode.speeds.down for mode in before.modes)
    climbing = before.limits.vertical_acceleration
    if climbs and now.limits.vertical_acceleration < climbing:
        yield Change(("limits", "vertical_acceleration"), _exactly(before, climbing, "m/s^2"), "", why)
    for key, unit, factor in _STOPS:
        was, stop = getattr(before.guard, key), getattr(now.guard, key)
        if stop < was and (climbs or "vertical" not in key):
            yield Change(("guard", key), _exactly(before, was * factor, unit), "", why)


def _exactly(plan: Plan, value: float, unit: str) -> str:
    """Write an acceleration with all of its digits; for a vehicle without measures the time to full."""
    return f"{value:.12g} {unit}" if plan.chassis.units.known else f"{1.0 / value:.12g} s"


def _stops(plan: Plan, within: float) -> Iterator[Change]:
    """Propose the decelerations to stand within a distance, rounded up; and compare with the stop that they make.

    Raises:
        RecordingError: the distance is too short even for the detection, or what follows a loss is not known.
        TenutoError: the vehicle has no measures.
    """
    guard = plan.guard
    if not plan.chassis.units.known:
        raise TenutoError(f"it cannot be tuned to stop within a distance in metres: {NO_METRES}")
    for key, unknown, what in (
        ("on_link_loss", guard.on_link_loss == "silent", "the far end's own failsafe stops the robot"),
        ("fault_category", guard.fault_category == 0, "the power is off at once, and the robot rolls out"),
    ):
        if unknown:
            raise RecordingError(f"--stop-within cannot be promised: with guard.{key} = {getattr(guard, key)!r} {what}")
    try:
        needed = braking_for(plan, within)
    except ValueError as error:
        raise RecordingError(
            f"{error} before the loss of a link is detected (link_timeout and grace): to stop within {within:g} m it "
            f"needs less than {within / reaction(plan):.2g} m/s, or a shorter link_timeout"
        ) from error
    stops = Braking(*(
        max(getattr(guard, key), _rounded_up(value, 1.0 if "turn" in key else 0.01, factor))
        for (key, _, factor), value in zip(_STOPS, needed, strict=True)
    ))  # fmt: skip
    level, turn, vertical = stops
    braked = replace(guard, stop_deceleration=level, stop_turn_deceleration=turn, stop_vertical_deceleration=vertical)
    metres = worst_stop(replace(plan, guard=braked), reaction(plan)).metres
    why = f"with it the robot stands within {at_most(metres)} m of the last frame, whatever is driven"
    why += "" if whose_link(plan) == "the link" else f", when {whose_link(plan)} is lost"
    for (key, unit, factor), then in zip(_STOPS, stops, strict=True):
        if then > getattr(guard, key):
            was = f"{getattr(guard, key) * factor:.5g} {unit}"
            yield Change(("guard", key), f"{then * factor:.8g} {unit}", was, why)


def _rounded_up(value: float, step: float, factor: float) -> float:
    """Round a value up to whole steps in another unit."""
    return math.ceil(value * factor / step - 1e-9) * step / factor
