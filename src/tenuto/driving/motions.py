"""The motions that the sticks of a mode can ask for: each control at its ends, alone and with each other one."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import combinations

from tenuto.driving.modes import ModePlan
from tenuto.driving.plan import Plan
from tenuto.styles.base import Setting

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


def opposites(motions: Iterable[str]) -> frozenset[str]:
    """Return the motions of the other direction."""
    wanted = {(axis, -sign) for axis, sign in map(MOTIONS.__getitem__, motions)}
    return frozenset(name for name, motion in MOTIONS.items() if motion in wanted)


def motions_asked(plan: Plan, mode: ModePlan) -> frozenset[str]:
    """Return the motions, see `MOTIONS`, that the sticks of a mode can ask for with any kind of steering."""
    style, asked = mode.style, set[str]()
    rest = {control.name: 0.0 for control in plan.controls}
    for steering in plan.selection.steering.order:
        setting = Setting(steering=steering or Setting().steering)
        for way in _ways(plan, mode):
            shaped = rest | way
            demand = style.demand(style.intent(shaped), mode.speeds, setting, shaped)
            asked |= {name for name, (axis, sign) in MOTIONS.items() if demand[axis] * sign > _NOTHING}
    return frozenset(asked)


def _ways(plan: Plan, mode: ModePlan) -> Iterator[dict[str, float]]:
    """Yield the shaped positions of one control at an end, and of two."""
    driving = set(mode.style.controls())
    ends = [
        (control.name, control.shape(end))
        for control in plan.controls if control.name in driving
        for end in ((1.0,) if control.one_way else (1.0, -1.0))
    ]  # fmt: skip
    yield from ({name: shaped} for name, shaped in ends)
    yield from (dict(pair) for pair in combinations(ends, 2) if pair[0][0] != pair[1][0])
