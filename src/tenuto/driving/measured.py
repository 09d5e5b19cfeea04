"""Measured speeds of an encoder or a gyroscope, compared with the command.

A robot that does not follow its command (a stuck motor driver, a slipping encoder, a runaway wheel)
cannot be stopped by a command. So the stop is of category 0: the power is removed.
"""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass

from tenuto.basics.frame import Frame, real
from tenuto.basics.reasons import Code, Condition, Reason
from tenuto.driving.input_plan import InputPlan
from tenuto.vehicles.units import METRIC
from tenuto.vehicles.velocity import VelocityCommand

# The measured axis: its index in the command.
MEASURED = {"forward": 0, "sideways": 1, "up": 2, "turn": 3}


@dataclass(frozen=True, slots=True, kw_only=True)
class MeasuredPlan(InputPlan):
    """One measured speed.

    Attributes:
        of: what it measures, a key of `MEASURED`. scale: m/s or rad/s for a number of 1; negative to reverse it.
        tolerance: how far it may be from the command, m/s or rad/s.
        within: how long the robot takes to follow, at most, s.
    """

    of: str
    scale: float
    tolerance: float
    within: float


class Measured:
    """The state of one measured speed. While the outputs have power, it must be received and must match."""

    def __init__(self, plan: MeasuredPlan) -> None:
        self.plan = plan
        self._axis = MEASURED[plan.of]
        self._unit = METRIC.of(VelocityCommand._fields[self._axis])
        self._heard = -math.inf
        # The newest speed, after the others since the last tick; NaN for one that is not a number.
        self._speeds: list[float] = [math.nan]
        self._oldest = -math.inf
        # The time of each command, s, and its speed along the axis. The first one is the oldest that may still apply.
        self._commands: deque[tuple[float, float]] = deque([(-math.inf, 0.0)])

    def hear(self, frames: Sequence[Frame]) -> None:
        """Take the frames of its source since the last tick, oldest first. What is not a number counts as silence."""
        self._speeds = self._speeds[-1:]
        for number, frame in enumerate(frames):
            value = real(frame.values.get(self.plan.reads, math.nan))
            good = frame.link_good and math.isfinite(value)
            self._heard = frame.time if good else -math.inf
            speed = value * self.plan.scale if good else math.nan
            self._speeds = [speed] if number == 0 else [*self._speeds, speed]
        self._oldest = frames[0].time if frames else math.inf

    def reason(self, now: float) -> Reason | None:
        """Return why it is silent or does not match; None if it is correct; ``now`` in s."""
        plan, commands = self.plan, self._commands
        # Each speed is compared with the commands of its own time.
        since = min(now, max(self._oldest, now - plan.timeout)) - plan.within
        while len(commands) > 1 and commands[1][0] <= since:
            commands.popleft()
        if not 0.0 <= now - self._heard <= plan.timeout or any(map(math.isnan, self._speeds)):
            text = f"{plan.name} is silent: no measured speed within {plan.timeout:g} s"
            return Condition(Code.SPEED_UNKNOWN, text, f"{plan.name} was silent for more than {plan.timeout:g} s")
        told = [speed for _, speed in commands]
        low, high = min(told), max(told)
        wrong = [speed for speed in self._speeds if not low - plan.tolerance <= speed <= high + plan.tolerance]
        if not wrong:
            return None
        asked = self._unit.shown(high) if low == high else f"{self._unit.number(low)} to {self._unit.shown(high)}"
        what = f"{plan.of} is measured at {self._unit.shown(wrong[-1])}"
        text = f"{asked} was commanded in the last {plan.within:g} s: the power is off ({plan.name})"
        return Condition(Code.SPEED_WRONG, f"{what}, but {text}", f"{plan.of} was not as commanded ({plan.name})")

    def sent(self, command: VelocityCommand, now: float) -> None:
        """Record a command; ``now`` in s."""
        speed = command[self._axis]
        if speed != self._commands[-1][1]:
            # The previous one lasted until now, and the robot may leave it as slowly as it follows this one.
            self._commands.append((now, speed))
