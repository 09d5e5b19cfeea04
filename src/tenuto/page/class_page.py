"""A page that shows several robots as cards, with one stop for all: for a teacher."""

from __future__ import annotations

import asyncio
import json
from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any

from tenuto.driving.explain import velocity_in_words
from tenuto.links.robots import SILENT
from tenuto.page.visitors import Page
from tenuto.protocols.page_rights import Shown
from tenuto.protocols.remote import GONE
from tenuto.vehicles.units import METRIC
from tenuto.vehicles.velocity import VelocityCommand

if TYPE_CHECKING:
    from tenuto.links.robots import Robots, Stopper

# How often robots are heard, s, and after how many times they are shown.
_HEAR_EVERY, _SHOW_EVERY = 0.04, 5


@dataclass(frozen=True, kw_only=True)
class Card:
    """The card of a robot.

    Attributes:
        id: unique, for stops. name: for people.
        state: of its guard, "silent", or "gone". driver: who drives it; empty for nobody.
        moves: its command as text; empty if it is not known. why: why it stands, and its other messages.
        asked: that it was asked to stop and has not confirmed; empty if it was not.
        port, lan: of the robot's own page on this machine; port is 0 if there is none.
    """

    id: str
    name: str
    state: str
    driver: str
    moves: str
    why: list[str]
    asked: str
    port: int = 0
    lan: bool = False


class Classroom(ABC):
    """The robots of a class, wherever they are."""

    @abstractmethod
    def look(self, now: float) -> None:
        """Hear the robots and send what is due; called some 25 times a second, ``now`` in s."""

    @abstractmethod
    def cards(self, now: float) -> list[Card]:
        """Return a card for each robot that was heard."""

    @abstractmethod
    def stop(self, *ids: str) -> None:
        """Request an emergency stop of some robots, by default of all that were heard."""

    @abstractmethod
    async def close(self) -> None:
        """End all connections."""


class AtBroker(Classroom):
    """The robots at a broker."""

    def __init__(self, robots: Robots, stopper: Stopper) -> None:
        self._robots, self._stopper = robots, stopper

    def look(self, now: float) -> None:
        """See the base class."""
        self._robots.hear(now)
        self._stopper.go_on(now)

    def stop(self, *ids: str) -> None:
        """See the base class."""
        self._stopper.stop(*ids)

    async def close(self) -> None:
        """See the base class; whoever opened the link closes it."""

    def cards(self, now: float) -> list[Card]:
        """See the base class."""
        found = []
        for name, said in sorted(self._robots.states.items()):
            state = self._robots.condition(name, now)
            moves = VelocityCommand(said.vx, said.vy, said.vz, said.yaw_rate)
            found.append(
                Card(
                    id=name, name=name, state=state, driver=said.driver, why=self._robots.why(name, now),
                    moves="" if state in (GONE, SILENT) else velocity_in_words(moves, METRIC),
                    asked=self._stopper.asked(name, now),
                )
            )  # fmt: skip
        return found


class ClassPage(Page):
    """A page that shows every robot of a class, with one stop for all."""

    shown = Shown.CLASS

    def __init__(
        self, settings: dict[str, Any], addresses: list[str], classroom: Classroom, hint: str,
        say: Callable[[str], None],
    ) -> None:  # fmt: skip
        """Set the robots.

        Args:
            settings, addresses: see `Page`. classroom: the robots. hint: what to do while there is none.
            say: reports messages for the people at this machine.
        """
        super().__init__({**settings, "seat": False}, None, addresses)
        self._classroom, self._say = classroom, say
        self.robot = {"type": "class", "hint": hint}

    def to_loop(self, message: dict[str, Any]) -> None:
        """Stop all robots, or one; no other loop is behind this page."""
        if message["kind"] == "emergency":
            self._classroom.stop(*([message["why"]] if message.get("why") else ()))
        elif message["kind"] == "said":
            self._say(message["why"])

    async def work(self) -> None:
        """Hear the robots, and show them."""
        try:
            await asyncio.gather(super().work(), self._show())
        finally:
            await self._classroom.close()

    async def _show(self) -> None:
        number = 0
        while not self.over:
            now, number = self.now(), number + 1
            self._classroom.look(now)
            if number % _SHOW_EVERY == 0:
                cards = [asdict(card) for card in self._classroom.cards(now)]
                text = json.dumps({"type": "robots", "cards": cards}, separators=(",", ":"))
                for outlet in self.outlets:
                    outlet.newest(text)
            await asyncio.sleep(_HEAR_EVERY)
