"""What an autopilot is told once: commands of the standard, sent until they are answered, or until it is so."""

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

# A command is sent so often, each time after so long without an answer, s; one under way may take so long in all.
_TRIES, _ANSWER_WITHIN, _DONE_WITHIN = 3, 0.5, 30.0
# How long the driver is told of what went wrong, s.
_TOLD_FOR = 5.0
# A power off or a mode that was refused is asked for again after so long, s.
_REFUSED_FOR = 1.0
# What was accepted must be seen in a heartbeat within this, s; it comes once a second.
_SEEN_WITHIN = 2.5
POWER_OFF = "power off"


@dataclass(frozen=True, slots=True)
class AutopilotCommand:
    """What an action of the profile means to the autopilot.

    Attributes:
        command: its name in the standard, such as ``MAV_CMD_NAV_TAKEOFF``.
        parameters: 1…7 → value; those left out are 0.
        pause: for so long after it, s, no standstill is sent while somebody drives: to some autopilots a standstill
            is a setpoint that breaks a take-off off. A stick that is moved, or let go of everything, ends it.
    """

    command: str
    parameters: Mapping[int, float] = field(default_factory=dict)
    pause: float = 0.0


class Order(NamedTuple):
    """What the autopilot is told.

    Attributes:
        armed, mode: what its heartbeat must say before it is done; None where it says nothing of it.
        lasts: it is asked for until it is so, whatever is answered: the power off, and the mode of a switch.
    """

    name: str
    number: int
    parameters: Mapping[int, float]
    armed: bool | None = None
    mode: int | None = None
    lasts: bool = False


def order_of(action: str, one: AutopilotCommand) -> Order:
    """Return the order of an action. Raises `SinkError` where it is none of the standard."""
    number = mavlink.command_number(one.command)
    if number is None:
        raise SinkError(f'mavlink: "{action}": {one.command} is no command of the standard, such as MAV_CMD_NAV_LAND')
    if not set(one.parameters) <= set(range(1, 8)):
        raise SinkError(f'mavlink: "{action}": its parameters have the numbers 1 to 7')
    armed = one.parameters.get(1, 0.0) == 1.0 if number == mavlink.POWER_OFF[0] else None
    mode = int(one.parameters.get(2, 0.0)) if number == mavlink.SET_MODE else None
    return Order(action, number, one.parameters, armed, mode)


def order_of_mode(name: str, mode: int) -> Order:
    """Return the order to go into a mode."""
    return Order(f"mode {name}", mavlink.SET_MODE, {1: 1.0, 2: float(mode)}, mode=mode, lasts=True)


class Orders:
    """The queue of what the autopilot is told, its head being asked for now."""

    def __init__(self) -> None:
        self._waiting: deque[Order] = deque()
        self._tries = 0
        self._sent_at = self._began_at = 0.0
        self._said: tuple[float, str] = (-math.inf, "")
        # What was accepted, and is still to be seen in a heartbeat; and since when.
        self._accepted: tuple[Order, float] | None = None

    def told(self, now: float) -> str:
        """Describe what went wrong a moment ago, or what is not so yet; empty for nothing."""
        at, text = self._said
        if now - at < _TOLD_FOR:
            return text
        head = self._waiting[0] if self._waiting else None
        if head is None or not head.lasts or head.name == POWER_OFF or now - self._began_at < _ANSWER_WITHIN:
            return ""  # of the power there are words of its own
        return f'"{head.name}" was asked for, and is not so yet'

    def say(self, now: float, text: str) -> None:
        """Take note of something that the driver should know."""
        self._said = (now, text)

    def add(self, order: Order) -> None:
        """Ask for something; what lasts is asked for once, and a newer mode takes the place of an older one.

        The power off goes first, and a mode last: one that is refused for ever must not hold up a landing.
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
            self._tries = 0  # another one is asked for now

    def clear(self) -> None:
        """Void everything that was asked for."""
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
            self._said = (now, text)  # but it has to be so: it is asked for until somebody answers
        self._began_at = now if self._tries == 0 else self._began_at
        self._tries, self._sent_at = self._tries + 1, now
        return order, min(self._tries - 1, 255)

    def seen(self, armed: bool | None, mode: int | None, now: float) -> None:
        """Take what a heartbeat says: an order that is so is done."""
        head = self._waiting[0] if self._waiting and self._tries else None
        if head is not None and _is_so(head, armed, mode) and now - self._began_at >= _ANSWER_WITHIN:
            self._finish(now)  # what was on its way when it was asked for says nothing
        if self._accepted is not None:
            order, since = self._accepted
            if _is_so(order, armed, mode):
                self._accepted = None
            elif now - since > _SEEN_WITHIN:
                self._accepted = None
                self._said = (now, f'"{order.name}" was accepted, and its heartbeat does not say that it is so')

    def answered(self, number: int, result: int, now: float) -> None:
        """Take the acknowledgement of a command."""
        if not self._waiting or not self._tries or number != self._waiting[0].number:
            return
        head = self._waiting[0]
        if result == mavlink.IN_PROGRESS and now - self._began_at < _DONE_WITHIN:
            self._tries, self._sent_at = 1, now
        elif result == mavlink.ACCEPTED and head.lasts:
            # Its heartbeat has to say so: arm and disarm have one number, and this may be the answer to the other.
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
        """Be done with the order at the head."""
        self._waiting.popleft()
        self._tries = 0
        if text:
            self._said = (now, text)


def _is_so(order: Order, armed: bool | None, mode: int | None) -> bool:
    return (order.armed is not None and order.armed is armed) or (order.mode is not None and order.mode == mode)
