"""Third stage, the style: what the sticks mean for this robot. Arcade with one stick or with two."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Generic, NamedTuple

import numpy as np

from tenuto.core.number import Value


class Intent(NamedTuple, Generic[Value]):
    """What the driver wants, as shares of the robot's speeds: forward and left turn are positive."""

    forward: Value
    turn: Value


def two_stick_arcade(forward: Value, turn: Value) -> Intent[Value]:
    """Drive with one stick and turn with another: each is its own will, so neither touches the other.

    What the wheels cannot do of both together is settled at the chassis, which keeps the arc.

    Args:
        forward, turn: shaped positions, −1…1, numbers or arrays of one shape.
    """
    return Intent(forward, turn)


def one_stick_arcade(forward: Value, turn: Value) -> Intent[Value]:
    """Drive and turn with the two axes of a single stick.

    A thumb that means "all the way forward" slips into the corner, and there both axes together would
    ask for more than either alone can give. Where |forward| + |turn| exceeds 1, both are divided by that
    sum: the direction of the stick, and with it the ratio of driving to turning, is kept.

    Args:
        forward, turn: shaped positions, −1…1, numbers or arrays of one shape.
    """
    total = abs(forward) + abs(turn)
    if isinstance(total, np.ndarray):
        total = np.maximum(total, 1.0)
    elif total <= 1.0:
        return Intent(forward, turn)
    return Intent(forward / total, turn / total)


@dataclass(frozen=True, slots=True)
class Arcade:
    """The arcade style of a profile: which of its controls drive and turn, and on how many sticks."""

    forward: str
    turn: str
    sticks: int = 2

    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Read the intent from the shaped positions, control name → −1…1."""
        mix = one_stick_arcade if self.sticks == 1 else two_stick_arcade
        return mix(shaped[self.forward], shaped[self.turn])

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot, and so must be seen at rest before it may."""
        return (self.forward, self.turn)
