"""Commands for a robot, over an MQTT broker."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from pydantic import BaseModel, Field

from tenuto.basics.errors import SourceError
from tenuto.basics.extras import how_to_get
from tenuto.basics.late import Late
from tenuto.clock import Timer
from tenuto.links.broker_settings import BrokerOptions, BrokerSettings, Message
from tenuto.links.key_ring import KeyRing
from tenuto.links.topics import command_topic, driver_topic, state_topic
from tenuto.protocols.remote import LONGEST_NAME, RemoteCommand, RemoteState, RobotEnd, read_json
from tenuto.sources.base import Source, SourceOptions
from tenuto.sources.remote import RemoteSource

if TYPE_CHECKING:
    from tenuto.links.broker import Broker

_brokered = Late("tenuto.protocols.brokered", SourceError, how_to_get("cryptography"))


class MqttSource(RemoteSource):
    """Commands for one robot, over a broker.

    Raises:
        SourceError: a file with a password or certificates is invalid.
    """

    def __init__(self, robot: str, broker: Broker | BrokerSettings, ring: KeyRing | None = None) -> None:
        """Begin to receive the commands for a robot.

        Args:
            robot: its name at the broker.
            broker: a connection, or a function that makes one. It reports "gone" for the robot if this program dies.
            ring: the drivers' keys; with it only sealed commands count, and states are signed. The source
                closes it.
        """
        self._own: Broker | None = None
        self._ring, self._topic, self._commanded_on = ring, state_topic(robot), command_topic(robot)
        if isinstance(broker, BrokerSettings):
            from tenuto.links.broker import Broker

            gone = RobotEnd().state(0.0).model_copy(update={"state": "gone"})
            will = Message(self._topic, self._signed(gone))
            broker = self._own = Broker(broker, SourceError, will=will)
        super().__init__(f"{robot} at {broker.name}")
        self._broker = broker
        self._commands, self._drivers = broker.listen(self._commanded_on), broker.listen(driver_topic())

    def close(self) -> None:
        """Disconnect from the broker, if the connection is this source's own."""
        if self._ring is not None:
            self._ring.close()
        if self._own is not None:
            self._own.close()

    @property
    def _trouble(self) -> str:
        return self._broker.problem

    def _receive(self, now: float) -> Iterable[RemoteCommand | None]:
        while self._commands:
            data = self._commands.popleft().data
            if self._ring is None:
                yield read_json(RemoteCommand, data)
                continue
            command = _brokered.open_command(data, self._commanded_on, self._ring.keys)
            if isinstance(command, str):
                self.end.warn(command, now)
            else:
                yield command

    def _signed(self, state: RemoteState) -> bytes:
        ring = self._ring
        return state.to_json() if ring is None else _brokered.sign_state(state, self._topic, ring.keys)

    def _send(self, state: RemoteState) -> None:
        self._broker.send(self._topic, self._signed(state), retain=True)

    def _gone(self) -> bool:
        gone = False
        while self._drivers:
            gone = self.end.gone(_driver_of(self._drivers.popleft().data)) or gone
        return gone


class _DriverWord(BaseModel):
    """Whether the machine of a driver is at the broker."""

    driver: str = Field(max_length=LONGEST_NAME)
    here: bool


def _driver_of(data: bytes) -> str:
    """Return the driver whose machine is gone; empty for any other message."""
    said = read_json(_DriverWord, data)
    return said.driver if said is not None and not said.here else ""


@dataclass(frozen=True, kw_only=True)
class MqttSourceOptions(BrokerOptions, SourceOptions):
    """Commands from another machine, over a broker."""

    kind: ClassVar[str] = "mqtt"
    in_profiles: ClassVar[bool] = False

    def open(self, clock: Timer) -> Source:
        """Start to connect."""
        settings, robot = self.settings(SourceError)
        return MqttSource(robot, settings, KeyRing(self.key, SourceError, clock) if self.key is not None else None)
