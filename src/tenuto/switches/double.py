"""On while it is pressed a second time within a time."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from tenuto.basics.findings import Finding, unexpected
from tenuto.basics.frame import ROUNDING_TIME
from tenuto.kinds.options import option
from tenuto.kinds.quantities import TIME
from tenuto.switches.base import ContactOptions, ContactPlan, ContactSwitch, Operated, Switch, SwitchFacts


@dataclass(frozen=True, kw_only=True)
class DoublePlan(ContactPlan):
    """On while it is pressed a second time within a time."""

    time: float = 1.0

    def make(self) -> Switch:
        """Make the switch."""
        return _Double(self)

    def operated(self) -> Operated:
        """Press it twice within its time."""
        ((on, off),) = super().operated().presses
        return Operated("pressed twice at once", ((self.time / 3.0, self.time / 3.0), (on, off + self.time)))


class _Double(ContactSwitch):
    def __init__(self, plan: DoublePlan) -> None:
        super().__init__(plan)
        self._time, self._before, self._second = plan.time + ROUNDING_TIME, float("-inf"), False

    def _after(self, pressed: bool, on: bool, time: float) -> int:
        if pressed:
            self._second = time - self._before <= self._time
            # A third press begins a new pair.
            self._before = float("-inf") if self._second else time
        return int(on and self._second)


@dataclass(frozen=True, kw_only=True)
class DoubleOptions(ContactOptions):
    """On while it is pressed a second time within a time."""

    kind: ClassVar[str] = "double"
    returns: ClassVar[bool] = True
    time: float = option('a time, such as "1 s"', dimension=TIME)

    def errors(self) -> Iterator[Finding]:
        """Require enough time for a press, a release and a press, each longer than the debounce time."""
        yield from super().errors()
        if self.time < 3.0 * self.debounce:
            expected = f"a time of at least three times debounce, {3.0 * self.debounce:g} s"
            yield unexpected("time", expected, f"{self.time:g} s")

    def plan(self, name: str, facts: SwitchFacts) -> DoublePlan:
        """Return the plan of the switch."""
        return DoublePlan(
            name=name, reads=self.reads, debounce=self.debounce, at_start=self.at_start,
            on_above=self.on_above, off_below=self.off_below, time=self.time,
        )  # fmt: skip
