"""One moment in words and numbers: from the raw number to the wheels, and why it is not faster.

All facts come from the tick; the plan only provides the settings between two numbers.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from typing import NamedTuple

from tenuto.basics.reasons import Code
from tenuto.curves.base import Shape
from tenuto.driving.guard import State
from tenuto.driving.limits import on_the_way
from tenuto.driving.modes import ModePlan
from tenuto.driving.plan import HELD_FROM, Plan, Planned
from tenuto.driving.tick import Tick
from tenuto.sticks import shaping
from tenuto.sticks.control import ControlPlan, StickPlan
from tenuto.vehicles.base import Arcs, Quantity
from tenuto.vehicles.priority import cause
from tenuto.vehicles.units import Units
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# A smaller difference is due to rounding: a log has six digits.
_SAME = 2e-5
_AXES = {"vx": "forward", "vy": "sideways", "vz": "up", "yaw_rate": "turning"}


class Step(NamedTuple):
    """The result of one stage.

    Attributes:
        stage: its name, as of the fields of a tick; of a control with its name, ``"control drive"``.
        text: in words, with units.
        numbers: those in the text, name → value, as in the tick or the plan.
    """

    stage: str
    text: str
    numbers: Mapping[str, float] = {}


class Explanation(NamedTuple):
    """Why the robot does what it does at one moment.

    Attributes:
        time: s. answer: in one sentence. steps: all of them, in the order of the stages.
    """

    time: float
    answer: str
    steps: tuple[Step, ...]

    def __str__(self) -> str:
        width = max(len(step.stage) for step in self.steps)
        lines = [f"{step.stage:{width}}  {step.text}" for step in self.steps]
        return "\n".join([f"At {self.time:.2f} s: {self.answer}", *lines])


def explain(tick: Tick, planned: Planned, since: Mapping[str, float] | None = None) -> Explanation:
    """Explain a tick.

    Args:
        tick: of the pipeline of this plan. planned: the profile or plan by which it was made.
        since: code of a reason → how long it has applied, s; a missing one is left out.
    """
    plan = planned.plan()
    mode = next((mode for mode in plan.modes if mode.name == tick.chosen.mode), plan.mode)
    told = since or {}
    steps = [*_driver(tick, plan), _source(tick), *_controls(tick, plan, mode), _intent(tick, mode)]
    steps += [_demand(tick, plan, mode), _guard(tick, told)]
    if tick.guard.state is State.DRIVING:
        steps.append(_target(tick, plan))
    steps += [_command(tick, plan, mode), _actuators(tick, plan)]
    steps += [_outputs(tick, mode)] if tick.outputs else []
    steps += [Step("actions", ", ".join(tick.actions))] if tick.actions else []
    steps += [Step(f"far end {name}", one.in_words(tick.time)) for name, one in tick.far.items()]
    steps += [Step("notice", f"{notice.text}{_for(told, notice.code)}") for notice in tick.notices]
    return Explanation(tick.time, _answer(tick, plan, mode), tuple(steps))


def velocity_in_words(velocity: VelocityCommand, units: Units) -> str:
    """Describe a velocity with its signs: ``+0.84 m/s forward, −12 deg/s turning``; parts that are 0 are left out."""
    said = velocity._asdict().items()
    parts = [f"{units.of(axis).shown(value, '+.3g')} {_AXES[axis]}" for axis, value in said if value]
    return ", ".join(parts) or "standstill"


def _for(since: Mapping[str, float], code: str) -> str:
    return f" (for {since[code]:.1f} s)" if code in since and since[code] >= 0.1 else ""


def _driver(tick: Tick, plan: Plan) -> Iterator[Step]:
    """Describe who drives, if there are several drivers."""
    if not plan.below:
        return
    lower = next((one for one in plan.below if one.name == tick.driver), None)
    share = f" at {100 * lower.share:.0f} % of all speeds" if lower is not None and lower.share != 1.0 else ""
    whose = (
        "" if lower is None or lower.controls else f", and sends velocities; the controls are those of {plan.driver}"
    )
    yield Step("driver", f"{tick.driver}{share}{whose}")


def _source(tick: Tick) -> Step:
    frame = tick.frame
    if frame is None:
        return Step("source", "nothing has come yet")
    age = tick.time - frame.time
    came = "a frame came with this tick" if tick.new_frame else f"the newest frame is {1000 * age:.0f} ms old"
    link = f"; it reports: {frame.note}" if frame.note else ""
    link += f"; {frame.counts.bad} broken and {frame.counts.lost} lost so far" if frame.counts is not None else ""
    return Step("source", came + ("" if frame.link_good else "; its link is not good") + link, {"age": age})


def _controls(tick: Tick, plan: Plan, mode: ModePlan) -> Iterator[Step]:
    """Describe each control that drives in this mode or must be held."""
    wanted = [*mode.style.controls(), *(name for name in (plan.guard.hold_to_run, plan.guard.stop) if name)]
    sticks = {name: stick for stick in plan.sticks if stick.zone != "axes" for name in (stick.x, stick.y)}
    controls = {control.name: control for control in _controls_of(tick, plan)}
    for name in dict.fromkeys(wanted):
        if name in controls and name in tick.positions:
            drives = name in mode.style.controls()
            yield _control(tick, controls[name], sticks.get(name), drives)


def _controls_of(tick: Tick, plan: Plan) -> tuple[ControlPlan, ...]:
    """Return the controls of the present driver; for a script, those of the first in rank."""
    return next((lower.controls for lower in plan.below if lower.name == tick.driver and lower.controls), plan.controls)


def _control(tick: Tick, control: ControlPlan, stick: StickPlan | None, drives: bool) -> Step:
    name, travel = control.name, control.travel
    raw, position = tick.raw.get(name, math.nan), tick.positions[name]
    numbers = {"raw": raw, "low": travel.low, "high": travel.high, "position": position}
    text = f"{_seen(tick, control)}, {_signed(position)} of its travel"
    if not drives:
        held = position >= HELD_FROM
        return Step(f"control {name}", f"{text}: {'held' if held else 'not held'}", numbers)
    shaped = tick.shaped.get(name, 0.0)
    zone = control.dead_zone if stick is None else stick.dead_zone
    numbers |= {"dead_zone": zone, "shaped": shaped}
    return Step(f"control {name}", f"{text}; {_shaping(tick, control, stick, zone)}, so {_signed(shaped)}", numbers)


def _signed(share: float) -> str:
    return "0" if abs(share) < 0.0005 else f"{share:+z.3f}"


def _seen(tick: Tick, control: ControlPlan) -> str:
    """Describe the number that the device sends, and its range."""
    raw, *opposite = (tick.raw.get(name, math.nan) for name in control.raw_names)
    if not math.isfinite(raw):
        return f"{control.reads} sends no number"
    travel = control.travel
    # The log may have been made with another calibration than that of this profile.
    measured_so = bool(opposite) or abs(travel.position(raw) - tick.positions[control.name]) < _SAME
    ends = f" of {travel.low:g}…{travel.high:g}" if measured_so else ""
    down = " (it counts down)" if travel.reverse else ""
    other = "".join(f", {reads} {number:g}" for reads, number in zip(control.all_reads[1:], opposite, strict=True))
    return f"{control.reads} sends {raw:g}{ends}{down}{other}"


def _shaping(tick: Tick, control: ControlPlan, stick: StickPlan | None, zone: float) -> str:
    """Describe how a position was shaped."""
    position, shaped = tick.positions[control.name], tick.shaped.get(control.name, 0.0)
    trim = tick.chosen.trims.get(control.name, 0.0)
    trimmed = f", trim {trim:+.3g}" if trim else ""
    if stick is not None:
        where = f"{stick.zone} dead zone of {zone:g} for the stick"
        inside = abs(shaped - trim) < _SAME
        return f"inside the {where}{trimmed}" if inside else f"beyond the {where}, {_curve(control, tick)}{trimmed}"
    after = shaping.dead_zone(position, control.dead_zone, control.outer_dead_zone)
    if after == 0.0 and abs(shaped - trim) < _SAME:
        return (f"inside the dead zone of {zone:g}" if position else "at rest") + trimmed
    beyond = f"beyond the dead zone of {zone:g}, {_curve(control, tick)}{trimmed}" if zone else _curve(control, tick)
    to_come = float(control.shape_for(tick.chosen.rates)(after)) + trim
    if control.remembers and abs(to_come - shaped) > _SAME:
        return f"{beyond}, {to_come:+z.3f} when smoothing, ramps and hysteresis have followed"
    return beyond


def _curve(control: ControlPlan, tick: Tick) -> str:
    shape: Shape = control.shape_for(tick.chosen.rates)
    rates = f" ({tick.chosen.rates})" if control.rates else ""
    made = shape.curve.words() if shape.curve is not None else "straight"
    return made + rates + (f", times {shape.scale:g}" if shape.scale != 1.0 else "")


def _intent(tick: Tick, mode: ModePlan) -> Step:
    numbers = tick.intent._asdict()
    text = ", ".join(f"{name} {value:+z.3f}" for name, value in numbers.items() if value) or "nothing"
    why = _style_cause(tick, mode)
    return Step("intent", f"{text}: {why}" if why else text, numbers)


def _style_cause(tick: Tick, mode: ModePlan) -> str:
    """Describe what the style reduces; empty if another driver's velocity counts, or a control is missing."""
    if not set(mode.style.controls()) <= set(tick.shaped) or not any(tick.intent):
        return ""
    return mode.style.cause(tick.shaped)


