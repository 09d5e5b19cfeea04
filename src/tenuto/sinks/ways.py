"""The links to an autopilot: datagrams, or a serial line."""

from __future__ import annotations

import math
import socket
from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from tenuto.basics.errors import SinkError
from tenuto.driving.telemetry import SILENT_AFTER
from tenuto.links.black_box import BlackBox
from tenuto.links.udp import Address, UdpPort, parse_address
from tenuto.sinks.port import OutPort

if TYPE_CHECKING:
    from tenuto.protocols.mavlink import MavlinkLink

# The first byte of a MAVLink 2 message, and the position of its sender.
_VERSION_2, _SYSTEM_AT = 0xFD, 5


def _address_of(host: str) -> str:
    """Return the address of a host; empty for none. Raises `SinkError` if it is unknown."""
    try:
        return socket.gethostbyname(host) if host else ""
    except OSError as error:
        raise SinkError(f"mavlink: only: no computer called {host} is known: {error.strerror or error}") from error


class UdpWay:
    """Datagrams to one address, or to the first sender.

    Attributes:
        slow: the notice of a slow line; empty for datagrams. stranger: the address of another sender.
    """

    slow = ""

    def __init__(self, place: str, only: str, system: int) -> None:
        """Open a socket.

        Args:
            place: ``HOST:PORT`` to send there, or ``:PORT`` to wait for a first sender. only: its permitted host.
            system: the id of the autopilot; another sender with this id is reported.
        """
        host, number = parse_address(place, SinkError)
        self._waits, self._heard, self._only, self._system = not host, -math.inf, _address_of(only), system
        self.stranger = ""
        self._udp = (
            UdpPort(bind=("", number), error=SinkError)
            if self._waits
            else UdpPort(peer=(host, number), error=SinkError)
        )

    def record_raw(self, box: BlackBox) -> bool:
        """Send all datagrams to a black box from now on."""
        return self._udp.record_raw(box)

    def free(self, now: float) -> bool:
        """Return whether it can send now."""
        return True

    def free_in(self, now: float) -> float:
        """Return how long written bytes wait, s."""
        return 0.0

    def write(self, data: bytes, now: float) -> None:
        """Send a datagram."""
        self._udp.send(data)

    def write_to(self, data: bytes, address: Address, now: float) -> None:
        """Send a datagram to an address that does not have the link yet."""
        self._udp.send(data, address)

    def read(self, mav: MavlinkLink, now: float) -> Iterable[tuple[Any, Address]]:
        """Return the messages of the accepted sender, and their address."""
        # A restarted autopilot program may come back from another port.
        gone = self._waits and now - self._heard > SILENT_AFTER
        for data, address in self._udp.receive():
            barred = bool(self._only) and address[0] != self._only
            # With a fixed address, only datagrams from there count.
            if not barred and (gone or self._udp.peer in (None, address)):
                yield from ((message, address) for message in mav.feed(data, whole=True, unknown=True))
            elif len(data) > _SYSTEM_AT and data[0] == _VERSION_2 and data[_SYSTEM_AT] == self._system:
                self.stranger = f"{address[0]}:{address[1]}"

    def answer_to(self, address: Address, now: float) -> None:
        """Send to the address of an autopilot from now on, unless another one has the link."""
        if self._waits and (self._udp.peer in (None, address) or now - self._heard > SILENT_AFTER):
            self._udp.peer, self._heard = address, now

    def close(self) -> None:
        """Close the socket."""
        self._udp.close()


class SerialWay(OutPort):
    """A serial line, which has one other end."""

    stranger = ""

    def write_to(self, data: bytes, address: Address, now: float) -> None:
        """Write to the line, which has one other end."""
        if self.free(now):
            self.write(data, now)

    def read(self, mav: MavlinkLink, now: float) -> Iterable[tuple[Any, Address]]:
        """Return the messages that arrived."""
        return [(message, ("", 0)) for message in mav.feed(self.read_bytes(), unknown=True)]

    def answer_to(self, address: Address, now: float) -> None:
        """Do nothing: a line has only one other end."""


def way_to(place: str, baud: int, only: str, system: int) -> UdpWay | SerialWay:
    """Open the link to an autopilot: a serial port, or an address. Raises `SinkError`."""
    return SerialWay(place, baud) if "/" in place or ":" not in place else UdpWay(place, only, system)
