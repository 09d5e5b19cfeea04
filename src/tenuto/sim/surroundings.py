"""The surroundings of a pipeline in the fault campaign: a robot behind a slow and lossy line, and walls ahead of it.

The robot follows the newest valid command at once. So its sensors and encoders measure the result of the
pipeline's own commands: the loop is closed.
"""

from __future__ import annotations

import math
import random
from collections import deque
from collections.abc import Iterator
from typing import NamedTuple

from tenuto.driving.distance import TOWARDS
from tenuto.driving.plan import Plan
from tenuto.driving.tick import Tick
from tenuto.driving.watchdog import CommandWatchdog
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# The lines to the robot: loss, and delay, s.
LINES = ("good", "good", "good", "lossy", "slow", "cut")
_LOST, _LATE = 0.4, 0.08
# The greatest distance to the limit at the start, m: the robot gets there in the seconds that it is driven.
_FAR = 1.2
# Rounding of a distance, m, and of a time, s.
_SLACK, _ROUNDING = 1e-6, 1e-9


class _Sent(NamedTuple):
    """One command on its way: its arrival time, and its content."""

    due: float
    command: VelocityCommand
    valid_for: float
    power: bool


class Surroundings:
    """One robot with its surroundings.

    Attributes:
        velocity: its present one.
        gaps: distance of each sensor from the object ahead, m.
    """

    def __init__(self, plan: Plan, dice: random.Random) -> None:
        self._plan, self._dice = plan, dice
        self._watchdog = CommandWatchdog()
        self._waiting: deque[_Sent] = deque()
        self._newest = _Sent(0.0, STANDSTILL, 0.0, False)
        self._now = 0.0
        self.velocity = STANDSTILL
        self.gaps = {sensor.name: sensor.keep + dice.uniform(0.0, _FAR) for sensor in plan.distances}
        # The promised distance does not hold where the robot was stopped nearer.
        self._floors = {sensor.name: sensor.keep for sensor in plan.distances}
        self._undisturbed = True
        # The commands without the watchdog: the time of the newest, and whether one was standstill since the last
        # timeout. And since when there is no driver.
        self._came, self._stood = -math.inf, False
        self._stands_since: float | None = None

    def live(self, seconds: float, regular: bool) -> list[str]:
        """Advance the time; return what is broken by its end. It is ``regular`` while ticks come in time."""
        self._undisturbed = self._undisturbed and regular
        end = self._now + seconds
        while self._waiting and self._waiting[0].due <= end:
            sent = self._waiting.popleft()
            self._advance(sent.due)
            self._arrive(sent)
        self._advance(end)
        return [*self._near(), *self._obeyed()]

    def take(self, tick: Tick, line: str) -> list[str]:
        """Send the command of a tick over a line, and follow one that arrives at once; return what is broken."""
        if tick.command != STANDSTILL:
            self._stands_since = None
        elif self._stands_since is None:
            self._stands_since = self._now
        # Without a new command the last one holds until it is no longer valid; also if the new one is lost or late.
        self._undisturbed = self._undisturbed and tick.send and line == "good" and not self._waiting
        if tick.send and line != "cut" and not (line == "lossy" and self._dice.random() < _LOST):
            after = self._waiting[-1].due if self._waiting else self._now
            due = max(after, self._now + (_LATE if line == "slow" else 0.0))
            self._waiting.append(_Sent(due, tick.command, tick.valid_for, tick.power))
        return self.live(0.0, True)

    def die(self, seconds: float) -> list[str]:
        """Kill the program for this time: commands on their way still arrive, and then nothing."""
        self._stands_since = self._now
        return self.live(seconds, False)

    def _advance(self, to: float) -> None:
        """Move by the newest command, while it is valid."""
        began, self._now = self._now, to
        seconds = min(to, max(self._came + self._newest.valid_for, began)) - began
        for sensor in self._plan.distances:
            axis, sign = TOWARDS[sensor.towards]
            self.gaps[sensor.name] -= sign * self.velocity[axis] * seconds
        self._follow()

    def _arrive(self, sent: _Sent) -> None:
        stands = sent.command == STANDSTILL
        self._stood = (self._stood and self._now <= self._came + self._newest.valid_for + _ROUNDING) or stands
        self._watchdog.feed(self._now, sent.valid_for, stands)
        self._newest, self._came = sent, self._now
        self._follow()

    def _follow(self) -> None:
        may = self._watchdog.may_move(self._now) and self._newest.power
        self.velocity = self._newest.command if may else STANDSTILL
        if self.velocity == STANDSTILL:
            self._undisturbed = not self._waiting  # this one was sent before, and is late
            self._floors = {sensor.name: min(self.gaps[sensor.name], sensor.keep) for sensor in self._plan.distances}

    def _near(self) -> Iterator[str]:
        """It comes no nearer than promised, if no command was lost, late or missing since its standstill."""
        for name, gap in self.gaps.items():
            if self._undisturbed and gap < self._floors[name] - _SLACK:
                yield f"{name} sees {gap:.4f} m, and it keeps {self._floors[name]:.4f} m"

    def _obeyed(self) -> Iterator[str]:
        """It moves by a valid command, after a standstill, with power, and not long after nobody drives."""
        if self.velocity == STANDSTILL:
            return
        age = self._now - self._came
        if age > self._newest.valid_for + _ROUNDING or not self._stood or not self._newest.power:
            yield f"the robot moves by a command that came {age:.3f} s ago, valid for {self._newest.valid_for:g} s"
        stands = self._now - self._stands_since if self._stands_since is not None else 0.0
        if stands > self._newest.valid_for + _LATE + _ROUNDING:
            yield f"the robot moves {stands:.3f} s after the command was standstill"