def _demand(tick: Tick, plan: Plan, mode: ModePlan) -> Step:
    chosen = tick.chosen
    said = [f"mode {chosen.mode}"] if chosen.mode else []
    said += [f"rates {chosen.rates}"] if chosen.rates else []
    said += [f"{100 * chosen.level:.0f} % of all speeds"] if chosen.level != 1.0 else []
    speeds, units = mode.speeds, plan.chassis.units
    ahead, back = (units.speed.shown(speed, "g") for speed in (speeds.forward, speeds.backward))
    ends = f"full speeds: {ahead} forward, {back} back"
    ends += f", {units.turn.shown(speeds.turn, 'g')} turning" if speeds.turn else ""
    text = f"{velocity_in_words(tick.demand, units)}; {', '.join([*said, ends])}"
    return Step("demand", text, {**tick.demand._asdict(), "level": chosen.level})


def _guard(tick: Tick, since: Mapping[str, float]) -> Step:
    why = "; ".join(f"{reason.text}{_for(since, reason.code)}" for reason in tick.guard.reasons)
    return Step("guard", f"{tick.guard.state}: {why}" if why else str(tick.guard.state))


def _target(tick: Tick, plan: Plan) -> Step:
    if tick.target == tick.demand:
        return Step("target", "unchanged: the vehicle can do that", tick.target._asdict())
    why = cause(plan.chassis, tick.demand, plan.priority) or "reduced to what the vehicle can do"
    return Step("target", f"{velocity_in_words(tick.target, plan.chassis.units)}: {why}", tick.target._asdict())


