"""A contact: on while a control is pushed in one direction, for a device with contacts only."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from typing import ClassVar, Literal

from tenuto.basics.findings import Finding, unexpected
from tenuto.kinds.options import Role, option
from tenuto.outputs.base import OutputOptions, OutputPlan
from tenuto.sticks.smoothing import THERE
from tenuto.switches.base import Switch


@dataclass(frozen=True, kw_only=True)
class ContactOutputPlan(OutputPlan):
    """On while a control is pushed in one direction.

    Attributes:
        control: that is pushed. side: 1 or −1, its direction. on_above, off_below: its hysteresis.
    """

    control: str
    side: int = 1
    on_above: float = 0.5
    off_below: float = 0.4

    def asked(self, switches: Mapping[str, Switch], shaped: Mapping[str, float], before: float) -> float:
        """Return the demanded level."""
        pushed = shaped[self.control] * self.side
        is_on = pushed > self.on_above + THERE or (before == 1.0 and pushed >= self.off_below - THERE)
        return 1.0 if is_on else 0.0


@dataclass(frozen=True, kw_only=True)
class ContactOutputOptions(OutputOptions):
    """On or off as a control is pushed in one direction, for a device with contacts only."""

    kind: ClassVar[str] = "contact"
    control: str = option(role=Role.READS)
    side: Literal["positive", "negative"] = option('"positive" or "negative"', "positive")
    on_above: float = option("a share above 0, up to 1", 0.5, above=0.0, high=1.0)
    off_below: float = option("a share above 0, up to 1", 0.4, above=0.0, high=1.0)

    def plan(self, name: str) -> ContactOutputPlan:
        """Return the plan of the output."""
        return ContactOutputPlan(
            name=name, when_stopped=self.when_stopped, control=self.control,
            side=1 if self.side == "positive" else -1, on_above=self.on_above, off_below=self.off_below,
        )  # fmt: skip

    def errors(self, controls: Collection[str]) -> Iterator[Finding]:
        """Require a release that is not above the press."""
        if self.off_below > self.on_above:
            yield unexpected("off_below", "a share not above on_above", f"{self.off_below:g}")
