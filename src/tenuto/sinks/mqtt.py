"""A robot on another machine, over an MQTT broker."""

from __future__ import annotations

import json
import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from tenuto.basics.errors import SinkError
from tenuto.basics.extras import how_to_get
from tenuto.basics.late import Late
from tenuto.kinds.options import option
from tenuto.kinds.quantities import FREQUENCY
from tenuto.links.broker_settings import BrokerOptions, BrokerSettings, Message
from tenuto.links.key_file import read_key
from tenuto.links.names import own_name
from tenuto.links.topics import command_topic, driver_topic, state_topic
from tenuto.protocols.remote import RemoteCommand, RemoteState, read_json
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
        self._forged = -math.inf
        driver = driver or own_name()
        self._own = None
        if isinstance(broker, BrokerSettings):
            broker = self._own = broker_for_driver(broker, driver)
        self._broker = broker
        super().__init__(f"{robot} at {self._broker.name}", driver, rate)
        self._topic = command_topic(robot)
        self._state_topic = state_topic(robot)
        self._states = self._broker.listen(self._state_topic)

    def close(self) -> None:
        """Disconnect from the broker, if the connection is this sink's own."""
        if self._own is not None:
            self._own.close()

    def _line_problem(self) -> str:
        if not self._broker.problem and self.clock.now() - self._forged < _TOLD_FOR:
            return f"a state of it came that is not signed for {self.end.name} with this key"
        return self._broker.problem

    def _hear(self) -> None:
        now = self.clock.now()
        while self._states:
            data = self._states.popleft().data
            if self._key is None:
                state = read_json(RemoteState, data.partition(b"\n")[0])
            else:
                state = _brokered.open_state(data, self._state_topic, self.end.name, self._key)
                self._forged = self._forged if state is not None else now
            if state is not None:
                self.end.hear(state, now)

    def _send(self, command: RemoteCommand) -> None:
        plain = self._key is None
        data = command.model_dump_json().encode() if plain else _brokered.seal_command(command, self._topic, self._key)
        self._broker.send(self._topic, data, expires=True)


def broker_for_driver(settings: BrokerSettings, driver: str) -> Broker:
    """Connect a driver's machine to a broker; if it dies, the broker reports it to every robot that it drove."""
    from tenuto.links.broker import Broker

    there, gone = (json.dumps({"driver": driver, "here": here}).encode() for here in (True, False))
    topic = driver_topic(driver)
    return Broker(settings, SinkError, will=Message(topic, gone), greeting=Message(topic, there))


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
