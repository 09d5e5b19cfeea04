"""Inhibits: yes/no inputs that stop the robot or slow it down: a bumper, a gate, a fence, a low battery.

An input that permits while it is on (a normally closed contact) inhibits if its wire is cut, if its source is silent,
and if its value is not a number: an oriented failure, in the terms of ISO 12100, 6.2.11.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from tenuto.basics.frame import Frame
from tenuto.basics.reasons import Code, Condition, Reason
from tenuto.driving.input_plan import InputPlan


@dataclass(frozen=True, slots=True, kw_only=True)
class InhibitPlan(InputPlan):
    """One input.

    Attributes:
        on_from: the input is on from this number upwards.
        closed: it permits while it is on (normally closed); otherwise it inhibits while it is on (normally open).
        category: of the stop that it causes, by IEC 60204-1; None if it does not stop the robot.
        share: of all speeds that it permits while it inhibits, 0…1, if it does not stop the robot.
    """

    on_from: float = 0.5
    closed: bool = True
    category: int | None = 2
    share: float = 1.0


class Inhibit:
    """The state of one input. Silence inhibits."""

    def __init__(self, plan: InhibitPlan) -> None:
        self.plan = plan
        self._heard = -math.inf
        self._value = math.nan

    def hear(self, frame: Frame) -> None:
        """Take a frame of its source. An implausible frame counts as silence."""
        value = frame.values.get(self.plan.reads, math.nan)
        if frame.link_good and isinstance(value, (int, float)) and math.isfinite(value):
            self._heard, self._value = frame.time, value
        else:
            self._heard = -math.inf

    def reason(self, now: float) -> Reason | None:
        """Return why it inhibits, or None if it permits; ``now`` in s."""
        plan = self.plan
        slow = f": {100.0 * plan.share:.0f} % of the speed" if plan.category is None else ""
        age = now - self._heard
        if not 0.0 <= age <= plan.timeout:
            code = Code.INHIBIT_SILENT if plan.category is not None else Code.INHIBIT_SLOWS
            text = f"{plan.name} is silent: no number within {plan.timeout:g} s"
            return Condition(code, text + slow, f"{plan.name} was silent for more than {plan.timeout:g} s")
        on = self._value >= plan.on_from
        if on is plan.closed:
            return None
        code = Code.INHIBITED if plan.category is not None else Code.INHIBIT_SLOWS
        text = f"{plan.name} inhibits: {plan.reads} is {self._value:g}, {'below' if plan.closed else 'from'} "
        return Condition(code, f"{text}{plan.on_from:g}{slow}", f"{plan.name} inhibited: {plan.reads} was off"
                         if plan.closed else f"{plan.name} inhibited: {plan.reads} was on")  # fmt: skip