def _command(tick: Tick, plan: Plan, mode: ModePlan) -> Step:
    units = plan.chassis.units
    words = velocity_in_words(tick.command, units)
    if tick.guard.state is State.DRIVING:
        text = f"{words}: {'; '.join(_on_the_way(tick, plan, mode))}" if tick.command != tick.target else words
    elif tick.command != STANDSTILL:
        text = f"{words}: slowing down at {units.acceleration.shown(plan.guard.stop_deceleration, 'g')}"
    else:
        text = words
    return Step("command", text, tick.command._asdict())


def _on_the_way(tick: Tick, plan: Plan, mode: ModePlan) -> list[str]:
    """Describe the limits of each axis that has not reached its target."""
    said = []
    way, limits, units = plan.chassis.ramp_way, mode.limits, plan.chassis.units
    for axis, word, limit in on_the_way(tick.command, tick.target, limits):
        if axis == "yaw_rate" and isinstance(way, Arcs) and way.rate < math.inf:
            end, rate = units.turn.shown(tick.target.yaw_rate, "+.3g"), units.turn.shown(way.rate, "g")
            said.append(f"turning is ramping to {end}: the wheels steer at {rate}")
            continue
        end = units.of(axis).shown(getattr(tick.target, axis), "+.3g")
        rate = units.change_of(axis).shown(limit, "g")
        said.append(f"{_AXES[axis]} is ramping to {end} at {rate} ({word})")
    if said and limits.smoothing > 0.0:
        said.append("an S-curve limits it (limits.jerk)")
    return said


def _actuators(tick: Tick, plan: Plan) -> Step:
    # The profile may be that of another vehicle: an unknown actuator has a plain number.
    known = {name: one.quantity for name, one in plan.chassis.bounds().items()}
    text = ", ".join(
        f"{name} {known.get(name, Quantity.SHARE).in_words(value)}" for name, value in tick.actuators.items()
    )
    text += "" if tick.power else "; without power"
    text += "" if tick.send else "; nothing is sent: the far end has its own failsafe"
    return Step("actuators", text, dict(tick.actuators))


