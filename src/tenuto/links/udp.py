"""A UDP socket that never blocks: one end sends to an address, the other waits for the first sender."""

from __future__ import annotations

import socket
from collections.abc import Iterator

from tenuto.basics.errors import TenutoError
from tenuto.links.black_box import BlackBox, Tap

# The longest accepted datagram, and the greatest number in one read, so that a flood cannot block a program.
LONGEST = 1500
MOST_AT_ONCE = 200
Address = tuple[str, int]


def parse_address(text: str, error: type[TenutoError]) -> Address:
    """Read ``HOST:PORT``, or ``:PORT`` for this machine. Raises ``error``."""
    host, colon, port = text.rpartition(":")
    if not colon or not port.isdecimal() or not 0 <= int(port) <= 65535:
        raise error(f'expected an address like 192.168.1.20:14550, found "{text}"')
    return host.strip("[]"), int(port)


class UdpPort:
    """One UDP socket.

    Attributes:
        address: where it is bound. peer: the receiver of `send`; None until it is known.
        taps: get the received and the sent datagrams; None for no tap.

    Raises:
        The given error, if the address is invalid or in use.
    """

    def __init__(
        self,
        *,
        bind: Address = ("", 0),
        peer: Address | None = None,
        only: Address | None = None,
        shared: bool = False,
        error: type[TenutoError],
    ) -> None:
        """Open a socket.

        Args:
            bind: where to listen. peer: where to send to. error: the type to raise.
            only: the one address from which the system accepts datagrams, and to which they are sent.
            shared: another socket of this program may have the same address; one that has ``only`` goes first.
        """
        self.peer, self._only = only, only is not None
        self.taps: tuple[Tap, Tap] | None = None
        try:
            family = socket.AF_INET6 if ":" in bind[0] else socket.AF_INET
            if peer is not None:
                family, _, _, _, found = socket.getaddrinfo(*peer, type=socket.SOCK_DGRAM)[0]
                self.peer = (str(found[0]), int(found[1]))
            if shared and only is None:
                # Sharing would silently admit another program: check that there is none.
                with _socket(family, bind):
                    pass
            self._socket = _socket(family, bind, shared=shared)
            if only is not None:
                self._socket.connect(only)
        except OSError as cause:
            host, port = peer or bind
            raise error(f"UDP {host}:{port}: {cause.strerror or cause}") from cause
        name = self._socket.getsockname()
        self.address: Address = (name[0], name[1])

    def send(self, data: bytes, to: Address | None = None) -> None:
        """Send a datagram; one that cannot be sent now is dropped, as the network may drop any other."""
        to = to or self.peer
        if to is not None:
            if self.taps is not None:
                self.taps[1](data)
            try:
                if self._only:
                    self._socket.send(data)
                else:
                    self._socket.sendto(data, to)
            except OSError:
                return  # no program listens there, or there is no route yet: a missing answer is reported elsewhere

    def receive(self, most: int = MOST_AT_ONCE) -> Iterator[tuple[bytes, Address]]:
        """Return the received datagrams, at most this many."""
        for _ in range(most):
            try:
                data, sender = self._socket.recvfrom(LONGEST + 1)
            except BlockingIOError:
                return
            except OSError:
                continue  # the error of an earlier datagram of ours
            if self.taps is not None:
                self.taps[0](data)
            if len(data) <= LONGEST:
                yield data, (sender[0], sender[1])

    def record_raw(self, box: BlackBox) -> bool:
        """Send all datagrams to a black box from now on."""
        self.taps = box.taps(f"udp {self.address[0]}:{self.address[1]}")
        return True

    def close(self) -> None:
        """Close the socket."""
        self._socket.close()


def _socket(family: int, address: Address, *, shared: bool = False) -> socket.socket:
    """Make a bound socket; None if that is not possible."""
    made = socket.socket(family, socket.SOCK_DGRAM)
    try:
        made.setblocking(False)
        if shared:
            made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        made.bind(address)
    except OSError:
        made.close()
        raise
    return made
