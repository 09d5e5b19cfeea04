"""What every source promises."""

from __future__ import annotations

from abc import ABC, abstractmethod
from types import TracebackType
from typing import NamedTuple, Self

from tenuto.core.frame import Frame
from tenuto.core.layouts import ControlInfo


class LinkCounts(NamedTuple):
    """What a source has seen since it was opened: good frames, broken ones, ones its receiver lost."""

    good: int = 0
    bad: int = 0
    lost: int = 0


class Source(ABC):
    """Something with sticks. Open it with ``with``; ask it for the newest frame with `poll`.

    Attributes:
        name: what a person calls it.
        identity: the same for the same device each time it is plugged in, as far as it tells.
        hint: how to use it, where that is not plain.
    """

    name: str
    identity: str = ""
    hint: str = ""

    @abstractmethod
    def controls(self) -> tuple[ControlInfo, ...]:
        """Describe every control that the frames will hold."""

    @abstractmethod
    def poll(self, now: float) -> Frame | None:
        """Give the newest frame since the last call, or None when nothing came. Never blocks.

        Args:
            now: seconds on the loop's clock; no frame is stamped later than that.
        """

    def counts(self) -> LinkCounts:
        """Say how many frames were good, broken and lost; zeros where the source does not count."""
        return LinkCounts()

    @property
    def finished(self) -> bool:
        """True when no frame will ever come again, as at the end of a recording."""
        return False

    def rumble(self, strength: float, seconds: float) -> bool:
        """Shake the driver's hands, strength 0…1; False where the device cannot."""
        return False

    def close(self) -> None:  # noqa: B027  # most sources have nothing to give back
        """Let go of the device. May be called twice."""

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
