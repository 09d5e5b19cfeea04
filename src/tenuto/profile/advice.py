"""What a careful colleague would say of a profile that loads without an error."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from tenuto.calibration.store import Calibration
from tenuto.core import shaping
from tenuto.core.demand import VelocityCommand
from tenuto.core.pipeline import Plan
from tenuto.profile.schema import Profile

# A robot that hears nothing must not cross a room, m; nor reach full speed within a blink, s.
ROOM, BLINK = 4.0, 0.2
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
        *_device(plan, controls), *_twice(plan), *_sticks(plan, calibration), *_speeds(plan), *_guard(plan)
    ]  # fmt: skip


def stopping_distance(plan: Plan) -> tuple[float, float]:
    """Give how far the robot goes at full speed before a quiet link is noticed, and until it stands, m.

    v·timeout, and v²/(2·a) more, as a constant deceleration has it.
    """
    speed = max(plan.speeds.forward, plan.speeds.backward)
    unnoticed = speed * plan.guard.link_timeout
    return unnoticed, unnoticed + speed * speed / (2.0 * plan.guard.stop_deceleration)


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
        slow = slow_speeds(measured.steps, control.dead_zone, control.expo)
        if measured.steps and slow < FEWEST_SLOW_SPEEDS:
            text = f"{measured.steps} steps leave {slow} speeds below a fifth of the fastest: more expo gives more"
            yield Advice(f"{key}.expo", False, text)


def slow_speeds(steps: int, dead_zone: float, expo: float) -> int:
    """Count the different outputs above 0 and up to 0.2 that a stick of so many steps has after shaping."""
    positions = np.linspace(-1.0, 1.0, max(steps, 2))
    outputs = shaping.expo(shaping.dead_zone(positions, dead_zone), expo)
    return len(np.unique(outputs[(outputs > 0.0) & (outputs <= 0.2)]))


def _speeds(plan: Plan) -> Iterator[Advice]:
    speeds, chassis = plan.speeds, plan.chassis
    for key, command in (
        ("speeds.forward", VelocityCommand(speeds.forward, 0.0)),
        ("speeds.turn", VelocityCommand(0.0, speeds.turn)),
    ):
        _, share = chassis.keep_arc(command)
        if share < 1.0:
            text = f"the wheels can turn no faster than {100 * share:.0f} % of it: the end of the stick does nothing"
            yield Advice(key, True, text)
    _, share = chassis.keep_arc(VelocityCommand(speeds.forward, speeds.turn))
    if share < 0.6:
        text = f"forward and turn together are slowed to {100 * share:.0f} %: lower one of them, or drive with care"
        yield Advice("chassis.max_wheel_speed", False, text)
    seconds = speeds.forward / plan.limits.acceleration
    if seconds < BLINK:
        text = f"full speed is reached in {seconds:.2f} s, as if there were no limit: the robot will jump"
        yield Advice("limits.acceleration", False, text)


def _guard(plan: Plan) -> Iterator[Advice]:
    unnoticed, until_standing = stopping_distance(plan)
    if unnoticed > ROOM:
        text = f"at full speed the robot goes {unnoticed:.1f} m, across a room, before a quiet link is noticed"
        yield Advice("guard.link_timeout", True, text)
    elif until_standing > ROOM / 2.0:
        text = f"at full speed the robot goes {until_standing:.1f} m from the last frame to standstill"
        yield Advice("guard.link_timeout", False, text)
    if plan.guard.stop_deceleration < plan.limits.acceleration:
        text = "a stop is slower than speeding up: raise it, as far as the robot does not tip"
        yield Advice("guard.stop_deceleration", False, text)


def line_of(text: str, key: str) -> int:
    """Give the line of a key in TOML text, or of its table where the key is not written; 1 where neither is."""
    table, _, name = key.rpartition(".")
    header, inside = 1, not table
    for number, line in enumerate(text.splitlines(), 1):
        if (match := re.match(r"\s*\[([^\[\]]+)\]", line)) is not None:
            inside = match[1].strip() == table
            header = number if inside or match[1].strip() == key else header
        elif inside and re.match(rf"\s*{re.escape(name)}\s*=", line):
            return number
    return header
