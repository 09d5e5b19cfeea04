"""Signals for the driver by rumble or bell: enabled, link lost, handed over, near an obstacle."""

from __future__ import annotations

import math
from typing import NamedTuple

from tenuto.basics.reasons import LINK_CODES, Code
from tenuto.driving.guard import State
from tenuto.driving.tick import Tick

# While the robot is being slowed down, the signal is repeated at this interval, s.
_AGAIN = 0.5


class Cue(NamedTuple):
    """One signal.

    Attributes:
        name: "enabled", "link lost", "handed over" or "near".
        strength: of a rumble, 0…1. seconds: how long.
    """

    name: str
    strength: float
    seconds: float


class Cues:
    """Derives the signals from consecutive ticks."""

    def __init__(self) -> None:
        self._state = State.NOT_ENABLED
        self._driver = ""
        self._told = -math.inf

    def step(self, tick: Tick) -> Cue | None:
        """Return the most urgent signal of this tick, or None."""
        before, driver = self._state, self._driver
        self._state, self._driver = tick.guard.state, tick.driver
        driving = tick.guard.state is State.DRIVING
        if before is State.DRIVING and not driving:
            lost = any(reason.code in LINK_CODES for reason in tick.guard.reasons)
            return Cue("link lost", 1.0, 0.8) if lost else None
        if driving and before is not State.DRIVING:
            return Cue("enabled", 0.4, 0.15)
        if driving and driver != tick.driver:
            return Cue("handed over", 0.7, 0.3)
        near = driving and any(notice.code in (Code.NEAR, Code.DISTANCE_UNKNOWN) for notice in tick.notices)
        if near and tick.time - self._told >= _AGAIN:
            self._told = tick.time
            return Cue("near", 0.5, 0.1)
        return None
