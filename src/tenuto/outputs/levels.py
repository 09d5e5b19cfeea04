"""Levels: one for each position of a switch, for a winch, a gripper, a lamp."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.basics.findings import Finding, unexpected
from tenuto.kinds.options import Role, option
from tenuto.outputs.base import LEVEL, OutputOptions, OutputPlan
from tenuto.switches.base import Switch


@dataclass(frozen=True, kw_only=True)
class LevelsPlan(OutputPlan):
    """A level for each position of a switch."""

    switch: str
    levels: tuple[float, ...]

    def asked(self, switches: Mapping[str, Switch], shaped: Mapping[str, float], before: float) -> float:
        """Return the demanded level."""
        levels, position = self.levels, switches[self.switch].position
        return levels[position] if position < len(levels) else levels[-1]


@dataclass(frozen=True, kw_only=True)
class LevelsOptions(OutputOptions):
    """A level for each position of a switch: a winch, a gripper, a lamp."""

    kind: ClassVar[str] = "levels"
    switch: str = option(role=Role.PRESSED)
    levels: tuple[float, ...] = option(
        "a list of numbers from -1 to 1, one per position of the switch", fewest=2, low=-1.0, high=1.0
    )
    idle: float = option(LEVEL, 0.0, low=-1.0, high=1.0)

    def plan(self, name: str) -> LevelsPlan:
        """Return the plan of the output."""
        return LevelsPlan(
            name=name, idle=self.idle, when_stopped=self.when_stopped, switch=self.switch, levels=self.levels
        )

    def positions_used(self, switch: str) -> int:
        """Return the number of levels."""
        return len(self.levels) if switch == self.switch else 0

    def errors(self, controls: Collection[str]) -> Iterator[Finding]:
        """Require an idle level that is one of the levels."""
        if self.idle not in self.levels:
            yield unexpected("idle", f"one of the levels {list(self.levels)}", f"{self.idle:g}")
