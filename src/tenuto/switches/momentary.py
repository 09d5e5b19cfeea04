"""On while it is pressed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from tenuto.switches.base import ContactOptions, ContactPlan, ContactSwitch, Switch, SwitchFacts


@dataclass(frozen=True, kw_only=True)
class MomentaryPlan(ContactPlan):
    """On while it is pressed."""

    def make(self) -> Switch:
        """Make the switch."""
        return _Momentary(self)

    def released_below(self) -> float | None:
        """Return where it is released."""
        return self.off_below


class _Momentary(ContactSwitch):
    def _after(self, pressed: bool, on: bool, time: float) -> int:
        return int(on)


@dataclass(frozen=True, kw_only=True)
class MomentaryOptions(ContactOptions):
    """On while it is pressed."""

    kind: ClassVar[str] = "momentary"
    returns: ClassVar[bool] = True

    def plan(self, name: str, facts: SwitchFacts) -> MomentaryPlan:
        """Return the plan of the switch."""
        return MomentaryPlan(
            name=name, reads=self.reads, debounce=self.debounce, at_start=self.at_start,
            on_above=self.on_above, off_below=self.off_below,
        )  # fmt: skip
