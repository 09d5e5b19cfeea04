"""The robots of a class whose pages are served by this machine: no broker is needed.

The class is one more client of each page. So a page admits it by the same rules as a browser, and an emergency stop
takes the same way.
"""

from __future__ import annotations

import asyncio
import json
import ssl
from contextlib import suppress
from datetime import date
from typing import Any

from websockets.asyncio.client import ClientConnection, connect
from websockets.exceptions import ConnectionClosed, WebSocketException
from websockets.typing import Origin

from tenuto.basics.json_in import read_json
from tenuto.driving.explain import velocity_in_words
from tenuto.driving.guard import State
from tenuto.links.robots import ASKED_FOR, SILENT, SILENT_AFTER, unconfirmed
from tenuto.page.certificate import own_certificate
from tenuto.page.class_page import Card, Classroom
from tenuto.page.devices import Devices
from tenuto.page.open_pages import OpenPage, open_pages
from tenuto.page.visitors import COOKIE
from tenuto.protocols.remote import GONE
from tenuto.vehicles.units import METRIC, Unit, Units
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# How often open pages are listed, and an emergency stop is repeated, s.
_LOOK_EVERY, _ASK_EVERY = 1.0, 0.5
_OPEN_WITHIN = 5.0
# After this many failures a page is shown as silent, with the reason; a fresh key counts after a second.
_TRIES = 3
_LONGEST = 1 << 20


class RobotHere:
    """A robot whose page is served by this machine.

    Attributes:
        page: where. title: the robot's name; empty as long as the page shows no robot.
        tick: the newest, as the page shows it.
        heard_at: when that came, s. socket: to its page; None while there is no connection.
        ended: its page is not served any more. problem, tries: why it could not be reached, and how often that was so.
        asked_since: when a stop was requested, s; None if none is pending. sent_at: when it was last sent, s; None
            if it was not.
    """

    def __init__(self, page: OpenPage) -> None:
        self.page = page
        self.title = ""
        self.tick: dict[str, Any] = {}
        self.heard_at = 0.0
        self.socket: ClientConnection | None = None
        self.ended, self.problem, self.tries = False, "", 0
        self.asked_since: float | None = None
        self.sent_at: float | None = None
        self._units: Units = METRIC
        self._who: dict[str, Any] = {}

    def take(self, message: dict[str, Any], now: float) -> list[dict[str, Any]]:
        """Take a message of its page; return the answers."""
        kind = message.get("type")
        if kind == "robot":
            self.title, units = message["title"], message["units"]
            self._units = METRIC._replace(
                speed=Unit(**units["speed"]), turn=Unit(**units["turn"]), known=units["known"]
            )
        elif kind == "tick" and "state" in message:
            self.tick, self.heard_at = message, now
        elif kind == "who":
            self._who = message
            if message["driver"] == message["you"] != "":  # somebody handed it the robot; a class does not drive
                return [{"type": "let_go"}]
        return []

    def wants_a_stop(self, now: float) -> bool:
        """Return whether an emergency stop is to be sent now."""
        if self.asked_since is None:
            return False
        # Only a tick that came after the request confirms it: an earlier stop may have been reset since.
        stopped = bool(self.tick) and self.tick["guard"] == State.EMERGENCY_STOP
        if self.ended or (stopped and self.sent_at is not None and self.heard_at > self.sent_at):
            self.asked_since = None
            return False
        due = self.sent_at is None or now - self.sent_at >= _ASK_EVERY
        if self.socket is None or now - self.asked_since > ASKED_FOR or not due:
            return False
        self.sent_at = now
        return True

    def card(self, now: float) -> Card:
        """Describe it."""
        state, why = self._state(now)
        name = f"{self.title or 'page'}, port {self.page.port}"
        return Card(
            id=str(self.page.port), name=name, state=state, driver="" if state == GONE else self._driver(),
            moves="" if state in (GONE, SILENT) else velocity_in_words(self._command(), self._units), why=why,
            asked=unconfirmed(self.asked_since, now), port=0 if state == GONE else self.page.port, lan=self.page.lan,
        )  # fmt: skip

    @property
    def shown(self) -> bool:
        """Whether it has a card. A page without a robot has none: it watches or measures a device."""
        return bool(self.title and self.tick) or self.tries >= _TRIES

    def _state(self, now: float) -> tuple[str, list[str]]:
        if self.ended:
            return GONE, ["its program has ended"]
        if self.problem:
            return SILENT, [f"its page cannot be reached: {self.problem}"]
        if now - self.heard_at > SILENT_AFTER:
            return SILENT, [f"nothing heard for {now - self.heard_at:.0f} s"]
        return self.tick["guard"], [one["text"] for one in (*self.tick["reasons"], *self.tick["notices"])]

    def _driver(self) -> str:
        there = {one["id"]: one["name"] for one in self._who.get("there", ())}
        if self._who and not self._who["seat"]:
            return self.tick.get("driver") or "the sticks at the robot"
        return str(there.get(self._who.get("driver", ""), ""))

    def _command(self) -> VelocityCommand:
        known = {axis: value for axis, value in self.tick.get("command", {}).items() if value is not None}
        return STANDSTILL._replace(**known)


