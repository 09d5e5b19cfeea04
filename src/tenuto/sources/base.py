"""What every source promises."""

from __future__ import annotations

from abc import ABC, abstractmethod

from tenuto.basics.closing import Closing
from tenuto.basics.frame import Frame, LinkCounts
from tenuto.basics.layouts import ControlInfo
from tenuto.driving.plan import Plan
from tenuto.driving.tick import Tick


class Source(Closing, ABC):
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

    def prepare(self, plan: Plan) -> None:  # most have the same controls for every robot
        """Take note of the robot that is to follow, by the plan by which it is driven by hand: before `controls`."""

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

    def tell(self, tick: Tick) -> None:  # most have nobody to tell
        """Take the robot's newest tick, where whoever drives is elsewhere and wants to know."""

    def rumble(self, strength: float, seconds: float) -> bool:
        """Shake the driver's hands, strength 0…1; False where the device cannot."""
        return False
