"""Errors and warnings of a profile that loads without an error."""

from __future__ import annotations

import math
from collections.abc import Iterator

from tenuto.basics.findings import Finding, error, warning
from tenuto.calibration.store import Calibration
from tenuto.driving.limits import within_speeds
from tenuto.driving.modes import ModePlan
from tenuto.driving.motions import MOTIONS_OF, most_asked, motions_asked, opposites
from tenuto.driving.plan import HELD_FROM, Plan
from tenuto.driving.stopping import at_most, fastest, link_loss_stages, longest_silence
from tenuto.profile.build import positions_used, pressed_names
from tenuto.profile.controls import touches
from tenuto.profile.profile import Profile
from tenuto.sticks.resolution import resolution
from tenuto.vehicles.base import LEVEL_FORMS, Sides
from tenuto.vehicles.velocity import VelocityCommand

# Without a link a robot must not cross a room, m; and it must not reach full speed within this time, s.
ROOM, BLINK = 4.0, 0.2
# A released stick must not drive longer than this, s.
SLUGGISH = 0.3
# An S-curve that lasts longer, s, should be meant.
LONG_CURVE = 0.25
# Slow driving needs at least this number of speeds below a fifth of the fastest.
FEWEST_SLOW_SPEEDS = 5


def advise(
    profile: Profile, calibration: Calibration | None = None, controls: tuple[str, ...] | None = None,
    plan: Plan | None = None,
) -> list[Finding]:  # fmt: skip
    """List errors and warnings of a profile.

    Args:
        profile: it has loaded, so each of its keys is valid.
        calibration: of its device, if it was measured.
        controls: the names of the controls of the connected device, if there is one.
        plan: of the profile; by default made from it and the calibration.
    """
    plan = profile.plan(calibration) if plan is None else plan
    return [
        *_device(plan, controls), *_wires(profile, plan), *_twice(plan), *_sticks(plan, calibration),
        *_exact(profile, plan), *_at_rest(plan), *_slow_to_answer(plan),
        *_speeds(profile, plan), *_unasked(profile, plan), *_modes(profile), *_switches(profile, plan),
        *_guard(plan), *_sinks(profile, plan), *_s_curves(plan), *_unsent(profile, plan), *_saturates(profile, plan),
    ]  # fmt: skip


def _device(plan: Plan, controls: tuple[str, ...] | None) -> Iterator[Finding]:
    for control in plan.controls if controls is not None else ():
        for reads in control.all_reads:
            if controls is not None and reads not in controls:
                text = f"the device has no {reads}; it has {', '.join(controls)}"
                yield error(f"controls.{control.name}.reads", text)


def _wires(profile: Profile, plan: Plan) -> Iterator[Finding]:
    """Find wires whose break is not seen: of a stick with the ends of its converter, of a hold that floats."""
    permits, driving = plan.permitting_controls(), plan.driving_controls()
    for control in plan.controls:
        info = profile.source.control(control.reads)
        if info is None or math.isfinite(info.low):
            continue  # not a number of unknown range, as that of a converter
        key, pull = f"controls.{control.name}", profile.controls[control.name].pull
        ends = touches(control.travel.low, control.travel.high)
        if control.name in driving and ends:
            reads = " or ".join(f"{end:.0f}" for end in ends)
            text = f"a broken wire reads {reads}, as the stick at its end does: it would drive at full speed"
            yield warning(key, text, "add a resistor at each end of the potentiometer, and calibrate again")
        holds = control.name in permits
        if holds and ends and pull is None:
            text = "a wire that is open may read as held, and nothing says to which side a resistor pulls it"
            yield warning(f"{key}.pull", text, 'add the resistor, and pull = "down" or "up"')
        open_reads = control.travel.high if pull == "up" else control.travel.low
        if holds and pull is not None and control.travel.position(open_reads) >= HELD_FROM:
            text = f"an open wire would read {open_reads:g}, which is held"
            yield error(f"{key}.pull", text, "pull it to the other side")


def _sinks(profile: Profile, plan: Plan) -> Iterator[Finding]:
    for name, options in profile.sinks.items():
        yield from (finding.within(f"sinks.{name}") for finding in options.plan_errors(plan))


