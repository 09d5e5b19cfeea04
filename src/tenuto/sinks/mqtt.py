"""A robot on another machine, over an MQTT broker."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from tenuto.basics.errors import SinkError
from tenuto.basics.extras import how_to_get
from tenuto.basics.late import Late
from tenuto.kinds.options import option
from tenuto.kinds.quantities import FREQUENCY
from tenuto.links.broker_settings import BrokerOptions, BrokerSettings, Message, unread
from tenuto.links.key_file import read_key
from tenuto.links.names import own_name
from tenuto.links.topics import command_topic, driver_topic, state_topic
from tenuto.protocols.remote import DriverGone, RemoteAsk, RemoteCommand, RemoteState, other_form, read_line
from tenuto.sinks.base import Sink
from tenuto.sinks.remote import RemoteSink, RemoteSinkOptions

if TYPE_CHECKING:
    from tenuto.links.broker import Broker

_brokered = Late("tenuto.protocols.brokered", SinkError, how_to_get("cryptography"))
# How long the notice about a state that is not genuine is shown, s.
_TOLD_FOR = 5.0


class MqttSink(RemoteSink):
    """Commands for one robot, over a broker.

    The broker drops a command that it cannot deliver within a second. If this program dies, the
    broker reports it to the robot.

    Raises:
        SinkError: a file with a password or certificates is invalid.
    """

    def __init__(
        self,
        robot: str,
        broker: Broker | BrokerSettings,
        *,
        rate: float = 20.0,
        driver: str | None = None,
        key: str | None = None,
    ) -> None:
        """Open the link to a robot.

        Args:
            robot: its name at the broker.
            broker: a connection, which several sinks may share (see `broker_for_driver`), or a function that makes one.
            rate: the greatest number of commands per second.
            driver: a unique name of the driver; random if none is given.
            key: the file with this driver's key, if the robot has keys.
        """
        self._key = read_key(key, SinkError) if key is not None else None
        self._forged, self._other_form = -math.inf, ""
        driver = driver or own_name()
        self._own = None
        if isinstance(broker, BrokerSettings):
            broker = self._own = broker_for_driver(broker, driver, [self._key] if self._key is not None else ())
        self._broker = broker
        super().__init__(f"{robot} at {broker.name}", driver, rate, broker.run)
        self._topic = command_topic(robot)
        self._state_topic = state_topic(robot)
        self._states = self._broker.listen(self._state_topic)

    def close(self) -> None:
        """Disconnect from the broker, if the connection is this sink's own."""
        if self._own is not None:
            self._own.close()

    def _line_problem(self) -> str:
        if self._broker.problem:
            return self._broker.problem
        if self._other_form:
            return f"it sends {self._other_form}"
        if self.clock.now() - self._forged < _TOLD_FOR and self.clock.now() - self.end.heard_at > _TOLD_FOR:
            return f"its states are not signed for {self.end.name} with this key"
        return ""

    def _hear(self) -> None:
        now = self.clock.now()
        for data in (message.data for message in unread(self._states)):
            if self._key is None:
                state = read_line(RemoteState, data)
            else:
                state = _brokered.open_state(data, self._state_topic, self.end.name, self._key)
                self._forged = self._forged if state is not None else now
            self._other_form = "" if state is not None else other_form(data) or self._other_form
            if state is not None:
                self.end.hear(state, now)

    def _send(self, message: RemoteCommand | RemoteAsk) -> None:
        plain = self._key is None
        data = message.model_dump_json().encode() if plain else _brokered.seal_command(message, self._topic, self._key)
        self._broker.send(self._topic, data, expires=True)


def broker_for_driver(settings: BrokerSettings, driver: str, keys: Iterable[bytes] = ()) -> Broker:
    """Connect a driver's machine to a broker; if it dies, the broker reports it to every robot that it drove.

    Args:
        settings, driver: see `MqttSink`.
        keys: those of this driver at the robots; its last will is signed with each of them.
    """
    from tenuto.links.broker import Broker

    topic, known = driver_topic(driver), list(keys)

    def will(run: str, life: int) -> Message:
        gone = DriverGone(driver=driver, run=run, life=life)
        data: bytes = _brokered.sign_gone(gone, topic, known) if known else gone.model_dump_json().encode()
        return Message(topic, data)

    return Broker(settings, SinkError, will=will)


@dataclass(frozen=True, kw_only=True)
class MqttSinkOptions(BrokerOptions, RemoteSinkOptions):
    """A robot on another machine, over a broker."""

    kind: ClassVar[str] = "mqtt"
    rate: float = option('a frequency, such as "25 Hz"', 20.0, dimension=FREQUENCY, word="HZ")
    driver: str | None = option("a name that no other driver uses", None, word="NAME")

    def packages(self) -> tuple[str, ...]:
        """Return the module of the protocol."""
        return ("paho",) if self.key is None else ("paho", "cryptography")

    def open(self) -> Sink:
        """Start to connect."""
        settings, robot = self.settings(SinkError)
        return MqttSink(robot, settings, rate=self.rate, driver=self.driver, key=self.key)
