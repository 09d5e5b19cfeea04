"""What the sticks of a mode can ask for: each control at rest and at its ends, alone and with others."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import combinations, product

from tenuto.driving.modes import ModePlan
from tenuto.driving.plan import Plan
from tenuto.styles.base import Setting
from tenuto.vehicles.actuators import middle_angle
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# Each motion: its axis of the velocity, and its sign.
MOTIONS = {
    "forward": (0, 1.0), "backward": (0, -1.0), "left": (1, 1.0), "right": (1, -1.0), "up": (2, 1.0),
    "down": (2, -1.0), "turning left": (3, 1.0), "turning right": (3, -1.0),
}  # fmt: skip
# The motions that a key of ``[speeds]`` is for.
MOTIONS_OF = {
    "forward": ("forward",), "backward": ("backward",), "sideways": ("left", "right"), "up": ("up",),
    "down": ("down",), "turn": ("turning left", "turning right"),
}  # fmt: skip
# A smaller demand is a rounding error, m/s and rad/s.
_NOTHING = 1e-9
# Up to this number of controls, all are moved to their ends together.
_ALL_TOGETHER = 4


def opposites(motions: Iterable[str]) -> frozenset[str]:
    """Return the motions of the other direction."""
    wanted = {(axis, -sign) for axis, sign in map(MOTIONS.__getitem__, motions)}
    return frozenset(name for name, motion in MOTIONS.items() if motion in wanted)


def motions_asked(plan: Plan, mode: ModePlan) -> frozenset[str]:
    """Return the motions, see `MOTIONS`, that the sticks of a mode can ask for with any kind of steering."""
    asked = set[str]()
    for demand, _ in demands(plan, mode):
        asked |= {name for name, (axis, sign) in MOTIONS.items() if demand[axis] * sign > _NOTHING}
    return frozenset(asked)


def most_asked(plan: Plan, mode: ModePlan) -> dict[str, float]:
    """Return the largest value of each actuator and axle that the sticks of a mode can ask for, in its unit."""
    chassis, axles, most = plan.chassis, plan.chassis.axles(), dict[str, float]()
    for demand, aim in demands(plan, mode):
        standing = chassis.actuators(STANDSTILL, aim=chassis.within_reach(aim)[0] if aim is not None else None)
        for values in (chassis.actuators(chassis.within_reach(demand)[0]), standing):
            found = values | {name: middle_angle(*(values[one] for one in axle.of)) for name, axle in axles.items()}
            most |= {name: max(most.get(name, 0.0), abs(value)) for name, value in found.items()}
    return most


def demands(plan: Plan, mode: ModePlan) -> Iterator[tuple[VelocityCommand, VelocityCommand | None]]:
    """Yield what the sticks of a mode ask for at their ends, with any kind of steering: the velocity, and the aim."""
    style, rest = mode.style, {control.name: 0.0 for control in plan.controls}
    for steering in plan.selection.steering.order:
        setting = Setting(steering=steering or Setting().steering)
        for way in _ways(plan, mode):
            shaped = rest | way
            intent = style.intent(shaped)
            yield style.demand(intent, mode.speeds, setting, shaped), style.aim(intent, setting)


def _ways(plan: Plan, mode: ModePlan) -> Iterator[dict[str, float]]:
    """Yield the shaped positions of every control at rest and at its ends; of many controls, two at a time."""
    driving = set(mode.style.controls())
    ends = {
        control.name: tuple(control.shape(end) for end in ((1.0, 0.0) if control.one_way else (1.0, 0.0, -1.0)))
        for control in plan.controls if control.name in driving
    }  # fmt: skip
    together = [tuple(ends)] if len(ends) <= _ALL_TOGETHER else list(combinations(ends, 2))
    for names in together:
        yield from (dict(zip(names, at, strict=True)) for at in product(*(ends[name] for name in names)))
