"""A pair: up while one switch is pressed, down while the other is."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.kinds.options import Role, option
from tenuto.outputs.base import LEVEL, OutputOptions, OutputPlan
from tenuto.switches.base import Switch


@dataclass(frozen=True, kw_only=True)
class PairPlan(OutputPlan):
    """Up while one switch is pressed, down while the other is; both at once is no demand."""

    up: str
    down: str
    up_level: float = 1.0
    down_level: float = -1.0

    def asked(self, switches: Mapping[str, Switch], shaped: Mapping[str, float], before: float) -> float:
        """Return the demanded level."""
        up, down = switches[self.up].position > 0, switches[self.down].position > 0
        return self.idle if up == down else self.up_level if up else self.down_level


@dataclass(frozen=True, kw_only=True)
class PairOptions(OutputOptions):
    """Up while one switch is pressed, down while the other is."""

    kind: ClassVar[str] = "pair"
    up: str = option(role=Role.PRESSED)
    down: str = option(role=Role.PRESSED)
    up_level: float = option(LEVEL, 1.0, low=-1.0, high=1.0)
    down_level: float = option(LEVEL, -1.0, low=-1.0, high=1.0)
    idle: float = option(LEVEL, 0.0, low=-1.0, high=1.0)

    def plan(self, name: str) -> PairPlan:
        """Return the plan of the output."""
        return PairPlan(
            name=name, idle=self.idle, when_stopped=self.when_stopped, up=self.up, down=self.down,
            up_level=self.up_level, down_level=self.down_level,
        )  # fmt: skip
