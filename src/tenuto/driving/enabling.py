"""The permission of the switch ``guard.enable``: from a press until the next press, its return, or a stop."""

from __future__ import annotations

from collections.abc import Mapping

from tenuto.driving.holding import HELD_FROM
from tenuto.switches.base import Switch


class Enabling:
    """The enabling switch of one driver.

    A push-button enables when it is pressed, and ends that when it is pressed again. A switch that stays where it is
    put permits as long as it is on: put back it is a release, as of hold-to-run. A press that began before a stop, or
    while something was missing, never enables after it.

    Attributes:
        on: it permits.
    """

    def __init__(self, *, stays: bool, reads: str) -> None:
        """Begin without permission.

        Args:
            stays: the switch stays where it is put. reads: the control that it reads; empty for a gesture.
        """
        self._stays, self._reads = stays, reads
        self.on = False
        self._released = True

    def step(self, switch: Switch, positions: Mapping[str, float]) -> bool:
        """Take the switch and the positions of a good frame; return whether it permits."""
        if self._stays:
            self.on = switch.position > 0
        elif switch.pressed:
            self.on = self._released and not self.on
        if switch.position == 0 and positions.get(self._reads, 0.0) < HELD_FROM:
            self._released = True
        return self.on

    def stop(self) -> None:
        """End the permission: the switch must be operated again."""
        self._released = False
        if not self._stays:
            self.on = False
