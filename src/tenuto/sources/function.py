"""Frames from a function of time: a planner, a script, hands in a test."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence

from tenuto.basics.frame import Frame
from tenuto.basics.layouts import ControlInfo
from tenuto.sources.base import Source


class FunctionSource(Source):
    """A source that calls a function for its numbers at every tick.

    For a driver that sends velocities the names are ``vx``, ``vy``, ``vz`` (m/s) and ``yaw_rate`` (rad/s)::

        FunctionSource("planner", ["vx", "yaw_rate"], lambda now: {"vx": 0.4, "yaw_rate": 0.2})
    """

    def __init__(
        self, name: str, names: Sequence[str], function: Callable[[float], Mapping[str, float] | None]
    ) -> None:
        """Set the function.

        Args:
            name: for people. names: of the numbers that the function returns.
            function: seconds since the start of the drive → name → number, or None for no frame. It must not block.
        """
        self.name = name
        self._controls = tuple(ControlInfo(name, -math.inf, math.inf, 0.0) for name in names)
        self._function = function

    def controls(self) -> tuple[ControlInfo, ...]:
        """Describe the numbers; their range is unknown."""
        return self._controls

    def poll(self, now: float) -> Frame | None:
        """Return the present numbers."""
        values = self._function(now)
        return None if values is None else Frame(now, values)
