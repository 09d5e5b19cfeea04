"""Commands for a robot, over encrypted and authenticated datagrams."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from tenuto.basics.errors import SourceError
from tenuto.basics.extras import how_to_get
from tenuto.basics.late import Late
from tenuto.clock import REAL, Timer
from tenuto.kinds.options import option
from tenuto.links.black_box import BlackBox
from tenuto.links.key_ring import KeyRing
from tenuto.links.udp import MOST_AT_ONCE, Address, UdpPort, parse_address
from tenuto.protocols.compact import unpack_command
from tenuto.protocols.fresh import LET_GO_AFTER
from tenuto.protocols.remote import RemoteAsk, RemoteCommand, RemoteState, other_form, read_from_driver
from tenuto.sources.base import Source, SourceOptions
from tenuto.sources.remote import RemoteSource

if TYPE_CHECKING:
    from tenuto.protocols.sealed import Pending, Session

_sealed = Late("tenuto.protocols.sealed", SourceError, how_to_get("cryptography"))

# The number of datagrams from strangers that are read in one tick, which limits the cost of a flood.
_MOST_FROM_STRANGERS = 40


class UdpSource(RemoteSource):
    """Commands for one robot, over UDP.

    The driver who has the robot gets a socket of its own, for which the system accepts nothing from other
    addresses: a flood from elsewhere fills another buffer, of which little is read in each tick.

    Attributes:
        address: where it listens.

    Raises:
        SourceError: the address is in use or invalid, or the key file is invalid.
    """

    def __init__(self, place: str, *, key: str, clock: Timer = REAL) -> None:
        """Listen at ``HOST:PORT``, or at ``:PORT`` for all addresses of this machine.

        Args:
            place: see above. key: a file with one key for all drivers, or with a line ``NAME KEY`` for each.
            clock: for reading the file again.
        """
        super().__init__(f"commands at {place}")
        self._ring = KeyRing(key, SourceError, clock)
        self._handshake = _sealed.RobotHandshake(lambda: self._ring.keys)
        self._key = b""
        self._door = UdpPort(bind=parse_address(place, SourceError), shared=True, error=SourceError)
        self.address: Address = self._door.address
        self._session: Session | None = None
        self._line: UdpPort | None = None
        self._driver = ""
        self._heard = -LET_GO_AFTER

    def record_raw(self, box: BlackBox) -> bool:
        """Send all datagrams to a black box from now on."""
        return self._door.record_raw(box)

    def close(self) -> None:
        """Close the sockets."""
        self._ring.close()
        self._door.close()
        if self._line is not None:
            self._line.close()

    def _receive(self, now: float) -> Iterable[RemoteCommand | RemoteAsk | None]:
        if self._session is not None and self._key not in self._ring.keys.values():
            self.end.warn(f"nothing valid: the key of {self._driver} was removed here", now)
            self._session = None
        if self._handshake.forged:
            self.end.warn(self._handshake.forged, now)
            self._handshake.forged = ""
        for port, most in ((self._line, MOST_AT_ONCE), (self._door, _MOST_FROM_STRANGERS)):
            for datagram, sender in port.receive(most) if port is not None else ():
                yield from self._look(datagram, sender, now)

    def _look(self, datagram: bytes, sender: Address, now: float) -> Iterable[RemoteCommand | RemoteAsk | None]:
        """Read one datagram: of the session, of a new session, or a hello."""
        if self._line is not None and sender == self._line.peer and self._session is not None:
            data = self._session.open(datagram)
            if data is not None:
                yield from self._take(data, now)
                return
        if (welcome := self._handshake.hello(datagram, now)) is not None:
            (self._line if self._line is not None and sender == self._line.peer else self._door).send(welcome, sender)
        elif (first := self._handshake.first(datagram)) is not None:
            pending, data = first
            if pending.driver == self._driver or now - self._heard >= LET_GO_AFTER:
                self._begin(pending, sender)
                yield from self._take(data, now)
        else:
            yield None

    def _begin(self, pending: Pending, sender: Address) -> None:
        """Accept a new driver's machine, which has proved that it has the key, and that it is alive."""
        if self._line is not None:
            self._line.close()
        self._line = UdpPort(bind=self.address, only=sender, shared=True, error=SourceError)
        self._line.taps = self._door.taps
        self._session, self._driver, self._key = pending

    def _take(self, data: bytes, now: float) -> Iterable[RemoteCommand | RemoteAsk | None]:
        """Return the command in a datagram of the session; nothing for a sign of life."""
        self._heard = now
        if data:
            message = read_from_driver(data) if data[:1] == b"{" else unpack_command(data, self._driver)
            if message is None and (other := other_form(data)):
                self.end.warn(other, now)
            yield message if message is None or message.driver == self._driver else None

    def _send(self, state: RemoteState) -> None:
        if self._line is not None and self._session is not None:
            self._line.send(self._session.seal(state.to_json()))


@dataclass(frozen=True, kw_only=True)
class UdpSourceOptions(SourceOptions):
    """Commands from another machine, by encrypted datagrams."""

    kind: ClassVar[str] = "udp"
    in_profiles: ClassVar[bool] = False
    address: str = option("an address to listen at, such as :14660", word="HOST:PORT|:PORT", place=True)
    key: str = option("a key file, required so that nobody else can drive: see tenuto key --help", word="FILE")

    def open(self, clock: Timer) -> Source:
        """Listen."""
        return UdpSource(self.address, key=self.key, clock=clock)
