"""What a careful colleague would say of a profile that loads without an error."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from tenuto.calibration.store import Calibration
from tenuto.driving.modes import ModePlan
from tenuto.driving.plan import Plan
from tenuto.driving.stopping import fastest, link_loss_stages
from tenuto.profile.build import positions_used, pressed_names
from tenuto.profile.schema import Profile
from tenuto.sticks.curve import resolution
from tenuto.vehicles.velocity import VelocityCommand

# A robot that hears nothing must not cross a room, m; nor reach full speed within a blink, s.
ROOM, BLINK = 4.0, 0.2
# A stick that is let go must not go on driving for longer than this, s.
SLUGGISH = 0.3
# Slow driving needs at least so many speeds below a fifth of the fastest.
FEWEST_SLOW_SPEEDS = 5


@dataclass(frozen=True, slots=True)
class Advice:
    """One remark on a profile.

    Attributes:
        key: what it is about, such as ``"guard.link_timeout"``.
        problem: True where the robot should not be driven so, False for a doubt.
        text: what is the matter, with numbers, and what to do.
    """

    key: str
    problem: bool
    text: str


def advise(
    profile: Profile, calibration: Calibration | None = None, controls: tuple[str, ...] | None = None
) -> list[Advice]:
    """List problems and doubts of a profile.

    Args:
        profile: it has loaded, so its keys are right one by one.
        calibration: what was measured of its device, if it was.
        controls: the names of the controls of the device that is connected, if one is.
    """
    plan = profile.plan(calibration)
    return [
        *_device(plan, controls), *_twice(plan), *_sticks(plan, calibration), *_at_rest(plan), *_slow_to_answer(plan),
        *_speeds(plan), *_modes(profile), *_switches(profile, plan), *_guard(plan),
    ]  # fmt: skip


def _device(plan: Plan, controls: tuple[str, ...] | None) -> Iterator[Advice]:
    for control in plan.controls if controls is not None else ():
        for reads in control.all_reads:
            if controls is not None and reads not in controls:
                text = f"the device has no {reads}; it has {', '.join(controls)}"
                yield Advice(f"controls.{control.name}.reads", True, text)


def _twice(plan: Plan) -> Iterator[Advice]:
    first: dict[str, str] = {}
    for control in plan.controls:
        for reads in control.all_reads:
            if reads in first:
                text = f"{reads} is read by {first[reads]} too: one control, two meanings"
                yield Advice(f"controls.{control.name}.reads", True, text)
            first.setdefault(reads, control.name)


def _sticks(plan: Plan, calibration: Calibration | None) -> Iterator[Advice]:
    for control in plan.controls:
        measured = calibration.controls.get(control.reads) if calibration is not None else None
        if measured is None or measured.kind != "middle" or control.name not in plan.style.controls():
            continue
        key = f"controls.{control.name}"
        if control.dead_zone < measured.dead_zone:
            text = f"{control.dead_zone:g} is less than the {measured.dead_zone:g} that was measured: it may creep"
            yield Advice(f"{key}.dead_zone", False, text)
        slow = resolution(measured.steps, control.shape, control.dead_zone, control.outer_dead_zone).slow
        if measured.steps and slow < FEWEST_SLOW_SPEEDS:
            text = f"{measured.steps} steps leave {slow} speeds below a fifth of the fastest: more expo gives more"
            yield Advice(f"{key}.expo", False, text)


def _at_rest(plan: Plan) -> Iterator[Advice]:
    driving = plan.driving_controls()
    for control in plan.controls:
        asked = control.shape(0.0)
        if control.name in driving and asked != 0.0:
            text = f"at rest it asks for {asked:+.2f}: the robot moves as soon as it may, with the stick let go"
            yield Advice(f"controls.{control.name}.curve", True, text)
    for trim in plan.selection.trims:
        if trim.begin != 0.0 and trim.control in driving:
            text = f"a trim of {trim.begin:+.3f} moves the robot with the stick let go"
            yield Advice(f"trims.{trim.control}.begin", False, text)


def _slow_to_answer(plan: Plan) -> Iterator[Advice]:
    for control in plan.controls:
        late = max(control.smoothing, 1.0 / control.ramp_down if control.ramp_down else 0.0)
        if control.name in plan.driving_controls() and late > SLUGGISH:
            key = "smoothing" if late == control.smoothing else "ramp_down"
            text = f"the robot goes on for {late:.2f} s after the stick is let go, on top of its deceleration"
            yield Advice(f"controls.{control.name}.{key}", False, text)


def _modes(profile: Profile) -> Iterator[Advice]:
    choose = profile.choose.mode
    if choose is None or len(profile.modes) < 2:
        return
    fallback = next(name for name, mode in profile.modes.items() if mode.fallback)
    for name in profile.modes:
        if name not in choose.order and name != fallback:
            yield Advice(f"modes.{name}", True, "nothing chooses it: put it into choose.mode.order, or take it out")
    switch = profile.switches.get(choose.switch)
    # A press goes on by one, and a plain control has two positions; a switch with positions goes anywhere at once.
    at_once = fallback in choose.order and ((switch is not None and switch.goes_anywhere) or len(choose.order) == 2)
    if not at_once and choose.back is None:
        text = f"{fallback}, the mode to fall back to, is not one action away from every other: give choose.mode.back"
        yield Advice("choose.mode.back", True, text)
    if not choose.through_rest and any(mode.style is not None for mode in profile.modes.values()):
        text = "a stick may change its meaning while it is pushed: through_rest = true waits until it is let go"
        yield Advice("choose.mode.through_rest", False, text)


def _switches(profile: Profile, plan: Plan) -> Iterator[Advice]:
    used = {name for _, name in pressed_names(profile)}
    for switch in plan.selection.switches:
        key = f"switches.{switch.name}"
        if switch.name in profile.switches and switch.name not in used:
            yield Advice(key, False, "nothing uses it")
        if switch.at_start:
            yield Advice(f"{key}.at_start", False, "it acts from where it stands at start-up, before it is touched")
        places = positions_used(profile, switch.name)
        if places > switch.count:
            text = f"it has {switch.count} positions, and {places} are to be chosen: the last ones are never reached"
            yield Advice(f"{key}.positions", True, text)


def _speeds(plan: Plan) -> Iterator[Advice]:
    for mode in plan.modes:
        place = f"modes.{mode.name}." if mode.name and not mode.fallback else ""
        yield from _speeds_of(plan, mode, place)


def _speeds_of(plan: Plan, mode: ModePlan, place: str) -> Iterator[Advice]:
    speeds, chassis = mode.speeds, plan.chassis
    for key, command in (
        ("forward", VelocityCommand(vx=speeds.forward)),
        ("turn", VelocityCommand(yaw_rate=speeds.turn)),
        ("up", VelocityCommand(vz=speeds.up)),
    ):
        _, share = chassis.within_reach(command)
        if share < 1.0:
            text = f"the robot can do no more than {100 * share:.0f} % of it: the end of the stick does nothing"
            yield Advice(f"{place}speeds.{key}", True, text)
    _, share = chassis.within_reach(VelocityCommand(vx=speeds.forward, yaw_rate=speeds.turn))
    if share < 0.6:
        text = f"forward and turn together are slowed to {100 * share:.0f} %: lower one of them, or drive with care"
        yield Advice("chassis.max_wheel_speed", False, text)
    seconds = speeds.forward / mode.limits.acceleration
    if seconds < BLINK:
        text = f"full speed is reached in {seconds:.2f} s, as if there were no limit: the robot will jump"
        yield Advice(f"{place}limits.acceleration", False, text)


def _guard(plan: Plan) -> Iterator[Advice]:
    unnoticed = fastest(plan) * plan.guard.unnoticed
    until_standing = sum(stage.metres for stage in link_loss_stages(plan))
    if unnoticed > ROOM:
        text = f"at full speed the robot goes {unnoticed:.1f} m, across a room, before a quiet link is noticed"
        yield Advice("guard.link_timeout", True, text)
    elif until_standing > ROOM / 2.0:
        text = f"at full speed the robot goes {until_standing:.1f} m from the last frame to standstill"
        yield Advice("guard.link_timeout", False, text)
    quickest = max(max(mode.limits.acceleration, mode.limits.deceleration or 0.0) for mode in plan.modes)
    if plan.guard.stop_deceleration < quickest:
        text = "a stop is slower than the driver's own ramps: raise it, as far as the robot does not tip"
        yield Advice("guard.stop_deceleration", False, text)


def line_of(text: str, key: str) -> int:
    """Give the line of a key in TOML text, or of the nearest table around it that is written; 1 where none is."""
    while key:
        table, _, name = key.rpartition(".")
        inside = not table
        for number, line in enumerate(text.splitlines(), 1):
            if (match := re.match(r"\s*\[([^\[\]]+)\]", line)) is not None:
                header = match[1].strip().replace('"', "")
                inside = header == table
                if header == key:
                    return number
            elif inside and re.match(rf"\s*{re.escape(name)}\s*=", line):
                return number
        key = table
    return 1
