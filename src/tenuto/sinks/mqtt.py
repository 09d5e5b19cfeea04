"""A robot on another machine, by way of an MQTT broker."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from tenuto.basics.errors import SinkError
from tenuto.kinds.options import option
from tenuto.kinds.quantities import FREQUENCY
from tenuto.links.broker_settings import BrokerOptions, BrokerSettings, Message
from tenuto.links.names import own_name
from tenuto.links.topics import command_topic, driver_topic, state_topic
from tenuto.protocols.remote import RemoteCommand, RemoteState, read_json
from tenuto.sinks.base import Sink
from tenuto.sinks.remote import RemoteSink, RemoteSinkOptions

if TYPE_CHECKING:
    from tenuto.links.broker import Broker


class MqttSink(RemoteSink):
    """Commands for one robot, by way of a broker.

    A command that the broker cannot hand on within a second is thrown away there. When this program is gone, the
    broker says so to the robot.

    Raises:
        SinkError: a file with a password or certificates is not good.
    """

    def __init__(
        self,
        robot: str,
        broker: Broker | BrokerSettings,
        *,
        rate: float = 20.0,
        driver: str | None = None,
    ) -> None:
        """Open the way to a robot.

        Args:
            robot: its name at the broker.
            broker: a connection, which several sinks may share (see `broker_for_driver`), or how to make one.
            rate: how many commands a second at most.
            driver: a name that no other driver's program has; made up if none is given.
        """
        driver = driver or own_name()
        self._own = None
        if isinstance(broker, BrokerSettings):
            broker = self._own = broker_for_driver(broker, driver)
        self._broker = broker
        super().__init__(f"{robot} at {self._broker.name}", driver, rate)
        self._topic = command_topic(robot)
        self._states = self._broker.listen(state_topic(robot))

    def close(self) -> None:
        """Leave the broker, where the connection is this sink's own."""
        if self._own is not None:
            self._own.close()

    def _line_problem(self) -> str:
        return self._broker.problem

    def _hear(self) -> None:
        while self._states:
            state = read_json(RemoteState, self._states.popleft().data)
            if state is not None:
                self.end.hear(state, self.clock.now())

    def _send(self, command: RemoteCommand) -> None:
        self._broker.send(self._topic, command.model_dump_json().encode(), expires=True)


def broker_for_driver(settings: BrokerSettings, driver: str) -> Broker:
    """Connect a driver's machine to a broker; when it is gone, the broker tells every robot that it drove."""
    from tenuto.links.broker import Broker

    there, gone = (json.dumps({"driver": driver, "here": here}).encode() for here in (True, False))
    topic = driver_topic(driver)
    return Broker(settings, SinkError, will=Message(topic, gone), greeting=Message(topic, there))


@dataclass(frozen=True, kw_only=True)
class MqttSinkOptions(BrokerOptions, RemoteSinkOptions):
    """A robot elsewhere, by way of a broker."""

    kind: ClassVar[str] = "mqtt"
    rate: float = option('a frequency, such as "25 Hz"', 20.0, dimension=FREQUENCY, word="HZ")
    driver: str | None = option("a name that no other driver's program has", None, word="NAME")

    def packages(self) -> tuple[str, ...]:
        """Return the module that speaks it."""
        return ("paho",)

    def open(self) -> Sink:
        """Begin to connect."""
        settings, robot = self.settings(SinkError)
        return MqttSink(robot, settings, rate=self.rate, driver=self.driver)