def _unsent(profile: Profile, plan: Plan) -> Iterator[Finding]:
    """Find motors that no sink sends, if others are sent separately: they would get no command."""
    told = [turns for sink in profile.sinks.values() if (turns := sink.turns(plan)) is not None]
    sent = {name for turns in told for name in turns}
    if not sent or not all(told):  # a velocity contains all of them
        return
    motors = [name for name, bound in plan.chassis.bounds().items() if bound.quantity.drives]
    if missing := [name for name in motors if name not in sent]:
        text = f"no sink sends {', '.join(missing)}: only the other motors are sent"
        yield warning("sinks", text, "add them to a line or to channels, if they are separate motors")


def _twice(plan: Plan) -> Iterator[Finding]:
    """Find a control of the device with two meanings in one mode."""
    every = frozenset(mode.name for mode in plan.modes)
    seen: list[tuple[str, str, frozenset[str]]] = []
    for control in plan.controls:
        driving = frozenset(mode.name for mode in plan.modes if control.name in mode.style.controls())
        # A control that drives in no mode, such as hold-to-run, counts in all of them.
        modes = driving or every
        for reads in control.all_reads:
            other = next((name for name, read, used in seen if read == reads and used & modes), None)
            if other is not None:
                yield error(
                    f"controls.{control.name}.reads", f"{reads} is read by {other} too: one control, two meanings"
                )
            seen.append((control.name, reads, modes))


def _sticks(plan: Plan, calibration: Calibration | None) -> Iterator[Finding]:
    for control in plan.controls:
        measured = calibration.controls.get(control.reads) if calibration is not None else None
        if measured is None or measured.kind != "middle" or control.name not in plan.style.controls():
            continue
        key = f"controls.{control.name}"
        if control.dead_zone < measured.dead_zone:
            text = f"{control.dead_zone:g} is less than the {measured.dead_zone:g} that was measured: it may creep"
            yield warning(f"{key}.dead_zone", text)
        slow = resolution(measured.steps, control.shape, control.dead_zone, control.outer_dead_zone).slow
        if measured.steps and slow < FEWEST_SLOW_SPEEDS:
            text = f"{measured.steps} steps leave {slow} speeds below a fifth of the fastest: more expo gives more"
            yield warning(f"{key}.expo", text)


def _exact(profile: Profile, plan: Plan) -> Iterator[Finding]:
    """Find a dead zone of keys, which would only make their first steps slower, or take them away."""
    zones = {name: stick.dead_zone for stick in plan.sticks for name in (stick.x, stick.y)}
    for control in plan.controls:
        info = profile.source.control(control.reads)
        zone = max(control.dead_zone, zones.get(control.name, 0.0))
        if info is not None and info.exact and zone:
            text = f"{control.reads} rests exactly at 0: a dead zone of {zone:g} takes away its first steps"
            yield warning(f"controls.{control.name}.dead_zone", text, "remove it")


def _at_rest(plan: Plan) -> Iterator[Finding]:
    driving = plan.driving_controls()
    for control in plan.controls:
        asked = control.shape(0.0)
        if control.name in driving and asked != 0.0:
            text = f"at rest it demands {asked:+z.2f}: the robot moves as soon as it may, with the stick released"
            yield error(f"controls.{control.name}.curve", text)
    for trim in plan.selection.trims:
        if trim.begin != 0.0 and trim.control in driving:
            text = f"a trim of {trim.begin:+z.3f} moves the robot with the stick released"
            yield warning(f"trims.{trim.control}.begin", text)


def _slow_to_answer(plan: Plan) -> Iterator[Finding]:
    for control in plan.controls:
        late = max(control.smoothing, 1.0 / control.ramp_down if control.ramp_down else 0.0)
        if control.name in plan.driving_controls() and late > SLUGGISH:
            key = "smoothing" if late == control.smoothing else "ramp_down"
            text = f"the robot drives on for {late:.2f} s after the stick is released, in addition to its deceleration"
            yield warning(f"controls.{control.name}.{key}", text)


