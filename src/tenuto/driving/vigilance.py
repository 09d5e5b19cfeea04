"""Whether somebody still attends, and whether what stops the robot was seen to work before it drives."""

from __future__ import annotations

from collections.abc import Mapping

from tenuto.basics.frame import ROUNDING_TIME
from tenuto.basics.reasons import LINK_CODES, Code, Condition, Reason
from tenuto.driving.guard import State

# A control that moved by less than this share of its travel was not moved by a hand.
MOVED = 0.02
# The driver is told when this share of the time is over.
TOLD_FROM = 0.75


class Attention:
    """Stops a drive in which no control was moved for too long: a hold-to-run that was tied down, a driver who left."""

    def __init__(self, longest: float) -> None:
        """Set for how long nothing may be moved, s; infinite for any time."""
        self._longest = longest
        self._reference: Mapping[str, float] = {}
        self._moved_at = 0.0
        # Once it has stopped the robot, it is a fault until something is moved.
        self._asleep = False

    def step(self, driving: bool, positions: Mapping[str, float], now: float) -> tuple[Reason | None, Reason | None]:
        """Take where the controls of the one who drives stand; return what stops the robot, and what is to be told.

        Args:
            driving: the robot was driven until now. positions: of all controls, the buttons among them. now: s.
        """
        reference = self._reference
        if reference.keys() != positions.keys() or any(abs(positions[n] - reference[n]) > MOVED for n in positions):
            self._reference, self._moved_at, self._asleep = dict(positions), now, False
        if not driving and not self._asleep:
            self._moved_at = now  # it counts from when it is driven: it may have waited before, for the start warning
        still = now - self._moved_at
        if driving and still > self._longest + ROUNDING_TIME:
            self._asleep = True
        if self._asleep:
            text = f"no control was moved for {still:.0f} s (guard.attention {self._longest:g} s)"
            return Condition(Code.NO_ATTENTION, text, f"no control was moved for {self._longest:g} s"), None
        left = self._longest - still
        if driving and still > TOLD_FROM * self._longest + ROUNDING_TIME:
            return None, Reason(Code.ATTENTION, f"no control was moved for {still:.0f} s: it stops in {left:.0f} s")
        return None, None


class StartWarning:
    """Warns for a while before the robot may move: people near it get out of its way (ISO 12100, 6.4.3)."""

    def __init__(self, seconds: float) -> None:
        """Set for how long, s."""
        self._seconds = seconds
        self._since: float | None = None

    def step(self, state: State, now: float) -> Reason | None:
        """Take the state of the tick before; return why driving may not begin yet. ``now`` in s."""
        if state is not State.WAITING_FOR_REST:
            self._since = None
        elif self._since is None:
            self._since = now
        left = self._seconds - (now - self._since) if self._since is not None else self._seconds
        if left <= ROUNDING_TIME:
            return None
        return Reason(Code.START_WARNING, f"start warning: {left:.1f} s more; leave the sticks at rest")


class StartTest:
    """Wants the emergency stop and the loss of the link to be seen once before the first drive."""

    def __init__(self, wanted: tuple[str, ...], button: str | None) -> None:
        """Set what is wanted, "emergency stop" and "link"; and the name of the emergency stop."""
        self._left = {name: False for name in wanted}
        self._button = button

    def step(self, state: State, faults: tuple[Reason, ...]) -> tuple[Reason, ...]:
        """Take the state of the tick before, and what is wrong now; list the tests that are still to be done."""
        lost = any(fault.code in LINK_CODES and fault.code != Code.FAR_END_SILENT for fault in faults)
        for name, on in (("emergency stop", state is State.EMERGENCY_STOP), ("link", lost)):
            if name in self._left:
                if self._left[name] and not on:
                    del self._left[name]  # seen, and over
                else:
                    self._left[name] = on
        todo = {
            "emergency stop": f"press {self._button}, release it, then reset it",
            "link": "switch the transmitter off until the loss is shown, then on again",
        }
        return tuple(Reason(Code.NOT_TESTED, f"test at start: {todo[name]}") for name in self._left)
