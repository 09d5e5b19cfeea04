"""Commands for a robot, by way of an MQTT broker."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from tenuto.basics.errors import SourceError
from tenuto.clock import Timer
from tenuto.links.broker_settings import BrokerOptions, BrokerSettings, Message
from tenuto.links.topics import command_topic, driver_topic, state_topic
from tenuto.protocols.remote import RemoteCommand, RemoteState, RobotEnd, read_json
from tenuto.sources.base import Source, SourceOptions
from tenuto.sources.remote import RemoteSource

if TYPE_CHECKING:
    from tenuto.links.broker import Broker


class MqttSource(RemoteSource):
    """Commands for one robot, by way of a broker.

    Raises:
        SourceError: a file with a password or certificates is not good.
    """

    def __init__(self, robot: str, broker: Broker | BrokerSettings) -> None:
        """Listen for the commands of a robot.

        Args:
            robot: its name at the broker.
            broker: a connection, or how to make one. Its own says "gone" for the robot when the program is.
        """
        self._own: Broker | None = None
        if isinstance(broker, BrokerSettings):
            from tenuto.links.broker import Broker

            gone = RobotEnd().state(0.0).model_copy(update={"state": "gone"})
            will = Message(state_topic(robot), gone.to_json())
            broker = self._own = Broker(broker, SourceError, will=will)
        super().__init__(f"{robot} at {broker.name}")
        self._broker, self._topic = broker, state_topic(robot)
        self._commands, self._drivers = broker.listen(command_topic(robot)), broker.listen(driver_topic())

    def close(self) -> None:
        """Leave the broker, where the connection is this source's own."""
        if self._own is not None:
            self._own.close()

    def _receive(self, now: float) -> Iterable[RemoteCommand | None]:
        while self._commands:
            yield read_json(RemoteCommand, self._commands.popleft().data)

    def _send(self, state: RemoteState) -> None:
        self._broker.send(self._topic, state.to_json(), retain=True)

    def _gone(self) -> bool:
        gone = False
        while self._drivers:
            gone = self.end.gone(_driver_of(self._drivers.popleft().data)) or gone
        return gone


def _driver_of(data: bytes) -> str:
    """Read whose machine is gone; empty where the message says no such thing."""
    try:
        said = json.loads(data)
        return str(said["driver"]) if said["here"] is False else ""
    except (ValueError, TypeError, KeyError):
        return ""


@dataclass(frozen=True, kw_only=True)
class MqttSourceOptions(BrokerOptions, SourceOptions):
    """Commands from elsewhere, by way of a broker."""

    kind: ClassVar[str] = "mqtt"
    in_profiles: ClassVar[bool] = False

    def open(self, clock: Timer) -> Source:
        """Begin to connect."""
        settings, robot = self.settings(SourceError)
        return MqttSource(robot, settings)
