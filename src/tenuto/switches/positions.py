"""A control with several positions."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from itertools import pairwise
from typing import ClassVar

from tenuto.basics.findings import Finding, error, unexpected
from tenuto.basics.frame import ROUNDING_TIME
from tenuto.kinds.options import Role, option
from tenuto.sticks.control import ControlPlan
from tenuto.switches.base import Switch, SwitchFacts, SwitchOptions, SwitchPlan


@dataclass(frozen=True, kw_only=True)
class PositionsPlan(SwitchPlan):
    """A control with several positions.

    Attributes:
        thresholds: between the positions of the control, increasing.
        hysteresis: how far beyond a threshold it must be to change.
    """

    thresholds: tuple[float, ...]
    hysteresis: float = 0.0

    def make(self) -> Switch:
        """Make the switch."""
        return _Positions(self)

    def released_below(self) -> float | None:
        """Return where its first position begins for certain."""
        return self.thresholds[0] - self.hysteresis

    def errors(self, control: ControlPlan) -> Iterator[Finding]:
        """Find two positions beyond the same end of the control's travel: its reading is the same at both."""
        lowest = 0.0 if control.one_way else -1.0
        if self.thresholds[0] <= lowest or self.thresholds[-1] >= 1.0:
            text = f"two positions are at or beyond one end of the travel of {self.reads}: one is never reached"
            hint = f"choose raw numbers from {control.travel.low:g} to {control.travel.high:g}"
            yield error("at", text, hint)


class _Positions(Switch):
    def __init__(self, plan: PositionsPlan) -> None:
        super().__init__(plan)
        self._plan = plan
        self._candidate: int | None = None
        self._since = 0.0

    def _next(self, positions: Mapping[str, float], time: float) -> int:
        value, plan, now = positions[self._reads], self._plan, self._candidate
        found = bisect_left(plan.thresholds, value)
        if now is None:
            self._candidate = found
            return found
        if found != now:
            edge = plan.thresholds[now if found > now else now - 1]
            if abs(value - edge) >= plan.hysteresis:
                self._candidate, self._since = found, time
                now = found
        return now if time - self._since >= plan.debounce - ROUNDING_TIME else self.position


@dataclass(frozen=True, kw_only=True)
class PositionsOptions(SwitchOptions):
    """A control with several positions."""

    kind: ClassVar[str] = "positions"
    goes_anywhere: ClassVar[bool] = True
    reads: str = option(role=Role.SENSES)
    positions: int | None = option("a whole number from 2 to 16", None, low=2, high=16)
    at: tuple[float, ...] | None = option("a list of raw numbers, one per position", None, fewest=2)
    hysteresis: float = option("a share of the distance between positions, to 0.4", 0.1, low=0.0, high=0.4)

    def errors(self) -> Iterator[Finding]:
        """Require different positions, as many as are listed."""
        if self.at and self.positions not in (None, len(self.at)):
            expected = f"{len(self.at)}, as many as in at"
            yield unexpected("positions", expected, f"{self.positions}", "or leave it out")
        twice = sorted({place for place in self.at or () if (self.at or ()).count(place) > 1})
        if twice:
            yield unexpected("at", "another number for each position", f"{twice[0]:g} twice", "remove one of them")

    def plan(self, name: str, facts: SwitchFacts) -> PositionsPlan:
        """Return the plan of the switch, with its thresholds half-way between the positions."""
        places = self._places(facts)
        thresholds = tuple((low + high) / 2.0 for low, high in pairwise(places))
        gap = min(high - low for low, high in pairwise(places))
        return PositionsPlan(
            name=name, reads=self.reads, count=len(places), debounce=self.debounce, at_start=self.at_start,
            thresholds=thresholds, hysteresis=self.hysteresis * gap,
        )  # fmt: skip

    def _places(self, facts: SwitchFacts) -> tuple[float, ...]:
        """Return the positions of the control, as shares of its travel, increasing.

        They are from the raw numbers of the profile, otherwise from its calibration, otherwise even over its travel.
        """
        control, measured = facts.control(self.reads), facts.measured_positions(self.reads)
        raws = self.at or (measured if len(measured) > 1 else ())
        if raws and not (self.at is None and self.positions not in (None, len(raws))):
            return tuple(sorted(control.travel.position(float(raw)) for raw in raws))
        count = self.positions or 2
        low = 0.0 if control.one_way else -1.0
        return tuple(low + (1.0 - low) * number / (count - 1) for number in range(count))
