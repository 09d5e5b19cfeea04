"""The data of the page, as JSON: of a robot once, and of each tick. From the same scene as the terminal's view."""

from __future__ import annotations

import math
from typing import Any

from tenuto.basics.reasons import Code, Reason
from tenuto.driving.plan import HELD_FROM, Plan
from tenuto.driving.preflight import checks_of
from tenuto.driving.tick import Tick
from tenuto.protocols.page import BUTTONS, LAYOUT, STICKS, TRIGGERS, controls_of, knobs_of, rests_of, springs_of
from tenuto.sticks.control import ControlPlan
from tenuto.vehicles.outline import outline
from tenuto.views.scene import Pad, Scene, scene_of

# Digits of numbers that are drawn.
_DIGITS = 4
_TODO = {str(code): code.todo for code in Code}


def device_facts() -> dict[str, Any]:
    """Describe the page without a robot: the sticks and buttons of a gamepad, to be watched or measured."""
    left, right = (Pad(f"{side}_x", f"{side}_y", 0.0, True)._asdict() for side in ("left", "right"))
    names = {name: True for name in (*TRIGGERS, *BUTTONS)} | dict.fromkeys(STICKS, False)
    return {
        "type": "device",
        "controls": [{"name": name, "reads": name, "minus": "", "one_way": one_way, "reversed": False,
                      "rest": 0.0, "first": 0.0, "last": 1.0}
                     for name, one_way in names.items()],
        "sticks": [left, right],
        "sliders": [{"name": name, "one_way": True, "springs": True, "fine": True, "label": name} for name in TRIGGERS],
        "buttons": [{"name": name, "role": "", "stays": False, "label": name} for name in BUTTONS],
        "holds": [],
        "grip": 1.0,
    }  # fmt: skip


def robot_facts(plan: Plan, title: str, origin: str, driver: str = "") -> dict[str, Any]:
    """Describe a robot for the page, once: its sticks and buttons, its drawing, its units.

    Args:
        plan, title, origin: see `tenuto.views.scene.Scene`. driver: whose seat it is; empty for the first in rank.
    """
    scene = scene_of(plan, title, origin)
    controls, _ = controls_of(plan, driver)
    rests = rests_of(plan, controls)
    drawing, units = plan.chassis.drawing(), scene.units
    return {
        "title": title,
        "origin": origin,
        "units": {what: {"name": unit.name, "scale": unit.scale} for what, unit in
                  (("speed", units.speed), ("turn", units.turn))} | {"known": units.known},
        "speeds": {mode: _clean(list(ends)) for mode, ends in scene.speeds.items()},
        "outline": _clean([list(corner) for corner in outline(drawing)]),
        "radius": drawing.radius,
        "parts": [part._asdict() for part in drawing.parts],
        "ends": _clean(scene.ends),
        "quantity_units": {name: quantity.shown._asdict() for name, quantity in scene.quantities.items()},
        "controls": [_control(control, at, plan) for control, at in zip(controls, rests.values(), strict=True)],
        **_widgets(plan, scene, controls),
    }  # fmt: skip


def _control(control: ControlPlan, rest: float, plan: Plan) -> dict[str, Any]:
    """Describe how a gamepad moves it, and where its travel begins for a key.

    A gamepad moves it by the name of the device's control, and by whether the profile reverses it. A key is exact and
    needs no dead zone: its steps begin where the dead zone of the replaced device ends.
    """
    zoned = next((one for one in plan.sticks if one.zone != "axes" and control.name in (one.x, one.y)), control)
    pad = next((info for info in LAYOUT if info.name == control.reads), None)
    return {
        "name": control.name,
        "reads": control.reads,
        "minus": control.minus.reads if control.minus is not None else "",
        "one_way": control.one_way,
        "reversed": pad is not None and control.travel.reverse != pad.counts_down,
        "rest": rest,
        "first": zoned.dead_zone + zoned.hysteresis,
        "last": 1.0 - zoned.outer_dead_zone,
    }


