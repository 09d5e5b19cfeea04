"""Third stage, the style: what the controls of a profile mean for this robot."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Protocol

from tenuto.core.mixing import Intent, one_stick_arcade, two_stick_arcade


class Style(Protocol):
    """What every style can do."""

    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Read the intent from the shaped positions, control name → −1…1."""
        ...

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot, and so must be seen at rest before it may."""
        ...


@dataclass(frozen=True, slots=True)
class Arcade:
    """One control drives, one turns; ``sticks`` is 1 where both are axes of a single stick."""

    forward: str
    turn: str
    sticks: int = 2

    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Read the intent from the shaped positions."""
        mix = one_stick_arcade if self.sticks == 1 else two_stick_arcade
        forward, turn = mix(shaped[self.forward], shaped[self.turn])
        return Intent(forward, 0.0, 0.0, turn)

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot."""
        return (self.forward, self.turn)


@dataclass(frozen=True, slots=True)
class Flight:
    """A control each for climbing, turning, forward and sideways; any but ``climb`` may be left out."""

    climb: str
    turn: str | None = None
    forward: str | None = None
    sideways: str | None = None

    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Read the intent from the shaped positions."""
        return Intent(
            shaped[self.forward] if self.forward is not None else 0.0,
            shaped[self.sideways] if self.sideways is not None else 0.0,
            shaped[self.climb],
            shaped[self.turn] if self.turn is not None else 0.0,
        )

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot."""
        return tuple(name for name in (self.climb, self.turn, self.forward, self.sideways) if name is not None)
