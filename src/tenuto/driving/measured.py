"""Measured speeds of an encoder or a gyroscope, compared with the command.

A robot that does not follow its command (a stuck motor driver, a slipping encoder, a runaway wheel)
cannot be stopped by a command. So the stop is of category 0: the power is removed.
"""

from __future__ import annotations

import math
from collections import deque
from dataclasses import dataclass

from tenuto.basics.frame import Frame
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
        self._speed = math.nan
        # The time of each command, s, and its speed along the axis. The first one is the oldest that may still apply.
        self._commands: deque[tuple[float, float]] = deque([(-math.inf, 0.0)])

    def hear(self, frame: Frame) -> None:
        """Take a frame of its source. A value that is not a number counts as silence."""
        value = frame.values.get(self.plan.reads, math.nan)
        if frame.link_good and isinstance(value, (int, float)) and math.isfinite(value):
            self._heard, self._speed = frame.time, value * self.plan.scale
        else:
            self._heard = -math.inf

    def reason(self, now: float) -> Reason | None:
        """Return why it is silent or does not match; None if it is correct; ``now`` in s."""
        plan, commands = self.plan, self._commands
        while len(commands) > 1 and commands[1][0] <= now - plan.within:
            commands.popleft()
        if not 0.0 <= now - self._heard <= plan.timeout:
            text = f"{plan.name} is silent: no measured speed within {plan.timeout:g} s"
            return Condition(Code.SPEED_UNKNOWN, text, f"{plan.name} was silent for more than {plan.timeout:g} s")
        told = [speed for _, speed in commands]
        low, high = min(told), max(told)
        if low - plan.tolerance <= self._speed <= high + plan.tolerance:
            return None
        asked = self._unit.shown(high) if low == high else f"{self._unit.number(low)} to {self._unit.shown(high)}"
        what = f"{plan.of} is measured at {self._unit.shown(self._speed)}"
        text = f"{asked} was commanded in the last {plan.within:g} s: the power is off ({plan.name})"
        return Condition(Code.SPEED_WRONG, f"{what}, but {text}", f"{plan.of} was not as commanded ({plan.name})")

    def sent(self, command: VelocityCommand, now: float) -> None:
        """Record a command; ``now`` in s."""
        speed = command[self._axis]
        if speed != self._commands[-1][1]:
            # The previous one lasted until now, and the robot may leave it as slowly as it follows this one.
            self._commands.append((now, speed))

    def forget(self) -> None:
        """Forget the commands: their times were measured on a clock that has jumped."""
        self._heard = -math.inf
        self._commands = deque([(-math.inf, self._commands[-1][1])])
