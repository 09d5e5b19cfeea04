"""A start warning: a horn or a lamp that is on before the robot may move, so that people can leave."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.basics.findings import Finding, unexpected
from tenuto.kinds.options import option
from tenuto.outputs.base import OutputOptions, OutputPlan
from tenuto.switches.base import Switch


@dataclass(frozen=True, kw_only=True)
class StartWarningPlan(OutputPlan):
    """On while the guard's start warning lasts.

    Attributes:
        while_driving: it stays on while the robot is driven.
    """

    warns: ClassVar[bool] = True
    while_driving: bool = False

    def asked(self, switches: Mapping[str, Switch], shaped: Mapping[str, float], before: float) -> float:
        """Return its level while the robot is driven."""
        return 1.0 if self.while_driving else 0.0


@dataclass(frozen=True, kw_only=True)
class StartWarningOptions(OutputOptions):
    """A horn or a lamp that is on for `guard.start_warning` before the robot may move."""

    kind: ClassVar[str] = "start_warning"
    while_driving: bool = option("true or false", False)

    def plan(self, name: str) -> StartWarningPlan:
        """Return the plan of the output."""
        return StartWarningPlan(name=name, while_driving=self.while_driving)

    def errors(self, controls: Collection[str]) -> Iterator[Finding]:
        """Refuse a setting for a stop: only the guard decides."""
        if self.when_stopped != "idle":
            yield unexpected("when_stopped", "nothing: the guard decides", f'"{self.when_stopped}"', "remove it")
