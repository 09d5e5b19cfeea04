"""A robot on another machine, over encrypted and authenticated datagrams."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar, Literal

from tenuto.basics.errors import SinkError
from tenuto.basics.extras import how_to_get
from tenuto.basics.late import Late
from tenuto.kinds.options import option
from tenuto.kinds.quantities import FREQUENCY
from tenuto.links.black_box import BlackBox
from tenuto.links.key_file import read_key
from tenuto.links.names import own_name
from tenuto.links.udp import UdpPort, parse_address
from tenuto.protocols.compact import pack_command
from tenuto.protocols.remote import RemoteAsk, RemoteCommand, RemoteState, other_form, read_json
from tenuto.sinks.base import Sink
from tenuto.sinks.remote import RemoteSink, RemoteSinkOptions

if TYPE_CHECKING:
    from tenuto.protocols.sealed import Session

_sealed = Late("tenuto.protocols.sealed", SinkError, how_to_get("cryptography"))
FORMS = ("json", "compact")
# The interval of its greetings, and the silence of the robot after which it greets again, s.
_HELLO_EVERY, _SILENT_AFTER = 0.25, 1.0
# The interval of datagrams in a new session until the robot answers in it, s: one may be lost.
_USED_EVERY = 0.1


class UdpSink(RemoteSink):
    """Commands for one robot, over UDP.

    Raises:
        SinkError: the address or the key file is invalid.
    """

    def __init__(
        self, place: str, *, key: str, rate: float = 50.0, form: str = "json", driver: str | None = None
    ) -> None:
        """Open the link to a robot.

        Args:
            place: ``HOST:PORT`` of the robot. key: the file with the shared key.
            rate: the greatest number of commands per second. form: "json", or "compact", 44 bytes without outputs.
            driver: the name of the driver; random if none is given.
        """
        if form not in FORMS:
            raise SinkError(f"udp: expected form to be one of {', '.join(FORMS)}; found {form}")
        driver = driver or own_name()
        super().__init__(f"robot at {place}", driver, rate)
        self._handshake = _sealed.DriverHandshake(read_key(key, SinkError), driver)
        self._udp = UdpPort(peer=parse_address(place, SinkError), error=SinkError)
        self._session: Session | None = None
        self._heard = self._called = self._used = -math.inf
        self._compact = form == "compact"
        self._other_form = ""

    def record_raw(self, box: BlackBox) -> bool:
        """Send all bytes to a black box from now on."""
        return self._udp.record_raw(box)

    def close(self) -> None:
        """Close the socket."""
        self._udp.close()

    def _line_problem(self) -> str:
        if self._session is None:
            return (
                "no answer yet: check that it listens there with the same key, and that nobody else drives it; "
                f"if each driver has a key, that one of them is for {self.end.name}"
            )
        return f"it sends {self._other_form}" if self._other_form else ""

    def _hear(self) -> None:
        now = self.clock.now()
        for datagram, sender in self._udp.receive():
            if sender != self._udp.peer:
                continue
            session = self._handshake.welcome(datagram)
            if session is not None:
                self._session, self._heard, self._used = session, now, -math.inf
            elif self._session is not None and (data := self._session.open(datagram)) is not None:
                self._heard, self._used = now, math.inf
                state = read_json(RemoteState, data)
                self._other_form = "" if state is not None else other_form(data) or self._other_form
                if state is not None:
                    self.end.hear(state, now)
        if self._session is not None and now - self._used > _USED_EVERY:
            self._used = now
            self._udp.send(self._session.seal(b""))  # the robot answers after the first datagram of the session
        if now - self._heard > _SILENT_AFTER and now - self._called > _HELLO_EVERY:
            self._called = now
            self._udp.send(self._handshake.hello())

    def _send(self, message: RemoteCommand | RemoteAsk) -> None:
        if self._session is not None:
            if self._compact and isinstance(message, RemoteCommand):
                data = pack_command(message)
            else:
                data = message.model_dump_json().encode()
            self._udp.send(self._session.seal(data))


@dataclass(frozen=True, kw_only=True)
class UdpSinkOptions(RemoteSinkOptions):
    """A robot on another machine, by encrypted datagrams."""

    kind: ClassVar[str] = "udp"
    address: str = option("an address, such as 192.168.1.20:14660", word="HOST:PORT", place=True)
    key: str = option("a key file, required so that nobody else can drive: see tenuto key --help", word="FILE")
    rate: float = option('a frequency, such as "25 Hz"', 50.0, dimension=FREQUENCY, word="HZ")
    form: Literal["json", "compact"] = option('"json" or "compact"', "json", word="json|compact")
    driver: str | None = option("a name that no other driver uses", None, word="NAME")

    def packages(self) -> tuple[str, ...]:
        """Return the module of the encryption."""
        return ("cryptography",)

    def open(self) -> Sink:
        """Open a socket."""
        return UdpSink(self.address, key=self.key, rate=self.rate, form=self.form, driver=self.driver)
