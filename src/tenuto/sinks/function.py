"""Any function as a sink, for those who drive pins, buses or simulators themselves."""

from __future__ import annotations

from collections.abc import Callable

from tenuto.driving.tick import Tick
from tenuto.sinks.base import Sink


class FunctionSink(Sink):
    """A sink that calls a function with each tick that it is given, and with the stop at the end.

    What the function raises ends the drive; one that takes long holds up neither the loop nor other sinks, and gets the
    newest tick afterwards::

        FunctionSink("motors", lambda tick: motors.set(tick.actuators["left_wheel"], tick.actuators["right_wheel"]))

    A function must keep to `tick.power` and `tick.valid_for` where the machine does not do so itself.
    """

    def __init__(self, name: str, function: Callable[[Tick], object], rate: float | None = None) -> None:
        """Set what to call.

        Args:
            name: for people. function: takes a tick; what it gives back counts for nothing.
            rate: how often a second at most; None for every tick.
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
