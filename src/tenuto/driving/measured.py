"""Measured speeds: what an encoder or a gyroscope says, compared with what was commanded.

A robot that moves otherwise than it is told (a motor driver that sticks, an encoder that slips, a wheel that runs away)
cannot be stopped by a command. So the stop is one of category 0: the power goes.
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

# What is measured: the place of its axis in the command.
MEASURED = {"forward": 0, "sideways": 1, "up": 2, "turn": 3}


@dataclass(frozen=True, slots=True, kw_only=True)
class MeasuredPlan(InputPlan):
    """One measured speed.

    Attributes:
        of: what it measures, a key of `MEASURED`. scale: m/s or rad/s for a number of 1; negative to turn it round.
        tolerance: how far it may be from what was commanded, m/s or rad/s.
        within: how long the robot takes to follow, at most, s.
    """

    of: str
    scale: float
    tolerance: float
    within: float


class Measured:
    """One measured speed under way. While the outputs have power it must agree, and must be heard."""

    def __init__(self, plan: MeasuredPlan) -> None:
        self.plan = plan
        self._axis = MEASURED[plan.of]
        self._unit = METRIC.of(VelocityCommand._fields[self._axis])
        self._heard = -math.inf
        self._speed = math.nan
        # When each command was sent, s, and its speed along the axis; the first one is as old as may still be followed.
        self._commands: deque[tuple[float, float]] = deque([(-math.inf, 0.0)])

    def hear(self, frame: Frame) -> None:
        """Take a frame of its source. What is no number counts as silence from now on."""
        value = frame.values.get(self.plan.reads, math.nan)
        if frame.link_good and isinstance(value, (int, float)) and math.isfinite(value):
            self._heard, self._speed = frame.time, value * self.plan.scale
        else:
            self._heard = -math.inf

    def reason(self, now: float) -> Reason | None:
        """Say that it is silent, or that the robot does what it was not told; None where all is well; ``now`` in s."""
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
        """Take note of a command; ``now`` in s."""
        speed = command[self._axis]
        if speed != self._commands[-1][1]:
            # The one before held until now, and the robot may be as slow to leave it as to follow this one.
            self._commands.append((now, speed))

    def forget(self) -> None:
        """Forget what was sent: the clock it was measured on is no more."""
        self._heard = -math.inf
        self._commands = deque([(-math.inf, self._commands[-1][1])])
