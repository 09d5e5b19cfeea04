"""Each press selects the next position, after the last the first."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from tenuto.kinds.options import option
from tenuto.switches.base import ContactOptions, ContactPlan, ContactSwitch, Operated, Switch, SwitchFacts


@dataclass(frozen=True, kw_only=True)
class CyclePlan(ContactPlan):
    """Each press selects the next position, after the last the first."""

    def make(self) -> Switch:
        """Make the switch."""
        return _Cycle(self)

    def undone(self) -> Operated:
        """Press it until it is back at its first position."""
        return Operated("pressed on", self.operated().presses * (self.count - 1))


class _Cycle(ContactSwitch):
    def __init__(self, plan: CyclePlan) -> None:
        super().__init__(plan)
        self._count = plan.count

    def _after(self, pressed: bool, on: bool, time: float) -> int:
        return (self.position + 1) % self._count if pressed else self.position


@dataclass(frozen=True, kw_only=True)
class CycleOptions(ContactOptions):
    """Each press selects the next position, after the last the first."""

    kind: ClassVar[str] = "cycle"
    positions: int | None = option("a whole number from 2 to 16", None, low=2, high=16)

    def plan(self, name: str, facts: SwitchFacts) -> CyclePlan:
        """Return the plan of the switch."""
        return CyclePlan(
            name=name, reads=self.reads, debounce=self.debounce, at_start=self.at_start,
            on_above=self.on_above, off_below=self.off_below,
            count=self.positions or facts.positions_used(name),
        )  # fmt: skip
