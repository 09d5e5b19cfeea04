"""The robots at a broker: their states, and one stop for all of them."""

from __future__ import annotations

from tenuto.basics.errors import SourceError
from tenuto.basics.extras import how_to_get
from tenuto.basics.late import Late
from tenuto.driving.guard import State
from tenuto.links.broker import Broker
from tenuto.links.topics import command_topic, robot_of, state_topic
from tenuto.protocols.remote import DriverEnd, RemoteState, read_json

# A robot that has sent no state for this time, s, is "silent"; one whose program has ended is "gone".
SILENT_AFTER = 1.0
GONE, SILENT = "gone", "silent"
# How long a stop is repeated, s, unless the robot confirms it.
ASKED_FOR = 10.0

_brokered = Late("tenuto.protocols.brokered", SourceError, how_to_get("cryptography"))


class Robots:
    """The states of the robots at a broker.

    Attributes:
        states: robot → its newest state.
    """

    def __init__(self, broker: Broker) -> None:
        self.states: dict[str, RemoteState] = {}
        self._came: dict[str, float] = {}
        self._inbox = broker.listen(state_topic())

    def hear(self, now: float) -> None:
        """Take the new messages; ``now`` in s."""
        while self._inbox:
            message = self._inbox.popleft()
            if (state := read_json(RemoteState, message.data.partition(b"\n")[0])) is not None:
                self.states[robot_of(message.topic)] = state
                self._came[robot_of(message.topic)] = now

    def came(self, name: str) -> float:
        """Return when the newest state of a robot came, s."""
        return self._came[name]

    def condition(self, name: str, now: float) -> str:
        """Return the state of a robot: that of its guard, "silent", or "gone" if its program has ended."""
        state = self.states[name].state
        return state if state == GONE or now - self._came[name] <= SILENT_AFTER else SILENT

    def why(self, name: str, now: float) -> list[str]:
        """Explain why a robot stands, or its other messages."""
        condition = self.condition(name, now)
        if condition == GONE:
            return ["its program has ended, or its line is cut"]
        if condition == SILENT:
            return [f"nothing heard for {now - self._came[name]:.0f} s"]
        return list(self.states[name].reasons)

    def as_json(self, now: float) -> dict[str, object]:
        """The same as plain data."""
        return {
            name: {"condition": self.condition(name, now), **state.model_dump()} for name, state in self.states.items()
        }


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

    def __init__(self, broker: Broker, robots: Robots, name: str, key: bytes | None = None) -> None:
        """Take the robots at a broker.

        Args:
            broker, robots: see there.
            name: of the sender, as a driver's name. key: of this driver, if the robots have keys.
        """
        self._broker, self._robots, self._name, self._key = broker, robots, name, key
        self._ends: dict[str, DriverEnd] = {}
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
                continue
            if now - begun > ASKED_FOR:
                continue
            end = self._ends.setdefault(name, DriverEnd(self._name))
            end.hear(state, now)
            command, topic = end.emergency_stop(), command_topic(name)
            if command is not None:
                sealed = self._key is not None
                data = (
                    _brokered.seal_command(command, topic, self._key) if sealed else command.model_dump_json().encode()
                )
                self._broker.send(topic, data, expires=True)