def _modes(profile: Profile) -> Iterator[Finding]:
    choose = profile.choose.mode
    if choose is None or len(profile.modes) < 2:
        return
    fallback = next(name for name, mode in profile.modes.items() if mode.fallback)
    for name in profile.modes:
        if name not in choose.order and name != fallback:
            yield error(f"modes.{name}", "nothing selects it: add it to choose.mode.order, or remove it")
    switch = profile.switches.get(choose.switch)
    # A press selects the next one, and a plain control has two positions; a switch with positions selects any.
    at_once = fallback in choose.order and ((switch is not None and switch.goes_anywhere) or len(choose.order) == 2)
    if not at_once and choose.back is None:
        text = f"{fallback}, the fallback mode, is not one action away from every other mode: set choose.mode.back"
        yield error("choose.mode.back", text)
    if not choose.through_rest and any(mode.style is not None for mode in profile.modes.values()):
        text = "a stick may change its meaning while it is pushed: through_rest = true waits until it is released"
        yield warning("choose.mode.through_rest", text)


def _switches(profile: Profile, plan: Plan) -> Iterator[Finding]:
    used = {name for _, name in pressed_names(profile)}
    controls = {control.name: control for control in plan.controls}
    for switch in plan.selection.switches:
        key = f"switches.{switch.name}"
        if switch.reads in controls:
            yield from (finding.within(key) for finding in switch.errors(controls[switch.reads]))
        places = positions_used(profile, switch.name)
        if switch.name in profile.switches and switch.name not in used and not places:
            yield warning(key, "nothing uses it")
        if switch.at_start:
            yield warning(f"{key}.at_start", "its position at start-up takes effect before it is touched")
        if places > switch.count:
            text = f"it has {switch.count} positions, and {places} are to be selected: the last ones are never reached"
            yield error(f"{key}.positions", text)


def _unasked(profile: Profile, plan: Plan) -> Iterator[Finding]:
    """Find motions that have a speed, and that no stick asks for in any mode."""
    asked = {motion for mode in plan.modes for motion in motions_asked(plan, mode)}
    tables = [profile.speeds, *(mode.speeds for mode in profile.modes.values() if mode.speeds is not None)]
    said = {key for table in tables for key in table.model_fields_set}
    said |= {"down"} if "up" in said else set()  # what climbs must sink, whether its speed is said or not
    for key in (key for key in MOTIONS_OF if key in said):
        missing = [motion for motion in MOTIONS_OF[key] if motion not in asked]
        text = f"no stick asks for {' or '.join(missing)}"
        if missing and not asked & opposites(missing):
            yield warning(f"speeds.{key}", text, "it has no effect: remove it, or let a stick ask for it")
        elif missing:
            opposite = " or ".join(sorted(asked & opposites(missing)))
            hint = 'a control with rests = "end" has one direction: change it, or let another stick ask for the other'
            yield error(f"speeds.{key}", f"{text}, and one does for {opposite}", hint)


def _speeds(profile: Profile, plan: Plan) -> Iterator[Finding]:
    """Check the speeds of every mode; if several modes share a table, report the worst of them once."""
    worst: dict[str, tuple[float, Finding]] = {}
    for mode in plan.modes:
        own = profile.modes.get(mode.name)
        speeds = f"modes.{mode.name}.speeds" if own is not None and own.speeds is not None else "speeds"
        limits = f"modes.{mode.name}.limits" if own is not None and own.limits is not None else "limits"
        for left, finding in _speeds_of(plan, mode, speeds, limits):
            if finding.where not in worst or left < worst[finding.where][0]:
                worst[finding.where] = left, finding
    for _, finding in worst.values():
        yield finding


