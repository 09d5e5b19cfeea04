"""What the live view has to know of a robot, once: small, and fit to be sent to another process."""

from __future__ import annotations

import math
from typing import NamedTuple

from tenuto.driving.plan import Plan


class Pad(NamedTuple):
    """A square with a dot: two controls, and their dead zone.

    Attributes:
        x, y: controls; to the left and up are positive. dead_zone: a share of the travel. round: it is a circle.
    """

    x: str
    y: str
    dead_zone: float
    round: bool


class ControlView(NamedTuple):
    """One control in the list: its name, what the device calls it, and what it does: "drives", "holds" or "stops"."""

    name: str
    reads: str
    role: str


class Scene(NamedTuple):
    """A robot, its sticks and its ends.

    Attributes:
        title: the robot's name. origin: where frames come from, and where commands go.
        controls: in the order of the profile. pads: sticks to draw. ends: actuator → its end, rad/s, rad, N or a share.
        forward, turn: full speeds, m/s and rad/s. period, link_timeout: s.
    """

    title: str
    origin: str
    controls: tuple[ControlView, ...]
    pads: tuple[Pad, ...]
    ends: dict[str, float]
    forward: float
    turn: float
    period: float
    link_timeout: float


def scene_of(plan: Plan, title: str, origin: str) -> Scene:
    """Make the scene of a plan."""
    driving = plan.driving_controls()
    roles: dict[str | None, str] = dict.fromkeys(driving, "drives")
    guard = plan.guard
    roles |= dict.fromkeys((guard.stop, guard.emergency_stop, guard.emergency_stop_2), "stops")
    roles |= dict.fromkeys((guard.hold_to_run, guard.hold_to_run_2), "holds")
    reads = {control.name: control.reads for control in plan.controls}
    controls = tuple(
        ControlView(name, reads[name], role) for name, role in roles.items() if name is not None and name in reads
    )
    ends = {name: bounds.most for name, bounds in plan.chassis.bounds().items()}
    full = plan.full_speeds()
    turn = full.turn if math.isfinite(full.turn) else 0.0
    return Scene(
        title, origin, controls, _pads(plan), ends, full.forward, turn, plan.period, plan.guard.link_timeout,
    )  # fmt: skip


def _pads(plan: Plan) -> tuple[Pad, ...]:
    """Pair controls to sticks: as the profile does, as the device calls them, or the two that drive."""
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
    # Of two that are left the first drives, and so is the one that goes up.
    pads += [Pad(x, y, max(zones[x], zones[y]), False) for y, x in zip(rest[::2], rest[1::2], strict=False)]
    return tuple(pads[:2])
