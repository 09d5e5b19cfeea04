"""The open pages, and which of them drives; sans I/O: received messages in, messages to send out."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from tenuto.protocols.page import LONGEST_MESSAGE, SEAT_KEPT_FOR, PageAsk, PageFrame, read_page

# The most messages of a page in a second, and at once.
_RATE, _BURST = 300.0, 300.0
# The most invalid messages of a page.
_MOST_GARBAGE = 20
# The most open pages.
MOST_CLIENTS = 40


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
        seat: bool,
        more: Callable[[Client, PageAsk], None] = lambda client, ask: None,
    ) -> None:
        """Set who receives messages for the loop.

        Args:
            to_loop: takes messages as `tenuto.protocols.page.FromServer`. seat: somebody may drive from the page.
            more: handles requests that have nothing to do with who drives.
        """
        self._to_loop, self._has_seat, self._more = to_loop, seat, more
        self.clients: dict[str, Client] = {}
        self.driver: Client | None = None
        self.echo = 0
        self._good_at = 0.0

    def join(self, client: Client) -> str:
        """Add a page; return why it is refused, or an empty text."""
        if len(self.clients) >= MOST_CLIENTS:
            return f"{MOST_CLIENTS} pages are open already"
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
        if isinstance(message, PageFrame):
            self._frame(client, message, now)
        else:
            self._ask(client, message, now)
        return ""

    def _frame(self, client: Client, frame: PageFrame, now: float) -> None:
        """Pass on a frame of the driver; nobody else's."""
        if client is not self.driver:
            return
        self.echo = frame.number
        if frame.good:
            self._good_at = now
        self._to_loop({"kind": "frame", "client": client.id, "name": client.name, "frame": frame.model_dump()})

    def _ask(self, client: Client, ask: PageAsk, now: float) -> None:
        if ask.type == "name":
            self._name(client, ask.text)
        elif ask.type == "take":
            self._take(client, now)
        elif ask.type == "at" or (ask.type in ("curve", "save") and client.may_drive):
            self._more(client, ask)
        else:
            self._ask_to_act(client, ask, now)

    def _name(self, client: Client, name: str) -> None:
        """Set the name of a page, made unique; an admitted device keeps its own."""
        if client.named or not client.may_drive:
            return
        taken, wanted = {one.name for one in self.clients.values() if one is not client}, name.strip()[:40]
        numbered = (f"{wanted} {number}" for number in range(2, MOST_CLIENTS + 2))
        client.name = next(one for one in (wanted or client.name, *numbered) if one not in taken)
        self._tell_all()

    def _ask_to_act(self, client: Client, ask: PageAsk, now: float) -> None:
        """Handle stop, reset, mark, and who drives; refused to pages that only watch."""
        if not client.may_drive:
            client.tell({"type": "refused", "text": "this page may only watch"})
        elif ask.type == "emergency":
            self._to_loop({"kind": "emergency", "client": client.id, "name": client.name, "why": ask.text})
        elif ask.type == "choice":
            said = {"client": client.id, "name": client.name, "why": ask.text}
            self._to_loop({"kind": "choice", **said, "question": ask.question})
        elif ask.type == "mark":
            self._to_loop({"kind": "mark", "client": client.id, "name": client.name, "why": ask.text})
        elif client is not self.driver and (self._has_seat or ask.type != "reset"):
            client.tell({"type": "refused", "text": "only the driver may do that"})
        elif ask.type == "reset":
            self._to_loop({"kind": "reset", "client": client.id, "name": client.name})
        elif ask.type == "let_go":
            self._let_go(client, f"{client.name} stopped driving")
            self._tell_all()
        elif ask.type == "give" and (other := self.clients.get(ask.to)) is not None and other.may_drive:
            self._let_go(client, f"{client.name} handed the robot to {other.name}")
            self._sit(other, now)

    def _take(self, client: Client, now: float) -> None:
        """Let a page drive if nobody else does; otherwise ask the driver."""
        if not (self._has_seat and client.may_drive):
            client.tell({"type": "refused", "text": "this page may only watch"})
        elif self.driver is client:
            return
        elif self.driver is None or now - self._good_at > SEAT_KEPT_FOR:
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
