"""Inhibits: yes/no inputs that stop the robot or slow it down: a bumper, a gate, a fence, a low battery.

An input that permits while it is on (a normally closed contact) inhibits if its wire is cut, if its source is silent,
and if its value is not a number: an oriented failure, in the terms of ISO 12100, 6.2.11.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from tenuto.basics.frame import Frame, real
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
    """The state of one input. Silence inhibits, and so does any frame since the last tick in which it does."""

    def __init__(self, plan: InhibitPlan) -> None:
        self.plan = plan
        self._heard = -math.inf
        self._value = math.nan
        # Why it inhibited in a frame before the newest one of this tick.
        self._before: Reason | None = None

    def hear(self, frames: Sequence[Frame]) -> None:
        """Take the frames of its source since the last tick, oldest first. An implausible one counts as silence."""
        self._before = None
        for number, frame in enumerate(frames, 1):
            value = real(frame.values.get(self.plan.reads, math.nan))
            good = frame.link_good and math.isfinite(value)
            self._heard, self._value = (frame.time, value) if good else (-math.inf, self._value)
            if number < len(frames):
                self._before = self._before or (self._inhibits() if good else self._silent())

    def reason(self, now: float) -> Reason | None:
        """Return why it inhibits, or None if it permits; ``now`` in s."""
        if not 0.0 <= now - self._heard <= self.plan.timeout:
            return self._silent()
        return self._inhibits() or self._before

    def _silent(self) -> Reason:
        plan = self.plan
        code = Code.INHIBIT_SILENT if plan.category is not None else Code.INHIBIT_SLOWS
        text = f"{plan.name} is silent: no number within {plan.timeout:g} s{self._slow}"
        return Condition(code, text, f"{plan.name} was silent for more than {plan.timeout:g} s")

    def _inhibits(self) -> Reason | None:
        plan = self.plan
        on = self._value >= plan.on_from
        if on is plan.closed:
            return None
        code = Code.INHIBITED if plan.category is not None else Code.INHIBIT_SLOWS
        text = f"{plan.name} inhibits: {plan.reads} is {self._value:g}, {'below' if plan.closed else 'from'} "
        return Condition(code, f"{text}{plan.on_from:g}{self._slow}", f"{plan.name} inhibited: {plan.reads} was off"
                         if plan.closed else f"{plan.name} inhibited: {plan.reads} was on")  # fmt: skip

    @property
    def _slow(self) -> str:
        return f": {100.0 * self.plan.share:.0f} % of the speed" if self.plan.category is None else ""
