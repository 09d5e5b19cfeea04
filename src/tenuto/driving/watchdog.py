"""The far end of a command: what the robot's own code runs, so that it stops by itself when commands stop coming."""

from __future__ import annotations

import math


class CommandWatchdog:
    """Tells whether a robot may still follow its last command.

    Every command says how long it is valid (`Tick.valid_for`). When no other came by then, the robot is to stop by
    itself; and when commands come back, it is to stay stopped until one was standstill: what was broken on the way
    may have mended without anybody having let go. For the builder's own code; simulated robots run it too::

        watchdog = CommandWatchdog()
        ...
        watchdog.feed(now, valid_for=0.2, standstill=(vx == 0 and yaw_rate == 0))   # for each command that comes
        motors.set(vx, yaw_rate) if watchdog.may_move(now) else motors.stop()       # as often as the motors are set
    """

    def __init__(self) -> None:
        self._until = self._newest = -math.inf
        self._latched = True

    def feed(self, now: float, valid_for: float, standstill: bool) -> None:
        """Take note of a command that came now.

        Args:
            now: s, on the robot's own clock. valid_for: s. standstill: whether it asks for no motion at all.
        """
        self._latched = (self._latched or not self._newest <= now <= self._until) and not standstill
        self._until, self._newest = now + valid_for, now

    def may_move(self, now: float) -> bool:
        """Tell whether the last command may still be followed; once it may not, it may not until a standstill came."""
        # Written so that NaN stops it too; and a clock that has run backwards says nothing of how old a command is.
        if not self._newest <= now <= self._until:
            self._latched = True
        else:
            self._newest = now
        return not self._latched