def _outputs(tick: Tick, mode: ModePlan) -> Step:
    used = {output.name for output in mode.outputs}
    levels = (
        f"{name} {level:g}{'' if name in used else ' (not in this mode)'}" for name, level in tick.outputs.items()
    )
    stands = "" if tick.guard.state is State.DRIVING else "; each is idle or keeps its level, as the profile says"
    return Step("outputs", ", ".join(levels) + stands, dict(tick.outputs))


def _answer(tick: Tick, plan: Plan, mode: ModePlan) -> str:
    """Describe in one sentence why it stands, or why it is not faster."""
    state, words = tick.guard.state, velocity_in_words(tick.command, plan.chassis.units)
    if state is not State.DRIVING:
        why = "; ".join(reason.text for reason in tick.guard.reasons)
        return f"it stands: {why}" if tick.command == STANDSTILL else f"it is being stopped, {words}: {why}"
    stands = next((notice.text for notice in tick.notices if notice.code == Code.FAR_END_STANDS), "")
    if stands:
        return f"it is commanded to go {words}, but {stands}"
    if tick.command == tick.demand == STANDSTILL:
        return "it may move, but there is no demand: " + _no_wish(tick, mode)
    return f"it goes {words}, and not faster because " + _no_faster(tick, plan, mode)


def _no_wish(tick: Tick, mode: ModePlan) -> str:
    waits = next((notice.text for notice in tick.notices if notice.code == Code.MODE_THROUGH_REST), "")
    away = [name for name in mode.style.controls() if abs(tick.positions.get(name, 0.0)) > _SAME]
    return waits or (f"{', '.join(away)} within the dead zone" if away else "all sticks are at rest")


def _no_faster(tick: Tick, plan: Plan, mode: ModePlan) -> str:
    """Describe the first cause that limits it. Each stage reports its own cause."""
    if tick.command != tick.target:
        return "; ".join(_on_the_way(tick, plan, mode))
    near = [notice.text for notice in tick.notices if notice.code in (Code.NEAR, Code.DISTANCE_UNKNOWN)]
    if near:
        return "; ".join(near)
    if tick.target != tick.demand:
        return cause(plan.chassis, tick.demand, plan.priority) or "the vehicle cannot"
    asked = {name: abs(tick.shaped.get(name, 0.0)) for name in mode.style.controls()}
    if tick.driver and not any(asked.values()):
        return f"{tick.driver} demands no more"
    causes = [_style_cause(tick, mode), _stick_cause(tick, asked), _share_cause(tick, plan)]
    if tick.chosen.level < 1.0:
        causes.append(f"the speed level is {100 * tick.chosen.level:.0f} %")
    said = [cause for cause in causes if cause]
    if said:
        return "; ".join(said)
    name = f" of mode {tick.chosen.mode}" if tick.chosen.mode else ""
    most = max(asked, key=lambda one: asked[one], default="")
    if _at_full_speed(tick, mode):
        return f"{most} is at its end: this is full speed{name}"
    return f"{most} is at its end, and the style computes {_intent(tick, mode).text} from all sticks"


def _stick_cause(tick: Tick, asked: Mapping[str, float]) -> str:
    """Report that no stick is at its end."""
    most = max(asked, key=lambda name: asked[name], default="")
    if asked.get(most, 0.0) >= 1.0 - _SAME:
        return ""
    position, shaped = _signed(tick.positions[most]), _signed(tick.shaped[most])
    return f"{most} demands no more: {position} of its travel is {shaped} after shaping"


def _share_cause(tick: Tick, plan: Plan) -> str:
    """Report that a driver of lower rank gets only a share of the speeds."""
    share = next((lower.share for lower in plan.below if lower.name == tick.driver), 1.0)
    return f"{tick.driver} gets {100 * share:.0f} % of all speeds" if share < 1.0 else ""


def _at_full_speed(tick: Tick, mode: ModePlan) -> bool:
    """Return whether any component of the demand is at its full speed."""
    ends = mode.speeds.along(tick.demand)
    return any(0.0 < most <= abs(part) + 1e-4 for part, most in zip(tick.demand, ends, strict=True))
