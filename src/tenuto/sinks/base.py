"""What every sink promises."""

from __future__ import annotations

from abc import ABC, abstractmethod
from types import TracebackType
from typing import Self

from tenuto.core.pipeline import Plan
from tenuto.core.tick import Tick


class Sink(ABC):
    """Something that ticks go to. The last thing it gets, whatever happens, is a stop."""

    name: str

    def start(self, plan: Plan) -> None:  # noqa: B027  # most sinks need to know nothing
        """Get ready for the ticks of this plan; called once before the first."""

    @abstractmethod
    def write(self, tick: Tick) -> None:
        """Take a tick. Must not block; raise where the far end has failed."""

    @abstractmethod
    def stop(self, tick: Tick) -> None:
        """Take the last tick, whose command is standstill. Called even after `write` has failed."""

    def close(self) -> None:  # noqa: B027  # most sinks have nothing to give back
        """Let go of the far end. May be called twice."""

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
