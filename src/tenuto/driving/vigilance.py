"""The attention check during a drive, the start warning, and the tests of the stops before the first drive."""

from __future__ import annotations

from collections.abc import Mapping

from tenuto.basics.frame import ROUNDING_TIME
from tenuto.basics.reasons import LINK_CODES, Code, Condition, Reason
from tenuto.driving.guard import State

# A control that moved by less than this share of its travel was not moved by a hand.
MOVED = 0.02
# The driver is warned after this share of the time.
TOLD_FROM = 0.75


class Attention:
    """Stops a drive in which no control was moved for too long: hold-to-run was tied down, or the driver has left."""

    def __init__(self, longest: float) -> None:
        """Set the longest time without a moved control, s; infinite for no limit."""
        self._longest = longest
        self._reference: Mapping[str, float] = {}
        self._moved_at = 0.0
        # After it has stopped the robot, it is a fault until a control is moved.
        self._asleep = False

    def step(self, driving: bool, positions: Mapping[str, float], now: float) -> tuple[Reason | None, Reason | None]:
        """Take the controls of the present driver; return the reason to stop, and the warning.

        Args:
            driving: the robot was driven until now. positions: of all controls, buttons too. now: s.
        """
        reference = self._reference
        if reference.keys() != positions.keys() or any(abs(positions[n] - reference[n]) > MOVED for n in positions):
            self._reference, self._moved_at, self._asleep = dict(positions), now, False
        if not driving and not self._asleep:
            self._moved_at = now  # the time counts from the start of the drive, not of the start warning
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
    """Warns for some time before the robot may move, so that people near it can leave (ISO 12100, 6.4.3)."""

    def __init__(self, seconds: float) -> None:
        """Set the duration, s."""
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
    """Requires that the emergency stop and a link loss are seen once before the first drive."""

    def __init__(self, wanted: tuple[str, ...], button: str | None) -> None:
        """Set the required tests, "emergency stop" and "link"; and the name of the emergency stop."""
        self._left = {name: False for name in wanted}
        self._button = button

    def step(self, state: State, faults: tuple[Reason, ...]) -> tuple[Reason, ...]:
        """Take the state of the tick before, and the present faults; list the missing tests."""
        lost = any(fault.code in LINK_CODES and fault.code != Code.FAR_END_SILENT for fault in faults)
        for name, on in (("emergency stop", state is State.EMERGENCY_STOP), ("link", lost)):
            if name in self._left:
                if self._left[name] and not on:
                    del self._left[name]  # seen, and cleared
                else:
                    self._left[name] = on
        todo = {
            "emergency stop": f"press {self._button}, release it, then reset it",
            "link": "switch the transmitter off until the loss is shown, then on again",
        }
        return tuple(Reason(Code.NOT_TESTED, f"test at start: {todo[name]}") for name in self._left)
