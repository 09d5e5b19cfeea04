"""What every sink promises."""

from __future__ import annotations

from abc import ABC, abstractmethod

from tenuto.core.closing import Closing
from tenuto.core.plan import Plan
from tenuto.core.tick import Tick


class Sink(Closing, ABC):
    """Something that ticks go to. The last thing it gets, whatever happens, is a stop."""

    name: str

    def start(self, plan: Plan) -> None:  # most sinks need to know nothing
        """Get ready for the ticks of this plan; called once before the first."""

    @abstractmethod
    def write(self, tick: Tick) -> None:
        """Take a tick. Must not block; raise where the far end has failed."""

    @abstractmethod
    def stop(self, tick: Tick) -> None:
        """Take the last tick, whose command is standstill. Called even after `write` has failed."""