class Here(Classroom):
    """All robots whose pages are open on this machine, of the same user."""

    def __init__(self, name: str) -> None:
        """Set the name under which the class asks for stops."""
        self._name = name
        self._robots: dict[int, RobotHere] = {}
        self._tasks: dict[int, asyncio.Task[None]] = {}
        self._sent: set[asyncio.Task[None]] = set()
        self._looked_at = -_LOOK_EVERY
        self._devices, self._key = Devices(), ""

    def look(self, now: float) -> None:
        """See the base class."""
        if now - self._looked_at >= _LOOK_EVERY:
            self._looked_at = now
            pages = open_pages()
            for page in pages:
                self._follow(page)
            for robot in self._robots.values():
                robot.ended = robot.ended or (robot.page not in pages and robot.socket is None)
        for robot in self._robots.values():
            if robot.wants_a_stop(now):
                self._send(robot, {"type": "emergency"})

    def _follow(self, page: OpenPage) -> None:
        task = self._tasks.get(page.port)
        if task is not None and not task.done():
            return
        robot = self._robots.get(page.port)
        if robot is None or robot.page != page:
            robot = self._robots[page.port] = RobotHere(page)
        self._tasks[page.port] = asyncio.ensure_future(self._hear(robot))

    async def _hear(self, robot: RobotHere) -> None:
        """Hear one robot until its page ends; one that does not answer is tried again later."""
        loop, page = asyncio.get_running_loop(), robot.page
        scheme, where = ("s" if page.lan else ""), f"127.0.0.1:{page.port}"
        try:
            async with connect(
                f"ws{scheme}://{where}/live", origin=Origin(f"http{scheme}://{where}"), proxy=None,
                additional_headers=self._key_for(page), ssl=_trust() if page.lan else None,
                open_timeout=_OPEN_WITHIN, max_size=_LONGEST,
            ) as socket:  # fmt: skip
                robot.socket, robot.heard_at = socket, loop.time()
                robot.ended, robot.problem, robot.tries = False, "", 0
                try:
                    await socket.send(json.dumps({"type": "name", "text": self._name}))
                    async for text in socket:
                        for answer in robot.take(read_json(text), loop.time()):
                            await socket.send(json.dumps(answer))
                finally:
                    robot.socket = None
        except ConnectionRefusedError:
            robot.ended, robot.problem, robot.tries = True, "", 0
        except ConnectionClosed:
            robot.problem, robot.tries = "", 0  # the next list of pages shows whether it has ended
        except (OSError, WebSocketException) as error:
            robot.problem, robot.tries = str(error) or type(error).__name__, robot.tries + 1
        except (ValueError, KeyError, TypeError):
            robot.problem, robot.tries = "it sends messages that are not a page's", robot.tries + 1

    def _key_for(self, page: OpenPage) -> dict[str, str]:
        """Return the header with the key of an admitted device; the class admits itself, for one run."""
        if not page.lan:
            return {}
        self._key = self._key or self._devices.add(self._name, date.today().isoformat())
        return {"Cookie": f"{COOKIE}={self._key}"}

    def _send(self, robot: RobotHere, message: dict[str, Any]) -> None:
        async def send() -> None:
            if robot.socket is not None:
                with suppress(WebSocketException, OSError):
                    await robot.socket.send(json.dumps(message))

        task = asyncio.ensure_future(send())
        self._sent.add(task)
        task.add_done_callback(self._sent.discard)

    def stop(self, *ids: str) -> None:
        """See the base class."""
        now = asyncio.get_running_loop().time()
        for port, robot in self._robots.items():
            if not ids or str(port) in ids:
                robot.asked_since, robot.sent_at = now, None

    def cards(self, now: float) -> list[Card]:
        """See the base class."""
        shown = [robot for robot in self._robots.values() if robot.shown]
        return [robot.card(now) for robot in sorted(shown, key=lambda one: (one.title, one.page.port))]

    async def close(self) -> None:
        """See the base class."""
        for task in (*self._tasks.values(), *self._sent):
            task.cancel()
        await asyncio.gather(*self._tasks.values(), *self._sent, return_exceptions=True)
        if self._key:
            self._devices.take_back(self._key)


def _trust() -> ssl.SSLContext:
    """Trust the certificate of this machine, and no other."""
    return ssl.create_default_context(cafile=str(own_certificate().certificate))
