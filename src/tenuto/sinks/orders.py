"""Commands of the standard for an autopilot, repeated until they are answered, or until they have taken effect."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, NamedTuple

from tenuto.basics.errors import SinkError
from tenuto.basics.extras import how_to_get
from tenuto.basics.late import Late

if TYPE_CHECKING:
    from tenuto.protocols import mavlink
else:
    mavlink = Late("tenuto.protocols.mavlink", SinkError, how_to_get("pymavlink"))

# The number of attempts, the wait for an answer to each, s, and the longest time of a command in progress, s.
_TRIES, _ANSWER_WITHIN, _DONE_WITHIN = 3, 0.5, 30.0
# How long a failed command is shown to the driver, s.
_TOLD_FOR = 5.0
# The pause before a refused power off or mode is requested again, s.
_REFUSED_FOR = 1.0
# The effect of an accepted command must be seen in a heartbeat within this time, s; it comes once a second.
_SEEN_WITHIN = 2.5
POWER_OFF = "power off"


@dataclass(frozen=True, slots=True)
class AutopilotCommand:
    """The autopilot's command for an action of the profile.

    Attributes:
        command: its name in the standard, such as ``MAV_CMD_NAV_TAKEOFF``.
        parameters: 1…7 → value; missing ones are 0.
        pause: how long after it no standstill is sent during a drive, s: for some autopilots a standstill
            is a setpoint that aborts a take-off. A moved stick, or a release, ends the pause.
    """

    command: str
    parameters: Mapping[int, float] = field(default_factory=dict)
    pause: float = 0.0


class Order(NamedTuple):
    """One command in the queue.

    Attributes:
        armed, mode: required in its heartbeat before the command is complete; None if the heartbeat does not show it.
        lasts: it is repeated until it has taken effect, whatever the answer: the power off, and the mode of a switch.
    """

    name: str
    number: int
    parameters: Mapping[int, float]
    armed: bool | None = None
    mode: int | None = None
    lasts: bool = False


def order_of(action: str, one: AutopilotCommand) -> Order:
    """Return the order of an action. Raises `SinkError` if the standard has no such command."""
    number = mavlink.command_number(one.command)
    if number is None:
        raise SinkError(f'mavlink: "{action}": {one.command} is not a MAVLink command such as MAV_CMD_NAV_LAND')
    if not set(one.parameters) <= set(range(1, 8)):
        raise SinkError(f'mavlink: "{action}": its parameters have the numbers 1 to 7')
    armed = one.parameters.get(1, 0.0) == 1.0 if number == mavlink.POWER_OFF[0] else None
    mode = int(one.parameters.get(2, 0.0)) if number == mavlink.SET_MODE else None
    return Order(action, number, one.parameters, armed, mode)


def order_of_mode(name: str, mode: int) -> Order:
    """Return the order to enter a mode."""
    return Order(f"mode {name}", mavlink.SET_MODE, {1: 1.0, 2: float(mode)}, mode=mode, lasts=True)


class Orders:
    """The queue of commands; the first one is being sent."""

    def __init__(self) -> None:
        self._waiting: deque[Order] = deque()
        self._tries = 0
        self._sent_at = self._began_at = 0.0
        self._said: tuple[float, str] = (-math.inf, "")
        # The accepted command whose effect is not seen in a heartbeat yet; and since when.
        self._accepted: tuple[Order, float] | None = None

    def told(self, now: float) -> str:
        """Describe a recent failure, or an effect that is not seen yet; empty for none."""
        at, text = self._said
        if now - at < _TOLD_FOR:
            return text
        head = self._waiting[0] if self._waiting else None
        if head is None or not head.lasts or head.name == POWER_OFF or now - self._began_at < _ANSWER_WITHIN:
            return ""  # the power has its own notice
        return f'"{head.name}" was requested, but has not taken effect yet'

    def say(self, now: float, text: str) -> None:
        """Store a notice for the driver."""
        self._said = (now, text)

    def add(self, order: Order) -> None:
        """Append a command; a lasting one only once, and a newer mode replaces an older one.

        The power off goes first, and a mode last: a mode that is always refused must not delay a landing.
        """
        if order.lasts and any(one.name == order.name for one in self._waiting):
            return
        head = self._waiting[0] if self._waiting else None
        modes = [one for one in self._waiting if one.mode is not None]
        others = [one for one in self._waiting if one.mode is None]
        if order.mode is not None:
            modes = [order]
        elif order.name == POWER_OFF:
            others.insert(0, order)
        else:
            others.append(order)
        self._waiting = deque([*others, *modes])
        if self._waiting[0] is not head:
            self._tries = 0  # another one is sent now

    def clear(self) -> None:
        """Drop all commands."""
        self._waiting.clear()
        self._tries, self._accepted = 0, None

    def due(self, now: float) -> tuple[Order, int] | None:
        """Return the order to send now, and how often it was sent before; None for none."""
        if not self._waiting or (self._tries and now - self._sent_at < _ANSWER_WITHIN):
            return None
        order = self._waiting[0]
        if self._tries >= _TRIES:
            text = f'no answer to "{order.name}", which was sent {self._tries} times'
            if not order.lasts:
                self._finish(now, text)
                return None
            self._said = (now, text)  # it must take effect: it is repeated
        self._began_at = now if self._tries == 0 else self._began_at
        self._tries, self._sent_at = self._tries + 1, now
        return order, min(self._tries - 1, 255)

    def seen(self, armed: bool | None, mode: int | None, now: float) -> None:
        """Take a heartbeat: an order that has taken effect is complete."""
        head = self._waiting[0] if self._waiting and self._tries else None
        if head is not None and _is_so(head, armed, mode) and now - self._began_at >= _ANSWER_WITHIN:
            self._finish(now)  # a heartbeat that was sent before the request does not count
        if self._accepted is not None:
            order, since = self._accepted
            if _is_so(order, armed, mode):
                self._accepted = None
            elif now - since > _SEEN_WITHIN:
                self._accepted = None
                self._said = (now, f'"{order.name}" was accepted, but its heartbeat does not confirm it')

    def answered(self, number: int, result: int, now: float) -> None:
        """Take the acknowledgement of a command."""
        if not self._waiting or not self._tries or number != self._waiting[0].number:
            return
        head = self._waiting[0]
        if result == mavlink.IN_PROGRESS and now - self._began_at < _DONE_WITHIN:
            self._tries, self._sent_at = 1, now
        elif result == mavlink.ACCEPTED and head.lasts:
            # Its heartbeat must confirm it: arm and disarm have one number, and this may be the answer to the other.
            self._tries, self._sent_at = 1, now
        elif result == mavlink.ACCEPTED:
            if head.armed is not None or head.mode is not None:
                self._accepted = (head, now)
            self._finish(now)
        elif head.lasts:
            self._said = (now, f'"{head.name}": {mavlink.result_in_words(result)}')
            self._tries, self._sent_at = 1, now + _REFUSED_FOR - _ANSWER_WITHIN
        else:
            self._finish(now, f'"{head.name}": {mavlink.result_in_words(result)}')

    def _finish(self, now: float, text: str = "") -> None:
        """Remove the first order."""
        self._waiting.popleft()
        self._tries = 0
        if text:
            self._said = (now, text)


def _is_so(order: Order, armed: bool | None, mode: int | None) -> bool:
    return (order.armed is not None and order.armed is armed) or (order.mode is not None and order.mode == mode)
