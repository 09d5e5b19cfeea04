"""A centre measured at start, only from numbers that are still and near the middle."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable
from statistics import median

from tenuto.basics.frame import ROUNDING_TIME
from tenuto.sticks.control import ControlPlan
from tenuto.sticks.travel import Travel

# How long a control must be still, how still, and how near to its usual centre; s, and shares of its travel.
STILL_SECONDS, STILL_WITHIN, NEAR_CENTRE = 1.0, 0.04, 0.15
FEWEST = 10


class StartCentre:
    """Waits for a control to be still, then returns its travel with the present centre."""

    def __init__(self, travel: Travel) -> None:
        """Begin to wait; ``travel.centre`` is the usual centre."""
        self._usual = travel
        self._recent: deque[tuple[float, float]] = deque()
        self.problem = "hands off: its centre is being measured"

    def feed(self, time: float, raw: float) -> Travel | None:
        """Take a number at a time in s; return the travel after the control has been still for long enough."""
        usual, recent = self._usual, self._recent
        recent.append((time, raw))
        while len(recent) > FEWEST and recent[1][0] <= time - STILL_SECONDS + ROUNDING_TIME:
            recent.popleft()
        span = usual.high - usual.low
        values = [value for _, value in recent]
        if max(values) - min(values) > STILL_WITHIN * span:
            recent.clear()
            self.problem = "it moves: hands off, its centre is being measured"
            return None
        if len(recent) < FEWEST or time - recent[0][0] < STILL_SECONDS - ROUNDING_TIME:
            return None
        centre = median(values)
        if usual.centre is None or abs(centre - usual.centre) > NEAR_CENTRE * span:
            self.problem = f"it is still, but at {centre:g}, too far from the middle to be its centre: let it go"
            return None
        return Travel(usual.low, centre, usual.high, usual.reverse)


def centring_time(controls: Iterable[ControlPlan]) -> float:
    """Return how long controls must rest at start until each has its centre, s; 0 if none is measured there."""
    return max((STILL_SECONDS for control in controls if control.centre_at_start), default=0.0)
