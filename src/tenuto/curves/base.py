"""The interface of every kind of curve."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, ClassVar, Self

from tenuto.basics.errors import ArgumentError
from tenuto.basics.number import Value
from tenuto.kinds.registry import Kinds


class Curve(ABC):
    """From a position to an output: it never decreases, is within −1…1, and is 0 at rest.

    Attributes:
        kind: its name, which is the key under ``[controls.NAME]``.
        what: the expected value of the key, in words.
    """

    __slots__ = ()
    kind: ClassVar[str]
    what: ClassVar[str]

    @classmethod
    @abstractmethod
    def checked(cls, value: Any) -> Any:
        """Return the value of the key in its stored form, before the control is known.

        Raises:
            ArgumentError: it is not a valid curve; the text describes a valid one.
        """

    @classmethod
    @abstractmethod
    def made(cls, value: Any, *, free: bool = False, low: float = -1.0) -> Self:
        """Make the curve.

        Args:
            value: as `checked` returns it. free: it need not pass through −1, 0 and 1.
            low: −1, or 0 for a control that rests at its end.

        Raises:
            ArgumentError: a rule is broken; the message names it.
        """

    @abstractmethod
    def __call__(self, position: Value) -> Value:
        """Return the output for a position, one number or an array."""

    @abstractmethod
    def words(self) -> str:
        """Describe it: ``expo 0.35``."""

    @property
    def straight(self) -> bool:
        """Whether it changes nothing."""
        return False

    def direct(self) -> Callable[[float], float]:
        """Return the fastest function for the same output of a float, which a pipeline calls at every tick."""
        return self


def halves(value: Any, low: float, high: float) -> tuple[float, float]:
    """Read one number for both halves of a stick, or a list of two, the positive half's first.

    Raises:
        ArgumentError: it is neither, or not from ``low`` to ``high``.
    """
    numbers = value if isinstance(value, (list, tuple)) else [value, value]

    def good(number: object) -> bool:
        return isinstance(number, (int, float)) and not isinstance(number, bool) and low <= number <= high

    if len(numbers) != 2 or not all(map(good, numbers)):
        raise ArgumentError("or a list of two, the positive half's first")
    return float(numbers[0]), float(numbers[1])


@dataclass(frozen=True, slots=True)
class Shape:
    """The shape of a position after its dead zone: a curve, then a scale.

    Attributes:
        curve: of any kind; None for straight. scale: the output at the end of the stick, 0…1.
    """

    curve: Curve | None = None
    scale: float = 1.0

    @property
    def straight(self) -> bool:
        """Whether it changes nothing."""
        return self.scale == 1.0 and (self.curve is None or self.curve.straight)

    def __call__(self, position: Value) -> Value:
        """Return the output, of the same kind and shape as the position."""
        if self.curve is not None:
            position = self.curve(position)
        return position * self.scale if self.scale != 1.0 else position

    def direct(self) -> Callable[[float], float]:
        """Return the fastest function for the same output of a float."""
        if self.curve is None:
            return self
        curve, scale = self.curve.direct(), self.scale
        return curve if scale == 1.0 else lambda position: curve(position) * scale


STRAIGHT = Shape()
CURVES: Kinds[Curve] = Kinds("a curve", "tenuto.curves", Curve)
