"""The watchdog at the robot's end, for the robot's own code: it stops the robot if commands stop arriving."""

from __future__ import annotations

import math


class CommandWatchdog:
    """Decides whether a robot may still follow its last command.

    Every command has a time for which it is valid (`Tick.valid_for`). If no other arrives within it, the robot must
    stop by itself. When commands arrive again, it must stay stopped until one was standstill: the link may recover
    while the driver still holds the stick away from rest. Simulated robots run it too::

        watchdog = CommandWatchdog()
        ...
        watchdog.feed(now, valid_for=0.2, standstill=(vx == 0 and yaw_rate == 0))   # for each command that comes
        motors.set(vx, yaw_rate) if watchdog.may_move(now) else motors.stop()       # as often as the motors are set
    """

    def __init__(self) -> None:
        self._until = self._newest = -math.inf
        self._latched = True

    def feed(self, now: float, valid_for: float, standstill: bool) -> None:
        """Take a command that has just arrived.

        Args:
            now: s, on the robot's own clock. valid_for: s. standstill: whether it demands no motion at all.
        """
        self._latched = (self._latched or not self._newest <= now <= self._until) and not standstill
        self._until, self._newest = now + valid_for, now

    def may_move(self, now: float) -> bool:
        """Return whether the last command may still be followed; after a timeout, not before a standstill arrived."""
        # Written so that NaN stops it too. If the clock has run backwards, the age of a command is unknown.
        if not self._newest <= now <= self._until:
            self._latched = True
        else:
            self._newest = now
        return not self._latched
