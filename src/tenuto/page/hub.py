"""The open pages, and which of them drives; sans I/O: received messages in, messages to send out."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from tenuto.protocols.page import LONGEST_MESSAGE, SEAT_KEPT_FOR, PageAsk, PageFrame, read_page
from tenuto.protocols.page_rights import Role, Shown, why_not

# The most messages of a page in a second, and at once.
_RATE, _BURST = 300.0, 300.0
# The most invalid messages of a page.
_MOST_GARBAGE = 20
# The most open pages, and how many of them may be watchers without a code: the others are reserved for devices.
MOST_CLIENTS, MOST_WATCHERS = 40, 20


@dataclass
class Client:
    """An open page.

    Attributes:
        id, name: for programs and for people. may_drive: it may take the driver's seat, and press the emergency stop.
        tell: sends it a message. named: its name is that of an admitted device.
    """

    name: str
    may_drive: bool
    tell: Callable[[dict[str, Any]], None]
    named: bool = False
    id: str = field(default_factory=lambda: secrets.token_hex(4))
    allowance: float = _BURST
    asked_at: float = 0.0
    garbage: int = 0


class Hub:
    """All pages that are open, and the driver's seat.

    Attributes:
        clients: by their ids. driver: who has the seat; None for nobody. echo: the number of the driver's newest frame.
    """

    def __init__(
        self,
        to_loop: Callable[[dict[str, Any]], None],
        *,
        shown: Shown,
        moves: Callable[[], bool] = lambda: False,
        more: Callable[[Client, PageAsk], None] = lambda client, ask: None,
    ) -> None:
        """Set who receives messages for the loop.

        Args:
            to_loop: takes messages as `tenuto.protocols.page.FromServer`. shown: what the pages show.
            moves: returns whether the robot is driven, or is stopping.
            more: handles requests that have nothing to do with who drives.
        """
        self._to_loop, self._shown, self._moves, self._more = to_loop, shown, moves, more
        self._has_seat = shown is Shown.SEAT
        self.clients: dict[str, Client] = {}
        self.driver: Client | None = None
        self.echo = 0
        self._good_at = 0.0

    def join(self, client: Client) -> str:
        """Add a page; return why it is refused, or an empty text."""
        if len(self.clients) >= MOST_CLIENTS:
            return f"{MOST_CLIENTS} pages are open already"
        watching = sum(not one.may_drive for one in self.clients.values())
        if not client.may_drive and watching >= MOST_WATCHERS:
            return f"{MOST_WATCHERS} pages are watching already"
        self.clients[client.id] = client
        self._tell_all()
        return ""

    def leave(self, client: Client, why: str) -> None:
        """Remove a page that has gone."""
        self.clients.pop(client.id, None)
        self._let_go(client, why)
        self._tell_all()

    def hear(self, client: Client, data: bytes, now: float) -> str:
        """Take a message of a page; return why its connection is to be closed, or an empty text."""
        client.allowance = min(_BURST, client.allowance + (now - client.asked_at) * _RATE)
        client.asked_at = now
        client.allowance -= 1.0
        if client.allowance < 0.0:
            return "too many messages"
        message = read_page(data) if len(data) <= LONGEST_MESSAGE else None
        if message is None:
            client.garbage += 1
            return "too many invalid messages" if client.garbage > _MOST_GARBAGE else ""
        role = Role.DRIVER if client is self.driver else Role.DEVICE if client.may_drive else Role.WATCHER
        if why := why_not(message.type, role, self._shown, moves=self._moves()):
            if message.type != "frame":  # some are on their way when the seat is given away
                client.tell({"type": "refused", "text": why})
        elif isinstance(message, PageFrame):
            self._frame(client, message, now)
        else:
            self._ask(client, message, now)
        return ""

    def _frame(self, client: Client, frame: PageFrame, now: float) -> None:
        """Pass on a frame of the driver."""
        self.echo = frame.number
        if frame.good:
            self._good_at = now
        self._to_loop({"kind": "frame", "client": client.id, "name": client.name, "frame": frame.model_dump()})

    def _ask(self, client: Client, ask: PageAsk, now: float) -> None:
        """Do what a page asks for, and may."""
        said = {"client": client.id, "name": client.name}
        if ask.type == "name":
            self._name(client, ask.text)
        elif ask.type == "take":
            self._take(client, now)
        elif ask.type in ("curve", "save", "at"):
            self._more(client, ask)
        elif ask.type in ("emergency", "mark"):
            self._to_loop({"kind": ask.type, **said, "why": ask.text})
        elif ask.type == "choice":
            self._to_loop({"kind": "choice", **said, "why": ask.text, "question": ask.question})
        elif ask.type == "reset":
            self._to_loop({"kind": "reset", **said})
        elif ask.type == "let_go":
            self._let_go(client, f"{client.name} stopped driving")
            self._tell_all()
        elif ask.type == "give" and (other := self.clients.get(ask.to)) is not None and other.may_drive:
            self._let_go(client, f"{client.name} handed the robot to {other.name}")
            self._sit(other, now)

    def _name(self, client: Client, name: str) -> None:
        """Set the name of a page, made unique; an admitted device keeps its own."""
        if client.named:
            return
        taken, wanted = {one.name for one in self.clients.values() if one is not client}, name.strip()[:40]
        numbered = (f"{wanted} {number}" for number in range(2, MOST_CLIENTS + 2))
        client.name = next(one for one in (wanted or client.name, *numbered) if one not in taken)
        self._tell_all()

    def _take(self, client: Client, now: float) -> None:
        """Let a page drive if nobody else does; otherwise ask the driver."""
        if self.driver is client:
            return
        if self.driver is None or now - self._good_at > SEAT_KEPT_FOR:
            if self.driver is not None:
                self._let_go(self.driver, f"{self.driver.name} was silent, and {client.name} took the robot")
            self._sit(client, now)
        else:
            self.driver.tell({"type": "asked", "by": client.id, "name": client.name})
            client.tell({"type": "refused", "text": f"{self.driver.name} drives, and was asked for the robot"})

    def _sit(self, client: Client, now: float) -> None:
        self.driver, self._good_at = client, now
        self._tell_all()

    def _let_go(self, client: Client, why: str) -> None:
        if client is self.driver:
            self.driver = None
            self._to_loop({"kind": "gone", "client": client.id, "name": client.name, "why": why})

    def _tell_all(self) -> None:
        """Tell all pages who is there, and who drives."""
        there = [{"id": one.id, "name": one.name, "may_drive": one.may_drive} for one in self.clients.values()]
        driver = self.driver.id if self.driver is not None else ""
        for one in self.clients.values():
            one.tell({"type": "who", "you": one.id, "driver": driver, "there": there, "seat": self._has_seat})
