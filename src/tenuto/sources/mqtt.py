"""Commands for a robot, over an MQTT broker."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from tenuto.basics.errors import SourceError
from tenuto.basics.extras import how_to_get
from tenuto.basics.late import Late
from tenuto.clock import Timer
from tenuto.links.broker_settings import BrokerOptions, BrokerSettings, Message, unread
from tenuto.links.key_ring import KeyRing
from tenuto.links.topics import command_topic, driver_topic, state_topic
from tenuto.protocols.remote import (
    LONGEST_STATE,
    DriverGone,
    RemoteAsk,
    RemoteCommand,
    RemoteState,
    other_form,
    read_from_driver,
    read_line,
)
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
        super().__init__(robot)
        self._own: Broker | None = None
        self._ring, self._topic, self._commanded_on = ring, state_topic(robot), command_topic(robot)
        if isinstance(broker, BrokerSettings):
            from tenuto.links.broker import Broker

            def will(_: str, life: int) -> Message:
                return Message(self._topic, self._signed(self.end.last_will(life)))

            broker = self._own = Broker(broker, SourceError, will=will, keep_will=True)
        self._broker, self.name = broker, f"{robot} at {broker.name}"
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

    def _receive(self, now: float) -> Iterable[RemoteCommand | RemoteAsk | None]:
        for data in (message.data for message in unread(self._commands)):
            if self._ring is None:
                command = read_from_driver(data)
                if command is None and (other := other_form(data)):
                    self.end.warn(other, now)
                yield command
                continue
            opened = _brokered.open_command(data, self._commanded_on, self._ring.keys)
            if isinstance(opened, str):
                self.end.warn(opened, now)
            else:
                yield opened

    def _signed(self, state: RemoteState) -> bytes:
        ring = self._ring
        if ring is None:
            return state.to_json(LONGEST_STATE)
        signed: bytes = _brokered.sign_state(state, self._topic, ring.keys)
        return signed

    def _send(self, state: RemoteState) -> None:
        self._broker.send(self._topic, self._signed(state), retain=True)

    def _gone(self, now: float) -> bool:
        gone = False
        for topic, data, _ in unread(self._drivers):
            if self._ring is None:
                will = read_line(DriverGone, data)
            else:
                will = _brokered.open_gone(data, topic, self._ring.keys)
            gone = (will is not None and self.end.gone(will, now)) or gone
        return gone


@dataclass(frozen=True, kw_only=True)
class MqttSourceOptions(BrokerOptions, SourceOptions):
    """Commands from another machine, over a broker."""

    kind: ClassVar[str] = "mqtt"
    in_profiles: ClassVar[bool] = False

    def open(self, clock: Timer) -> Source:
        """Start to connect."""
        settings, robot = self.settings(SourceError)
        return MqttSource(robot, settings, KeyRing(self.key, SourceError, clock) if self.key is not None else None)
