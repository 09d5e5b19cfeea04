"""The reaction to a link loss: after the grace time the robot stops, descends, or sends nothing."""

from __future__ import annotations

import math

from tenuto.basics.frame import ROUNDING_TIME
from tenuto.basics.reasons import LINK_CODES, Code, Reason
from tenuto.driving.guard import GuardSettings, State
from tenuto.driving.limits import approach, ramp_to_stop
from tenuto.vehicles.velocity import VelocityCommand


class LinkLoss:
    """The link loss of one pipeline.

    Attributes:
        silent: nothing is sent, so that the autopilot starts its own failsafe.
    """

    def __init__(self, guard: GuardSettings) -> None:
        self._guard = guard
        self.silent = False
        self._lost_since: float | None = None
        self._descend_until = -math.inf

    def sinks(self, now: float) -> bool:
        """Return whether the aircraft must descend at this moment, s."""
        return now < self._descend_until - ROUNDING_TIME

    def bear(
        self, faults: tuple[Reason, ...], state: State, now: float, dt: float
    ) -> tuple[tuple[Reason, ...], tuple[Reason, ...]]:
        """Remove a link loss from the faults during the grace time; return the others, and the notice.

        The link may have been lost since just after the tick before, ``dt`` s ago: the grace time counts from there.
        """
        lost = tuple(fault for fault in faults if fault.code in LINK_CODES)
        if not lost:
            self._lost_since = None
            return faults, ()
        if self._lost_since is None:
            self._lost_since = now - dt
        lasted, grace = now - self._lost_since, self._guard.grace
        if state is not State.DRIVING or not 0.0 <= lasted < grace - ROUNDING_TIME:
            return faults, ()
        text = f"{lost[0].text}: the last command holds for {grace - lasted:.2f} s more"
        return tuple(fault for fault in faults if fault not in lost), (Reason(Code.LINK_GRACE, text),)

    def step(self, faults: tuple[Reason, ...], state: State, heard: float | None) -> None:
        """Start or end the profile's reaction to a link loss.

        Args:
            faults: of this tick. state: of the tick before. heard: when the last good frame came, s; None for never.
        """
        guard = self._guard
        lost = any(fault.code in LINK_CODES for fault in faults)
        if lost and state is State.DRIVING:
            self.silent = guard.on_link_loss == "silent"
            if guard.on_link_loss == "descend" and heard is not None:
                # Counted from the last good frame: a computer that slept since then must not start now.
                self._descend_until = heard + guard.unnoticed + guard.descend_for
        elif not lost:
            self._descend_until = -math.inf
            # The autopilot's reaction continues until somebody has re-enabled, or presses the
            # emergency stop.
            if state in (State.DRIVING, State.EMERGENCY_STOP):
                self.silent = False

    def descend(self, command: VelocityCommand, dt: float) -> VelocityCommand:
        """Return the next command of an aircraft that stops along the ground, and descends."""
        guard, (vx, vy, vz, yaw_rate) = self._guard, command
        level = ramp_to_stop(
            VelocityCommand(vx, vy, 0.0, yaw_rate), dt, guard.stop_deceleration, guard.stop_turn_deceleration
        )
        return level._replace(vz=approach(vz, -guard.descend_speed, guard.stop_vertical_deceleration * dt))
