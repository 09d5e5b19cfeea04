"""The door of a page in a network: who may connect, before anything is allocated for a connection.

Admitted devices have reserved places. Strangers have a bounded share of all connections, each address (the network of
an IPv6 one) has a bounded share of those, and a connection that sends nothing ends within seconds.
"""

from __future__ import annotations

import asyncio
import socket
import ssl
from collections import Counter
from collections.abc import Callable
from contextlib import suppress

from tenuto.page.devices import share_of

# All connections, those of addresses from which no admitted device has come, and those of one such address.
MOST, MOST_STRANGERS, MOST_OF_ONE = 300, 100, 40
# How long a connection may be silent at first, and how long its TLS handshake may take, s.
SILENT_FOR, HANDSHAKE_FOR = 3.0, 5.0


class Door:
    """Accepts connections at a listening socket, and hands them to a server."""

    def __init__(
        self, listening: socket.socket, make: Callable[[], asyncio.Protocol], tls: ssl.SSLContext | None,
        known: Callable[[str], bool],
    ) -> None:  # fmt: skip
        """Set what happens with a connection.

        Args:
            listening: the socket. make: makes the protocol of a connection. tls: of the server; None without.
            known: returns whether an admitted device has come from an address (`share_of`).
        """
        self._listening, self._make, self._tls, self._known = listening, make, tls, known
        # At once: the page's address may be shown before `serve` is stepped for the first time.
        listening.setblocking(False)
        listening.listen(128)
        self._opening: dict[asyncio.Task[None], str] = {}
        self._open: dict[asyncio.Transport, str] = {}

    async def serve(self) -> None:
        """Accept connections until it is cancelled."""
        loop = asyncio.get_running_loop()
        try:
            while True:
                try:
                    connection, address = await loop.sock_accept(self._listening)
                except OSError:
                    await asyncio.sleep(0.05)  # too many open files
                    continue
                share = share_of(str(address[0]))
                if not self._has_place(share):
                    connection.close()
                    continue
                task = asyncio.create_task(self._let_in(connection, share))
                self._opening[task] = share
                task.add_done_callback(self._opening.pop)
        finally:
            for task in tuple(self._opening):
                task.cancel()
            self._listening.close()

    def _has_place(self, share: str) -> bool:
        """Return whether one more connection of an address has a place."""
        self._open = {transport: one for transport, one in self._open.items() if not transport.is_closing()}
        counts = Counter([*self._open.values(), *self._opening.values()])
        if counts.total() >= MOST:
            return False
        strangers = sum(count for one, count in counts.items() if not self._known(one))
        return self._known(share) or (strangers < MOST_STRANGERS and counts[share] < MOST_OF_ONE)

    async def _let_in(self, connection: socket.socket, share: str) -> None:
        """Hand on a connection once its first byte is there."""
        loop = asyncio.get_running_loop()
        connection.setblocking(False)
        there = asyncio.Event()
        loop.add_reader(connection, there.set)
        try:
            async with asyncio.timeout(SILENT_FOR):
                await there.wait()
        except TimeoutError:
            return
        finally:
            loop.remove_reader(connection)
            if not there.is_set():
                connection.close()
        with suppress(OSError, TimeoutError):  # such as a handshake that fails
            transport, _ = await loop.connect_accepted_socket(
                self._make, connection, ssl=self._tls,
                ssl_handshake_timeout=HANDSHAKE_FOR if self._tls is not None else None,
            )  # fmt: skip
            self._open[transport] = share
