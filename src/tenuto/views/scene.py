"""The data of a robot for the live view: small, and sent once to another process."""

from __future__ import annotations

import math
from collections.abc import Sequence
from itertools import zip_longest
from typing import NamedTuple

from tenuto.driving.plan import Plan
from tenuto.driving.preflight import Check, Neutral, neutral_of
from tenuto.styles.speeds import Speeds
from tenuto.vehicles.base import Quantity
from tenuto.vehicles.units import Units

# The functions of the terminal's keys, if they do not drive the robot.
KEYS = "q stop   m mark   p pause the view   ? help"


class Pad(NamedTuple):
    """A square with a dot: two controls, and their dead zone.

    Attributes:
        x, y: controls; to the left and up are positive; empty if the stick has one axis only.
        dead_zone: a share of the travel. round: it is a circle.
    """

    x: str
    y: str
    dead_zone: float
    round: bool


class ControlView(NamedTuple):
    """One control in the list: its name, the device's name, and its function: "drives", "holds" or "stops"."""

    name: str
    reads: str
    role: str


class Scene(NamedTuple):
    """A robot, its sticks and its ends.

    Attributes:
        title: the robot's name. origin: the source of the frames, and the sinks of the commands.
        controls: in the order of the profile. pads: sticks to draw.
        ends: actuator → its end, in its unit. quantities: actuator → its quantity, which has that unit.
        speeds: mode → its speeds forward, backward and turning, m/s and rad/s; 0 if unknown.
        neutral: the expected positions of the controls before a drive. checks: those before it.
        period, link_timeout: s. units: of the shown speeds. keys: the functions of the terminal's keys.
    """

    title: str
    origin: str
    controls: tuple[ControlView, ...]
    pads: tuple[Pad, ...]
    ends: dict[str, float]
    quantities: dict[str, Quantity]
    speeds: dict[str, tuple[float, float, float]]
    period: float
    link_timeout: float
    units: Units
    keys: str = KEYS
    neutral: Neutral | None = None
    checks: tuple[Check, ...] = ()


def scene_of(plan: Plan, title: str, origin: str, keys: str = KEYS, checks: Sequence[Check] = ()) -> Scene:
    """Make the scene of a plan.

    Args:
        plan, title, origin: see `Scene`. keys: the functions of the terminal's keys.
        checks: those before the drive that are not in a tick.
    """
    driving = plan.driving_controls()
    roles: dict[str | None, str] = dict.fromkeys(driving, "drives")
    guard = plan.guard
    roles |= dict.fromkeys((guard.stop, guard.emergency_stop, guard.emergency_stop_2), "stops")
    roles |= dict.fromkeys((guard.hold_to_run, guard.hold_to_run_2), "holds")
    reads = {control.name: control.reads for control in plan.controls}
    controls = tuple(
        ControlView(name, reads[name], role) for name, role in roles.items() if name is not None and name in reads
    )
    bounds = plan.chassis.bounds()
    ends = {name: bound.most for name, bound in bounds.items()}
    quantities = {name: bound.quantity for name, bound in bounds.items()}
    speeds = {mode.name: _ends_of(mode.speeds) for mode in plan.modes}
    return Scene(
        title, origin, controls, _pads(plan), ends, quantities, speeds, plan.period, plan.guard.link_timeout,
        plan.chassis.units, keys, neutral_of(plan), tuple(checks),
    )  # fmt: skip


def _ends_of(speeds: Speeds) -> tuple[float, float, float]:
    forward, backward, turn = (
        speed if math.isfinite(speed) else 0.0 for speed in (speeds.forward, speeds.backward, speeds.turn)
    )
    return forward, backward, turn


def _pads(plan: Plan) -> tuple[Pad, ...]:
    """Pair controls to sticks: as in the profile, by the device's names, or one that drives and one that turns."""
    zones = {control.name: control.dead_zone for control in plan.controls}
    pads = [Pad(stick.x, stick.y, stick.dead_zone, stick.zone == "round") for stick in plan.sticks]
    left = [c for c in plan.controls if c.name in plan.driving_controls() and not c.one_way
            and not any(c.name in (pad.x, pad.y) for pad in pads)]  # fmt: skip
    by_reads = {control.reads: control.name for control in left}
    for side in ("left", "right"):
        x, y = by_reads.pop(f"{side}_x", None), by_reads.pop(f"{side}_y", None)
        if x and y:
            pads.append(Pad(x, y, max(zones[x], zones[y]), False))
        else:
            by_reads |= {f"{side}_{axis}": name for axis, name in (("x", x), ("y", y)) if name}
    rest = [control.name for control in left if control.name in by_reads.values()]
    upright = [name for name in rest if _upright(plan, name)]
    level = [name for name in rest if name not in upright]
    for y, x in zip_longest(upright, level, fillvalue=""):
        pads.append(Pad(x, y, max(zones[name] for name in (x, y) if name), False))
    return tuple(pads[:2])


def _upright(plan: Plan, name: str) -> bool:
    """Return whether a stick moves the robot ahead or up, like a side of a tank, rather than sideways or in a turn."""
    style = next(mode.style for mode in plan.modes if name in mode.style.controls())
    ahead, aside, up, turn = style.intent(dict.fromkeys(style.controls(), 0.0) | {name: 1.0})
    return max(abs(ahead), abs(up)) >= max(abs(aside), abs(turn))
