"""Power: the position to the power p, with its sign."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from tenuto.basics.number import Array, Value
from tenuto.curves.base import Curve, halves


def power(position: Value, exponent: float, negative: float | None = None) -> Value:
    """Soften the middle of a stick with a power, sign(x)·|x|^p; exact at −1, 0 and 1.

    Args:
        position: −1…1, one number or an array of any shape.
        exponent: p ≥ 1; 1 is straight. negative: p of the negative half, if it has its own.
    """
    below = exponent if negative is None else negative
    if isinstance(position, np.ndarray):
        sizes: Array = np.abs(position) ** np.where(position < 0.0, below, exponent)
        return np.sign(position) * sizes
    size = float(abs(position) ** (below if position < 0.0 else exponent))
    return -size if position < 0.0 else size


@dataclass(frozen=True, slots=True)
class Power(Curve):
    """Power: the position to the power p, with its sign.

    Attributes:
        positive, negative: of each half of the stick; see `power`.
    """

    kind: ClassVar[str] = "power"
    what: ClassVar[str] = "a number from 1 (straight) to 5"
    positive: float
    negative: float

    @classmethod
    def checked(cls, value: Any) -> tuple[float, float]:
        """Read one number, or one for each half."""
        return halves(value, 1.0, 5.0)

    @classmethod
    def made(cls, value: Any, *, free: bool = False, low: float = -1.0) -> Power:
        """Make the curve."""
        return cls(*value)

    @property
    def straight(self) -> bool:
        """Whether it changes nothing."""
        return self.positive == self.negative == 1.0

    def __call__(self, position: Value) -> Value:
        """Return the output for a position."""
        return power(position, self.positive, self.negative)

    def words(self) -> str:
        """Describe it."""
        return "straight" if self.straight else f"power {self.positive:g}"

    def direct(self) -> Callable[[float], float]:
        """Return the fastest function for the same output of a float."""
        amount = self.positive
        return (lambda position: power(position, amount)) if amount == self.negative else self