def _widgets(plan: Plan, scene: Scene, controls: tuple[ControlPlan, ...]) -> dict[str, Any]:
    """Assign the controls to sticks, sliders and buttons."""
    guard, driving = plan.guard, plan.driving_controls()
    springs, knobs = springs_of(plan, controls), knobs_of(plan)
    on_sticks = {name for pad in scene.pads for name in (pad.x, pad.y)}
    holds = [name for name in (guard.hold_to_run, guard.hold_to_run_2) if name is not None]
    # Of a grip with three positions the middle one.
    grip = 1.0 if not math.isfinite(guard.pressed_through) else (HELD_FROM + guard.pressed_through) / 2.0
    roles: dict[str | None, str] = {guard.emergency_stop: "emergency", guard.emergency_stop_2: "emergency",
                                    guard.stop: "stop", guard.reset: "reset", guard.enable: "enable",
                                    guard.takes_over: "takes over"}  # fmt: skip
    reads: dict[str, list[str]] = {}
    for switch in plan.selection.switches:
        if switch.reads and switch.name != switch.reads:
            reads.setdefault(switch.reads, []).append(switch.name)
    buttons, sliders = [], []
    for control in controls:
        if control.name in holds or control.name in on_sticks:
            continue
        label = ", ".join(reads.get(control.name, [control.name]))
        if control.name in driving or not control.one_way:
            back = control.name in springs
            sliders.append({"name": control.name, "one_way": control.one_way, "springs": back, "label": label,
                            "fine": back or control.name in knobs})  # fmt: skip
            continue
        role = next((roles[name] for name in (control.name, *reads.get(control.name, ())) if name in roles), "")
        stays = (guard.enable_stays and role == "enable") or control.name in {one.permit for one in plan.below}
        buttons.append({"name": control.name, "role": role, "stays": stays, "label": label})
    return {
        "sticks": [pad._asdict() for pad in scene.pads],
        "sliders": sliders,
        "buttons": buttons,
        "holds": holds,
        "grip": grip,
    }


def tick_facts(scene: Scene, tick: Tick, driven: bool) -> dict[str, Any]:
    """Describe a tick for the page, the same as the terminal's view.

    Args:
        scene: of the robot. tick: the newest.
        driven: the robot has been driven in this drive; before that, the checks are included.
    """
    chosen = tick.chosen
    neutral = scene.neutral
    return {
        "t": round(tick.time, 3),
        "state": tick.state,
        "guard": str(tick.guard.state),
        "reasons": [_reason(reason) for reason in tick.guard.reasons],
        "notices": [_reason(notice) for notice in tick.notices],
        "actions": list(tick.actions),
        "driver": tick.driver,
        "hands": bool(tick.hands),
        "chosen": {"mode": chosen.mode, "rates": chosen.rates, "steering": chosen.steering, "level": chosen.level},
        "controls": {
            name: _clean([tick.raw.get(name, math.nan), position, tick.shaped.get(name, 0.0)])
            for name, position in tick.positions.items()
        },
        "demand": _clean(tick.demand._asdict()),
        "command": _clean(tick.command._asdict()),
        "actuators": _clean(dict(tick.actuators)),
        "outputs": _clean(dict(tick.outputs)),
        "power": tick.power,
        "link": _link(tick),
        "far": {name: {"text": one.in_words(tick.time), "follows": one.follows,
                       "pose": _clean([one.x, one.y, one.heading])} for name, one in tick.far.items()},
        "checks": [check._asdict() for check in (checks_of(tick, neutral) if neutral and not driven else ())],
    }  # fmt: skip


def _link(tick: Tick) -> dict[str, Any]:
    frame = tick.frame
    if frame is None:
        return {"age": None, "counts": None, "signal": None}
    return {
        "age": round(tick.time - frame.time, 3),
        "counts": list(frame.counts) if frame.counts is not None else None,
        "signal": list(frame.signal) if frame.signal is not None else None,
    }


def _reason(reason: Reason) -> dict[str, str]:
    return {"code": str(reason.code), "text": reason.text, "todo": _TODO.get(str(reason.code), "")}


def _clean(value: Any) -> Any:
    """Return numbers for JSON: short, and None for NaN."""
    if isinstance(value, dict):
        return {name: _clean(one) for name, one in value.items()}
    if isinstance(value, list):
        return [_clean(one) for one in value]
    return round(value, _DIGITS) + 0.0 if math.isfinite(value) else None
