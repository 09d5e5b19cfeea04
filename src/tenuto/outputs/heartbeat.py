"""A heartbeat: it changes at every tick while there is power, for a relay that drops when the changes stop."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.basics.findings import Finding, unexpected
from tenuto.outputs.base import OutputOptions, OutputPlan
from tenuto.switches.base import Switch


@dataclass(frozen=True, kw_only=True)
class HeartbeatPlan(OutputPlan):
    """0 and 1 alternately."""

    by_guard: ClassVar[bool] = True

    def asked(self, switches: Mapping[str, Switch], shaped: Mapping[str, float], before: float) -> float:
        """Return the other level."""
        return 0.0 if before else 1.0


@dataclass(frozen=True, kw_only=True)
class HeartbeatOptions(OutputOptions):
    """0 and 1 alternately, a change at every tick while there is power: for a relay that monitors the changes."""

    kind: ClassVar[str] = "heartbeat"

    def plan(self, name: str) -> HeartbeatPlan:
        """Return the plan of the output."""
        return HeartbeatPlan(name=name, when_stopped="always")

    def errors(self, controls: Collection[str]) -> Iterator[Finding]:
        """Refuse a setting for a stop: only the power decides."""
        if self.when_stopped != "idle":
            yield unexpected("when_stopped", "nothing: it follows the power", f'"{self.when_stopped}"', "remove it")
