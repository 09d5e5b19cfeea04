"""Hold-to-run and the emergency stop of one device: one control, two that must agree, or one with three positions.

Two channels that disagree for longer than the discrepancy time are a fault until both were seen off: one of them is
stuck, or its wire is cut (as in ISO 13849-1, category 3). An enabling device with three positions (IEC 60204-1, 10.9)
permits in the middle one only: a hand that cramps presses it through, and that is a release. It permits again after a
complete release.
"""

from __future__ import annotations

import math
from collections.abc import Mapping

from tenuto.basics.frame import ROUNDING_TIME
from tenuto.basics.reasons import Code, Condition, Reason
from tenuto.driving.guard import GuardSettings

# A control counts as held from this share of its travel.
HELD_FROM = 0.5


class Pair:
    """Two controls with the same function."""

    def __init__(self, one: str, other: str, within: float) -> None:
        """Set their names, and how long they may disagree, s."""
        self._one, self._other, self._within = one, other, within
        self._since: float | None = None
        self._stuck = False

    def step(self, positions: Mapping[str, float], time: float) -> tuple[Reason, ...]:
        """Take the positions of a good frame; return whether they disagree, or did and have not been off since."""
        on = positions[self._one] >= HELD_FROM, positions[self._other] >= HELD_FROM
        if on[0] is on[1]:
            self._since = None
            self._stuck = self._stuck and on[0]
        elif self._since is None:
            self._since = time
        if self._since is not None and time - self._since > self._within + ROUNDING_TIME:
            self._stuck = True
        if not self._stuck:
            return ()
        off = self._other if on[0] else self._one
        text = f"{self._one} and {self._other} disagree: {off} is off; release both"
        if on[0] is on[1]:
            text = f"{self._one} and {self._other} disagreed: release both"
        return (Condition(Code.CHANNELS_DISAGREE, text, f"{self._one} and {self._other} disagreed"),)


class Holding:
    """The state of hold-to-run and the emergency stop of one device.

    Attributes:
        plain: it is one control that is held or not. faults: what is wrong with them in the newest good frame.
    """

    def __init__(self, guard: GuardSettings) -> None:
        self._hold, self._second, self._through_from = guard.hold_to_run, guard.hold_to_run_2, guard.pressed_through
        self._through = False
        pairs = ((guard.hold_to_run, guard.hold_to_run_2), (guard.emergency_stop, guard.emergency_stop_2))
        self._pairs = tuple(Pair(one, other, guard.discrepancy_time) for one, other in pairs if one and other)
        self.plain = not self._pairs and guard.pressed_through == math.inf
        self.faults: tuple[Reason, ...] = ()

    def held(self, positions: Mapping[str, float], time: float) -> bool:
        """Take the positions of a good frame; return whether hold-to-run permits."""
        if self._hold is None:
            permits = True
        else:
            position = positions[self._hold]
            permits = position >= HELD_FROM
            if not self.plain:
                self._through = permits and (self._through or position >= self._through_from)
                permits = permits and not self._through
        if self._second is not None:
            permits = permits and positions[self._second] >= HELD_FROM
        if self._pairs:
            self.faults = tuple(reason for pair in self._pairs for reason in pair.step(positions, time))
        return permits
