"""The clock of a pipeline, which only goes forward, whatever the clock of its caller does.

All times that a pipeline keeps are on it: ages, timeouts, debouncing, a descent. So a clock that goes back is handled
here, and nowhere else.
"""

from __future__ import annotations

import math
from collections.abc import Mapping

from tenuto.basics.frame import ROUNDING_TIME, Frame
from tenuto.basics.reasons import Code, Condition, Reason
from tenuto.driving.telemetry import FarEnds


class OneWayClock:
    """The clock of one pipeline: that of the caller, plus what that one has gone back.

    Attributes:
        now: s. ahead: of the caller's clock, s; 0 until it goes back for the first time.
    """

    def __init__(self, period: float, stall_timeout: float) -> None:
        """Set the period of the ticks, s, which passes where the time is not known, and the time of a stall, s."""
        self._period, self._stall_timeout = period, stall_timeout
        self._given: float | None = None
        self.now = self.ahead = 0.0

    def step(self, given: float) -> tuple[float, tuple[Reason, ...]]:
        """Take the time of the caller; return the seconds since the last step, and the faults of clock and loop."""
        before = self._given
        if not math.isfinite(given):
            self.now += self._period
            wrong = Condition(Code.TIME_NOT_FINITE, f"the clock reads {given}", f"the clock read {given}")
            return self._period, (wrong,)
        self._given = given
        if before is None:
            self.now = given + self.ahead
            return 0.0, ()
        dt = given + self.ahead - self.now
        if given <= before or dt <= 0.0:
            self.now += self._period
            self.ahead = self.now - given
            back = f"the clock went from {before:.3f} s to {given:.3f} s: time must only go forward"
            # Otherwise the clock is back after a time that could not be read.
            return self._period, (Reason(Code.TIME_BACKWARDS, back),) if given <= before else ()
        self.now = given + self.ahead
        if dt > self._stall_timeout + ROUNDING_TIME:
            stall = f"the loop stalled for {dt:.3f} s (stall_timeout {self._stall_timeout:g} s)"
            return dt, (Reason(Code.LOOP_STALLED, stall),)
        return dt, ()

    def frame(self, frame: Frame | None) -> Frame | None:
        """Return a frame of the caller with its times on this clock."""
        if frame is None or self.ahead == 0.0:
            return frame
        earlier = tuple(Frame(*one) for one in frame.earlier)
        moved = tuple(one._replace(time=one.time + self.ahead) for one in earlier)
        return frame._replace(time=frame.time + self.ahead, earlier=moved)

    def far(self, far: FarEnds) -> FarEnds:
        """Return the telemetry of far ends with its times on this clock."""
        if not far or self.ahead == 0.0:
            return far
        return {name: one._replace(time=one.time + self.ahead) for name, one in far.items()}

    def frames(self, frames: Mapping[str, Frame]) -> dict[str, Frame]:
        """Return frames of several sources with their times on this clock."""
        return {name: moved for name, one in frames.items() if (moved := self.frame(one)) is not None}
