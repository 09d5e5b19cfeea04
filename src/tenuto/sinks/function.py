"""Any function as a sink, for your own pins, buses or simulators."""

from __future__ import annotations

from collections.abc import Callable

from tenuto.driving.tick import Tick
from tenuto.sinks.base import Sink


class FunctionSink(Sink):
    """A sink that calls a function with each tick, and with the stop at the end.

    An exception of the function ends the drive. A slow function delays neither the loop nor other sinks, and gets the
    newest tick afterwards::

        FunctionSink("motors", lambda tick: motors.set(tick.actuators["left_wheel"], tick.actuators["right_wheel"]))

    The function must obey `tick.power` and `tick.valid_for` if the machine does not do so itself.
    """

    def __init__(self, name: str, function: Callable[[Tick], object], rate: float | None = None) -> None:
        """Set the function.

        Args:
            name: for people. function: takes a tick; its result is ignored.
            rate: the greatest number of calls per second; None for every tick.
        """
        self.name = name
        self.period = 1.0 / rate if rate else 0.0
        self._function = function

    def write(self, tick: Tick) -> None:
        """Call the function."""
        if tick.send:
            self._function(tick)

    def stop(self, tick: Tick) -> None:
        """Call it with the stop."""
        self._function(tick)