def _speeds_of(plan: Plan, mode: ModePlan, speeds_at: str, limits_at: str) -> Iterator[tuple[float, Finding]]:
    """Yield the findings about the speeds of a mode, each with a number that is smaller for a worse one."""
    speeds, chassis = mode.speeds, plan.chassis
    found: dict[tuple[int, float], float] = {}
    for key, axis, ways in (
        ("forward", 0, (speeds.forward,)), ("backward", 0, (-speeds.backward,)),
        ("sideways", 1, (speeds.sideways, -speeds.sideways)), ("turn", 3, (speeds.turn, -speeds.turn)),
        ("up", 2, (speeds.up,)), ("down", 2, (-speeds.down,)),
    ):  # fmt: skip
        asked = [VelocityCommand(*(way if one == axis else 0.0 for one in range(4))) for way in ways]
        possible = [VelocityCommand(*chassis.possible(*command)) for command in asked]
        share = min(chassis.within_reach(command)[1] for command in possible)
        # A speed that is by default that of the opposite direction is reported once.
        place = (axis, max(map(abs, ways)))
        if share < min(1.0, found.get(place, 1.0)):
            found[place] = share
            text = f"the robot can do no more than {100 * share:.0f} % of it: the end of the stick has no effect"
            yield share, error(f"{speeds_at}.{key}", text)
    _, share = chassis.within_reach(VelocityCommand(vx=speeds.forward, yaw_rate=speeds.turn))
    # Sticks for the sides never demand both.
    if share < 0.6 and plan.priority == "arc" and not isinstance(mode.style.way(speeds), Sides):
        text = f"forward and turn together are slowed to {100 * share:.0f} %: lower one of them, or drive with care"
        yield share, warning("chassis.max_wheel_speed" if chassis.units.known else f"{speeds_at}.turn", text)
    seconds = speeds.forward / mode.limits.acceleration
    if seconds < BLINK:
        text = f"full speed is reached in {seconds:.2f} s, as if there were no limit: the robot will jump"
        yield seconds, warning(f"{limits_at}.acceleration", text)


def _guard(plan: Plan) -> Iterator[Finding]:
    unnoticed = fastest(plan) * (longest_silence(plan) + plan.guard.grace)
    until_standing = sum(stage.metres for stage in link_loss_stages(plan))
    if not plan.chassis.units.known:
        pass  # the distance is unknown
    elif unnoticed > ROOM:
        text = f"at full speed the robot goes {at_most(unnoticed, 1)} m, across a room, before a quiet link is noticed"
        yield error("guard.link_timeout", text)
    elif until_standing > ROOM / 2.0:
        text = f"at full speed the robot goes {at_most(until_standing, 1)} m from the last frame to standstill"
        yield warning("guard.link_timeout", text)
    quickest = max(max(mode.limits.acceleration, mode.limits.deceleration or 0.0) for mode in plan.modes)
    if plan.guard.stop_deceleration < quickest:
        text = "a stop is slower than the driver's own ramps: raise it, but not so far that the robot tips"
        yield warning("guard.stop_deceleration", text)


def _s_curves(plan: Plan) -> Iterator[Finding]:
    """Find a jerk limit that makes the other one slow too: the whole velocity is averaged over the longer time."""
    known = list[str]()
    for mode in plan.modes:
        level, turn = within_speeds(mode.limits, mode.speeds).windows
        keys = ("jerk", "turn_jerk") if level > turn else ("turn_jerk", "jerk")
        longer, shorter = max(level, turn), min(level, turn)
        # A limit for driving only may smooth the turn too; one for turning must not surprise who drives ahead.
        if longer > max(2.0 * shorter, LONG_CURVE) and turn > 0.0:
            what = ("driving", "turning")[keys[0] == "jerk"]
            text = f"its S-curve lasts {longer:.2f} s, and {what} takes that too, where {shorter:.2f} s would do"
            key = f"modes.{mode.name}.limits" if mode.name and mode.limits != plan.modes[0].limits else "limits"
            if key not in known:
                yield warning(f"{key}.{keys[0]}", text, f"raise {keys[0]}, or lower the accelerations that it is for")
            known.append(key)


def _saturates(profile: Profile, plan: Plan) -> Iterator[Finding]:
    """Find an actuator that is asked for more than its share 1: the number that is sent stays behind the command."""
    bounds, axles = plan.chassis.bounds(), plan.chassis.axles()
    ends = {name: bound.most for name, bound in bounds.items()} | {name: axle.most for name, axle in axles.items()}
    less = [one for one in plan.actuators if one.form in LEVEL_FORMS and one.full < ends.get(one.name, 0.0)]
    if not less:
        return
    asked = [most_asked(plan, mode) for mode in plan.modes]
    for one in less:
        most = max(values.get(one.name, 0.0) for values in asked)
        quantity = bounds[one.of[0] if one.of else one.name].quantity
        if most > one.full * (1.0 + 1e-6):
            key = one.name if one.name in profile.actuators else quantity.group
            text = (
                f"{one.name} is asked for {quantity.in_words(most)}, and its share 1 is {quantity.in_words(one.full)}"
            )
            hint = "raise full, or lower the speeds or the angle: what is above it is not sent"
            yield warning(f"actuators.{key}.full", text, hint)
