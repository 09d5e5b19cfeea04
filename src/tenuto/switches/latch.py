"""A press switches it on, the next one off."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from tenuto.switches.base import ContactOptions, ContactPlan, ContactSwitch, Operated, Switch, SwitchFacts


@dataclass(frozen=True, kw_only=True)
class LatchPlan(ContactPlan):
    """A press switches it on, the next one off."""

    def make(self) -> Switch:
        """Make the switch."""
        return _Latch(self)

    def undone(self) -> Operated:
        """Press it once more."""
        return self.operated()


class _Latch(ContactSwitch):
    def _after(self, pressed: bool, on: bool, time: float) -> int:
        return 1 - self.position if pressed else self.position


@dataclass(frozen=True, kw_only=True)
class LatchOptions(ContactOptions):
    """A press switches it on, the next one off."""

    kind: ClassVar[str] = "latch"

    def plan(self, name: str, facts: SwitchFacts) -> LatchPlan:
        """Return the plan of the switch."""
        return LatchPlan(
            name=name, reads=self.reads, debounce=self.debounce, at_start=self.at_start,
            on_above=self.on_above, off_below=self.off_below,
        )  # fmt: skip
