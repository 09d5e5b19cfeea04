"""The robots at a broker: their states, and one stop for all of them."""

from __future__ import annotations

import math

from tenuto.basics.errors import SourceError
from tenuto.basics.extras import how_to_get
from tenuto.basics.late import Late
from tenuto.driving.guard import State
from tenuto.links.broker import Broker
from tenuto.links.broker_settings import is_robot_name, unread
from tenuto.links.topics import command_topic, robot_of, state_topic
from tenuto.protocols.remote import GONE, RemoteAsk, RemoteCommand, RemoteState, read_line
from tenuto.protocols.remote_ends import DriverEnd

# A robot that has sent no state for this time, s, is "silent"; one whose program has ended is "gone".
SILENT_AFTER = 1.0
SILENT = "silent"
# How long a stop is repeated, s, unless the robot confirms it.
ASKED_FOR = 10.0
# The most robots that are listened to: whoever may write to the broker can name any number of them.
MOST_ROBOTS = 64

_brokered = Late("tenuto.protocols.brokered", SourceError, how_to_get("cryptography"))


class Robots:
    """The states of the robots at a broker.

    Without a key it only listens, and shows what anybody who may write to the broker says. With the key of a driver
    it asks the robots, and a state counts only if it answers and is signed for this driver.

    Attributes:
        states: robot → its newest state. checked: whether states are checked with a key.
        too_many: whether there are more than `MOST_ROBOTS`; the others are not shown.
    """

    def __init__(self, broker: Broker, name: str = "", key: bytes | None = None) -> None:
        """Listen at a broker; ``name`` and ``key`` are those of a driver."""
        self.states: dict[str, RemoteState] = {}
        self.checked, self.too_many = key is not None, False
        self._broker, self.name, self._key = broker, name, key
        self._came: dict[str, float] = {}
        self._ends: dict[str, DriverEnd] = {}
        # The newest state of each, whoever made it: enough to request a stop.
        self._any: dict[str, RemoteState] = {}
        self._inbox = broker.listen(state_topic(), 4 * MOST_ROBOTS)

    def hear(self, now: float) -> None:
        """Take the new messages, and ask the robots if that is due; ``now`` in s."""
        for topic, data, kept in unread(self._inbox):
            state, name = read_line(RemoteState, data), robot_of(topic)
            if state is not None and is_robot_name(name):
                self._take(name, state, data, now, kept=kept)
        for name, end in self._ends.items() if self.checked else ():
            if (ask := end.ask(now)) is not None:
                self._send(name, ask)

    def _take(self, name: str, state: RemoteState, data: bytes, now: float, *, kept: bool) -> None:
        if name not in self.states and len(self.states) >= MOST_ROBOTS:
            self.too_many = True
            return
        end = self._ends.setdefault(name, DriverEnd(self.name, self._broker.run))
        self._any[name], counts = state, True
        if self._key is not None:
            signed = _brokered.open_state(data, state_topic(name), self.name, self._key)
            counts = signed is not None and (end.hear(signed, now) or (state.state == GONE and end.is_gone))
        if counts or name not in self.states:
            self.states[name] = state
            # What the broker has kept may be of any age, and what is not signed may be anybody's.
            self._came[name] = now if counts and not (kept and state.state != GONE) else -math.inf

    def came(self, name: str) -> float:
        """Return when the newest state of a robot came, s; minus infinity if none has come that counts."""
        return self._came[name]

    def condition(self, name: str, now: float) -> str:
        """Return the state of a robot: that of its guard, "silent", or "gone" if its program has ended."""
        if math.isinf(self._came[name]) or (self.states[name].state != GONE and now - self._came[name] > SILENT_AFTER):
            return SILENT
        return self.states[name].state

    def why(self, name: str, now: float) -> list[str]:
        """Explain why a robot stands, or its other messages."""
        condition = self.condition(name, now)
        if condition == GONE:
            return ["its program has ended, or its line is cut"]
        if condition == SILENT and math.isinf(self._came[name]):
            what = f"signed for {self.name} and answers this program" if self.checked else "new"
            return [f"nothing came of it that is {what}"]
        if condition == SILENT:
            return [f"nothing heard for {now - self._came[name]:.0f} s"]
        return list(self.states[name].reasons)

    def as_json(self, now: float) -> dict[str, object]:
        """The same as plain data."""
        return {
            name: {"condition": self.condition(name, now), **state.model_dump(exclude={"answers", "life", "run"})}
            for name, state in self.states.items()
        }

    def request_stop(self, name: str, now: float) -> None:
        """Send a robot the request for an emergency stop. What it repeats is that of any state: it moves nothing."""
        end = self._ends[name]
        command = end.emergency_stop(now, None if now - end.heard_at <= SILENT_AFTER else self._any[name])
        if command is not None:
            self._send(name, command)

    def _send(self, name: str, message: RemoteCommand | RemoteAsk) -> None:
        topic = command_topic(name)
        data = (
            message.model_dump_json().encode() if self._key is None
            else _brokered.seal_command(message, topic, self._key)
        )  # fmt: skip
        self._broker.send(topic, data, expires=True)


def unconfirmed(since: float | None, now: float) -> str:
    """Describe a stop that was requested at ``since`` and not confirmed; empty for none. Both in s."""
    if since is None:
        return ""
    if now - since <= ASKED_FOR:
        return "asked to stop; it has not confirmed yet"
    return f"asked to stop, and not confirmed within {ASKED_FOR:.0f} s: stop it at the robot"


class Stopper:
    """Requests an emergency stop of robots, whoever drives them. Their drivers reset it, each at their own machine.

    A robot with keys accepts it only with one of them.
    """

    def __init__(self, robots: Robots) -> None:
        """Take the robots at a broker, and their driver's name and key."""
        self._robots = robots
        self._since: dict[str, float | None] = {}

    def stop(self, *names: str) -> None:
        """Request an emergency stop of some robots, by default of all known ones. `go_on` sends it."""
        self._since |= dict.fromkeys(names or self._robots.states)

    def asked(self, name: str, now: float) -> str:
        """Describe a stop that was requested of a robot and not confirmed; empty for none."""
        return unconfirmed(self._since.get(name), now)

    def go_on(self, now: float) -> None:
        """Send the pending requests: call it some twenty times a second, ``now`` in s."""
        for name, since in list(self._since.items()):
            state, begun = self._robots.states.get(name), now if since is None else since
            self._since[name] = begun
            # Only a state that came after the request confirms it: an earlier stop may have been reset since.
            confirmed = state is not None and state.state == State.EMERGENCY_STOP and self._robots.came(name) > begun
            if state is None or state.state == GONE or confirmed:
                del self._since[name]
            elif now - begun <= ASKED_FOR:
                self._robots.request_stop(name, now)
