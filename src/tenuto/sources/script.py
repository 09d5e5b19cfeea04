"""A script of motion as a source of velocities: a driver that follows a written course by time."""

from __future__ import annotations

import math
from collections.abc import Iterator

from tenuto.basics.frame import Frame
from tenuto.basics.layouts import ControlInfo
from tenuto.basics.reasons import Code
from tenuto.driving.guard import State
from tenuto.driving.needs import FOLLOWS_WITHIN
from tenuto.driving.tick import Tick
from tenuto.motion.course import Course
from tenuto.sources.base import Source
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand


class ScriptSource(Source):
    """Returns the velocities of a course from `begin` on; standstill before it and after the end.

    Attributes:
        begun: the time of the start, s on the loop's clock; None before.
    """

    def __init__(self, name: str, course: Course) -> None:
        self.name = name
        self.begun: float | None = None
        self._course = course

    def controls(self) -> tuple[ControlInfo, ...]:
        """Describe the four axes of a velocity."""
        return tuple(ControlInfo(axis, -math.inf, math.inf, 0.0) for axis in VelocityCommand._fields)

    def begin(self, now: float) -> None:
        """Begin now."""
        self.begun = now

    def ended(self, now: float) -> bool:
        """Return whether the course is complete."""
        return self.begun is not None and now - self.begun > self._course.seconds

    def poll(self, now: float) -> Frame:
        """Return the present velocity."""
        velocity = STANDSTILL if self.begun is None else self._course.at(now - self.begun)
        return Frame(now, velocity._asdict())


# The robot does not follow the script, or it is unknown whether it does.
_OFF_COURSE = {Code.NEAR, Code.INHIBIT_SLOWS, Code.CANNOT_DO, Code.LINK_GRACE, Code.FAR_END, Code.FAR_END_STANDS}


class Performance:
    """Begins a script when the robot follows it, and ends it finally when the robot does not follow it.

    Call it with every tick, as ``on_tick`` of `tenuto.drive`: it returns why to end.

    Attributes:
        waits: why it has not begun for some time, while its driver has the robot; else empty.
        complete: the robot has followed all of it.
    """

    def __init__(self, motion: ScriptSource, driver: str) -> None:
        """Take a script, and the name of its driver."""
        self._motion, self._driver = motion, driver
        self.waits, self.complete = "", False
        self._had_since: float | None = None

    def __call__(self, tick: Tick) -> str | None:
        """Return why it ended; None while it continues."""
        drives = tick.driver == self._driver and tick.guard.state is State.DRIVING
        self._had_since = (tick.time if self._had_since is None else self._had_since) if drives else None
        off = [notice.text for notice in tick.notices if notice.code in _OFF_COURSE] or [*self._stands(tick)]
        if self._motion.begun is None:
            late = self._had_since is not None and tick.time - self._had_since > FOLLOWS_WITHIN
            self.waits = "; ".join(off) if late else ""
            if drives and not off:
                self._motion.begin(tick.time)
            return None
        if tick.guard.state is not State.DRIVING:
            return f"the script was ended early: {'; '.join(reason.text for reason in tick.guard.reasons)}"
        if not drives:
            return "the script was ended early: a driver took over"
        if off:
            return f"the script was ended early, because the robot does not follow it: {'; '.join(off)}"
        self.complete = self._motion.ended(tick.time)
        return "the script is complete" if self.complete else None

    def _stands(self, tick: Tick) -> Iterator[str]:
        """Name each far end that can report whether it follows, and has not reported so since its driver drives."""
        for name, one in tick.far.items():
            if "follows" not in one.says:
                continue
            if self._had_since is None or one.time < self._had_since:
                yield f"{name} has not reported yet that it follows"
            elif one.follows is None:
                yield f"{name} does not report whether it follows"
            elif not one.follows:
                yield f"{name} does not follow: {'; '.join(one.reasons) or one.state or 'no reason is reported'}"
