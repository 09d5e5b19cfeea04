"""A script of motion as a source of velocities: a driver that does what was written down, by time."""

from __future__ import annotations

import math

from tenuto.basics.frame import Frame
from tenuto.basics.layouts import ControlInfo
from tenuto.motion.script import Course
from tenuto.sources.base import Source
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand


class ScriptSource(Source):
    """Gives the velocities of a course from `begin` on; standstill before it and after the end.

    Attributes:
        begun: when it began, s on the loop's clock; None before.
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
        """Tell whether all of it is done."""
        return self.begun is not None and now - self.begun > self._course.seconds

    def poll(self, now: float) -> Frame:
        """Return the velocity of now."""
        velocity = STANDSTILL if self.begun is None else self._course.at(now - self.begun)
        return Frame(now, velocity._asdict())
