"""What every source promises."""

from __future__ import annotations

from abc import ABC, abstractmethod
from types import TracebackType
from typing import Self

from tenuto.core.frame import Frame
from tenuto.core.layouts import ControlInfo


class Source(ABC):
    """Something with sticks. Open it with ``with``; ask it for the newest frame with `poll`."""

    name: str

    @abstractmethod
    def controls(self) -> tuple[ControlInfo, ...]:
        """Describe every control that the frames will hold."""

    @abstractmethod
    def poll(self, now: float) -> Frame | None:
        """Give the newest frame since the last call, or None when nothing came. Never blocks.

        Args:
            now: seconds on the loop's clock; no frame is stamped later than that.
        """

    @property
    def finished(self) -> bool:
        """True when no frame will ever come again, as at the end of a recording."""
        return False

    def close(self) -> None:  # noqa: B027  # most sources have nothing to give back
        """Let go of the device. May be called twice."""

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
