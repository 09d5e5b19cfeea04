"""Expo: gentle in the middle, y = (1 − e)·x + e·x³."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from tenuto.basics.errors import ArgumentError
from tenuto.basics.number import Value
from tenuto.curves.base import Curve, halves


def expo(position: Value, amount: float, negative: float | None = None) -> Value:
    """Soften the middle of a stick with the trade's cubic blend, (1 − e)·x + e·x³.

    Computed as x·(1 + e·(x² − 1)), which is the same, and exact at −1, 0 and 1. It never decreases for
    0 ≤ e ≤ 1: its slope is (1 − e) + 3·e·x².

    Args:
        position: −1…1, one number or an array of any shape.
        amount: e, 0 (straight) to 1 (all cubic).
        negative: e for the negative half, if it has its own.

    Returns:
        The same kind and shape as ``position``.

    Raises:
        ArgumentError: an amount is not from 0 to 1: beyond that the curve would decrease.
    """
    if not 0.0 <= amount <= 1.0 or not (negative is None or 0.0 <= negative <= 1.0):
        found = f"{amount:g}" if negative is None else f"{amount:g} and {negative:g}"
        raise ArgumentError(f"expected an expo from 0 to 1, found {found}")
    return _blend(position, amount, amount if negative is None else negative)


def _blend(position: Value, amount: float, negative: float) -> Value:
    """Return the same without a check of the amounts: a curve has checked them when it was made."""
    if negative == amount:
        return position * (1.0 + amount * (position * position - 1.0))
    if isinstance(position, np.ndarray):
        amounts = np.where(position < 0.0, negative, amount)
        return position * (1.0 + amounts * (position * position - 1.0))
    e = negative if position < 0.0 else amount
    return position * (1.0 + e * (position * position - 1.0))


@dataclass(frozen=True, slots=True)
class Expo(Curve):
    """Expo: gentle in the middle, y = (1 − e)·x + e·x³.

    Attributes:
        positive, negative: of each half of the stick; see `expo`.
    """

    kind: ClassVar[str] = "expo"
    what: ClassVar[str] = "a number from 0 (straight) to 1 (all cubic)"
    positive: float
    negative: float

    @classmethod
    def checked(cls, value: Any) -> tuple[float, float]:
        """Read one number, or one for each half."""
        return halves(value, 0.0, 1.0)

    @classmethod
    def made(cls, value: Any, *, free: bool = False, low: float = -1.0) -> Expo:
        """Make the curve."""
        return cls(*value)

    @property
    def straight(self) -> bool:
        """Whether it changes nothing."""
        return self.positive == self.negative == 0.0

    def __call__(self, position: Value) -> Value:
        """Return the output for a position."""
        return _blend(position, self.positive, self.negative)

    def words(self) -> str:
        """Describe it."""
        return "straight" if self.straight else f"expo {self.positive:g}"

    def direct(self) -> Callable[[float], float]:
        """Return the fastest function for the same output of a float."""
        amount = self.positive
        if amount != self.negative:
            return self
        return lambda position: position * (1.0 + amount * (position * position - 1.0))
