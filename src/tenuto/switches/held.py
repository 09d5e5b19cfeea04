"""On once it has been pressed for a time."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from tenuto.basics.frame import ROUNDING_TIME
from tenuto.kinds.options import option
from tenuto.kinds.quantities import TIME
from tenuto.switches.base import ContactOptions, ContactPlan, ContactSwitch, Operated, Switch, SwitchFacts


@dataclass(frozen=True, kw_only=True)
class HeldPlan(ContactPlan):
    """On once it has been pressed for a time."""

    time: float = 1.0

    def make(self) -> Switch:
        """Make the switch."""
        return _Held(self)

    def operated(self) -> Operated:
        """Hold it for its time."""
        ((on, off),) = super().operated().presses
        return Operated(f"held for {self.time:g} s", ((on + self.time, off),))


class _Held(ContactSwitch):
    def __init__(self, plan: HeldPlan) -> None:
        super().__init__(plan)
        self._time, self._since = plan.time - ROUNDING_TIME, 0.0

    def _after(self, pressed: bool, on: bool, time: float) -> int:
        if pressed:
            self._since = time
        return int(on and time - self._since >= self._time)


@dataclass(frozen=True, kw_only=True)
class HeldOptions(ContactOptions):
    """On once it has been pressed for a time."""

    kind: ClassVar[str] = "held"
    returns: ClassVar[bool] = True
    time: float = option('a time, such as "1 s"', dimension=TIME)

    def plan(self, name: str, facts: SwitchFacts) -> HeldPlan:
        """Return the plan of the switch."""
        return HeldPlan(
            name=name, reads=self.reads, debounce=self.debounce, at_start=self.at_start,
            on_above=self.on_above, off_below=self.off_below, time=self.time,
        )  # fmt: skip
