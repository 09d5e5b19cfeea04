"""Checks before a drive, from one tick: what is not ready, and what to do."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from typing import NamedTuple

from tenuto.basics.frame import Frame
from tenuto.basics.reasons import Code
from tenuto.driving.plan import Plan
from tenuto.driving.telemetry import SILENT_AFTER, Telemetry
from tenuto.driving.tick import Tick

# A stick that rests farther from its middle, or a larger trim, is reported: shares of the travel.
NEUTRAL = 0.05
# These reasons apply to every robot before a drive, and are not reported.
_USUAL = (Code.HOLD_NOT_PRESSED, Code.HOLD_NOT_RELEASED, Code.NOT_ENABLED, Code.ENDED, Code.NO_FRAME, Code.NOT_AT_REST)
_FAR = (Code.FAR_END_SILENT, Code.FAR_END_UNFIT, Code.FAR_END_NOT_READY)


class Check(NamedTuple):
    """The result of one check.

    Attributes:
        name: such as "sticks". good: it is ready. text: its state. todo: what to do; empty if it is good.
    """

    name: str
    good: bool
    text: str
    todo: str = ""


class Neutral(NamedTuple):
    """The expected positions of controls before a drive: self-centring ones, and those that rest at an end.

    Attributes:
        sticks: control names. levers: those that rest at their low end. link_timeout: s.
    """

    sticks: tuple[str, ...]
    levers: tuple[str, ...]
    link_timeout: float


def neutral_of(plan: Plan) -> Neutral:
    """Return the expected positions for a plan."""
    driving = plan.driving_controls()
    levers = tuple(control.name for control in plan.controls if control.name in driving and control.one_way)
    return Neutral(tuple(name for name in driving if name not in levers), levers, plan.guard.link_timeout)


def checks_of(tick: Tick, neutral: Neutral) -> list[Check]:
    """Check one tick of a robot that is not driven yet."""
    return [_device(tick, neutral), *_controls(tick, neutral), _trims(tick), _guard(tick), *_far_ends(tick)]


def checks_of_others(others: Mapping[str, Frame | None], now: float, plan: Plan) -> list[Check]:
    """Check the newest frame of every other driver and input with its own source, each with its timeout."""
    timeouts = {lower.name: lower.link_timeout for lower in plan.below} | {one.name: one.timeout for one in plan.inputs}
    return [_link(name, frame, now, timeouts.get(name, plan.guard.link_timeout)) for name, frame in others.items()]


def _device(tick: Tick, neutral: Neutral) -> Check:
    return _link("device", tick.frame, tick.time, neutral.link_timeout)


def _link(name: str, frame: Frame | None, now: float, timeout: float) -> Check:
    if frame is None:
        return Check(name, False, "nothing has come from it", "switch it on, connect it")
    age = now - frame.time
    if age > timeout or not frame.link_good:
        said = frame.note or f"the newest frame is {age:.1f} s old"
        todo = "fix what it reports" if frame.note else "switch the transmitter on, come nearer"
        return Check(name, False, f"its link is not good: {said}", todo)
    signal = f", link {frame.signal.quality:.0f} %" if frame.signal is not None else ""
    return Check(name, True, f"frames arrive{signal}")


def _controls(tick: Tick, neutral: Neutral) -> Iterator[Check]:
    for what, names, rest, todo in (
        ("sticks", neutral.sticks, "at their middle", "release it; centre its trim; tenuto calibrate"),
        ("levers", neutral.levers, "down", "bring it down; tenuto calibrate"),
    ):
        away = {name: tick.positions.get(name, 0.0) for name in names}
        off = [f"{name} is at {place:+z.2f}" for name, place in away.items() if abs(place) > NEUTRAL]
        if names:
            yield Check(what, not off, ", ".join(off) or f"all {rest}", todo if off else "")


def _trims(tick: Tick) -> Check:
    trims = tick.chosen.trims
    off = [f"{name} is trimmed by {value:+z.2f}" for name, value in trims.items() if abs(value) > NEUTRAL]
    return Check("trims", not off, ", ".join(off) or "none", "reset it with its button or knob" if off else "")


def _guard(tick: Tick) -> Check:
    kept = [reason for reason in tick.guard.reasons if reason.code not in (*_USUAL, *_FAR)]
    if not kept:
        return Check("guard", True, "it is ready to be enabled by the driver")
    todo = next((code.todo for code in Code if code == kept[0].code), "")
    return Check("guard", False, "; ".join(reason.text for reason in kept), todo)


def _far_ends(tick: Tick) -> Iterator[Check]:
    reasons = [reason for reason in tick.guard.reasons if reason.code in _FAR]
    for name, one in tick.far.items():
        own = [reason.text.removeprefix(f"{name}: ") for reason in reasons if reason.text.startswith(name)]
        yield _far_end(name, one, own, tick.time)
    others = [reason.text for reason in reasons if not reason.text.startswith(tuple(tick.far))]
    if others:
        yield Check("far end", False, "; ".join(others), "drive with a sink that answers")


def _far_end(name: str, one: Telemetry, own: Collection[str], now: float) -> Check:
    text = one.in_words(now)
    if one.age(now) > SILENT_AFTER:
        return Check(name, False, text, "check its power, its line and its address")
    if own:
        return Check(name, False, "; ".join(own), "fix what the text names")
    return Check(name, True, text)
