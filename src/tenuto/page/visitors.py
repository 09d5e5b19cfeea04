"""What is shown to whom: the newest tick for everybody who may watch, and word for the loop of who drives."""

from __future__ import annotations

import asyncio
import json
import socket
from collections import deque
from collections.abc import Callable, Mapping
from contextlib import suppress
from typing import TYPE_CHECKING, Any

from starlette.requests import HTTPConnection
from starlette.websockets import WebSocket

from tenuto.driving.explain import explain
from tenuto.driving.guard import State
from tenuto.page.curves import Curves
from tenuto.page.devices import Code, Devices
from tenuto.page.facts import device_facts, robot_facts, tick_facts
from tenuto.page.hub import Client, Hub
from tenuto.protocols.page import PageAsk
from tenuto.views.scene import Scene, scene_of

if TYPE_CHECKING:
    from tenuto.page.player import Player

COOKIE = "tenuto-device"
# What waits for a slow browser: so many messages beside the newest tick.
_MOST_WAITING = 50
# Over so many sendings the rate of the loop is told.
_RATES = 20
# How often it is looked whether a device may still be here, s.
_LOOK_EVERY = 0.5


class Page:
    """What is served, and to whom."""

    def __init__(self, settings: dict[str, Any], says: socket.socket | None, addresses: list[str]) -> None:
        self.lan, self.watchers = bool(settings["lan"]), bool(settings["watchers"])
        self.hub = Hub(self.to_loop, seat=bool(settings["seat"]), more=self.more)
        self._curves = Curves("")
        self._says = says
        self.event_loop = asyncio.get_event_loop()
        self.devices, self.code = Devices(), Code(self.now())
        self.hosts = {"localhost", "127.0.0.1", "[::1]"}
        if self.lan:
            self.hosts |= {f"[{one}]" if ":" in one else one for one in addresses}
            self.hosts |= {socket.gethostname().lower(), f"{socket.gethostname().lower()}.local"}
        self.port = 0
        self.robot: dict[str, Any] = device_facts() if settings["seat"] else {}
        self._scene: Scene | None = None
        self._plan: Any = None
        self._driven = self._moves = self._working = False
        self._task: asyncio.Future[None] | None = None
        self._wish: tuple[Client, PageAsk] | None = None
        self.over = False
        self.first: list[dict[str, Any]] = []
        self.outlets: set[Outlet] = set()
        self._waiting: list[bytes] = []
        self._beats: deque[tuple[int, float, float]] = deque(maxlen=_RATES)

    def now(self) -> float:
        """Return the time, s."""
        return self.event_loop.time()

    def to_loop(self, message: dict[str, Any]) -> None:
        """Tell the loop something; a frame that it has no room for is dropped, anything else waits."""
        data = json.dumps(message).encode()
        if self._says is None:
            return
        if message["kind"] == "frame":
            with suppress(OSError):
                if not self._waiting:  # no frame overtakes word that somebody is gone
                    self._says.send(data)
            return
        self._waiting.append(data)
        self._send_waiting()

    def _send_waiting(self) -> None:
        while self._waiting and self._says is not None:
            try:
                self._says.send(self._waiting[0])
            except BlockingIOError:
                self.event_loop.call_later(0.005, self._send_waiting)
                return
            except OSError:
                return  # the loop has gone; so has this process, in a moment
            self._waiting.pop(0)

    def take(self, message: dict[str, Any]) -> None:
        """Take what the loop sends: the time, the newest tick, and a plan where it has changed."""
        if (plan := message.get("plan")) is not None:
            self._scene = scene_of(plan, message["title"], message["origin"])
            self._plan, self._curves = plan, Curves(message["file"])
            self.robot = {
                "type": "robot",
                **robot_facts(plan, *(message[key] for key in ("title", "origin", "driver"))),
            }
            self.robot["curves"] = self._curves.all()
            for outlet in self.outlets:
                outlet.put(self.robot)
        said: dict[str, Any] = {"type": "tick", "clock": round(message["clock"], 4), "echo": self.hub.echo}
        if message["tick"] is not None and self._scene is not None:
            tick = message["tick"]
            self._driven = self._driven or tick.guard.state is State.DRIVING
            said |= tick_facts(self._scene, tick, self._driven)
            said["answer"] = explain(tick, self._plan).answer
            self._moves = tick.guard.state in (State.DRIVING, State.STOPPING)
            self._beats.append((message["ticks"], message["seconds"], message["worst"]))
            ticks, seconds, worst = zip(*self._beats, strict=True)
            said |= {"rate": round(sum(ticks) / sum(seconds), 1), "worst": round(max(worst), 4)}
        if (watched := message.get("watch")) is not None:
            said["watch"] = watched
        text = json.dumps(said, separators=(",", ":"))
        for outlet in self.outlets:
            outlet.newest(text)

    def more(self, client: Client, ask: PageAsk) -> None:
        """Try the settings of a stick, or put them into the profile while nobody drives.

        A thread does it, for frames must not wait for it; of several wishes meanwhile only the newest is kept.
        """
        if ask.type == "save" and self._moves:
            client.tell({"type": "refused", "text": "not saved: the robot is being driven; release first"})
            return
        self._wish = (client, ask)
        if not self._working:
            self._working = True
            self._task = asyncio.ensure_future(self._fulfil())

    async def _fulfil(self) -> None:
        try:
            while self._wish is not None:
                (client, ask), self._wish = self._wish, None
                do = self._curves.tried if ask.type == "curve" else self._saved
                client.tell(await asyncio.to_thread(do, ask.text, ask.numbers))
        finally:
            self._working = False

    def _saved(self, control: str, numbers: Mapping[str, float]) -> dict[str, Any]:
        return {"type": "refused", "text": self._curves.save(control, numbers)}

    async def work(self) -> None:
        """Shut out devices that are forgotten, as long as it serves."""
        while self.lan:
            await asyncio.sleep(_LOOK_EVERY)
            for outlet in self.outlets:
                if not outlet.allowed():
                    outlet.close("this device may no longer use the page")

    def end(self) -> None:
        """Tell everybody that the drive is over."""
        self.over = True
        for outlet in self.outlets:
            outlet.put({"type": "over"})

    def allowed(self, connection: HTTPConnection, *, by_script: bool = False) -> bool:
        """Return whether a request is meant for this server, and comes from its own page where a script made it.

        A page of somebody else in the same browser is so kept out: its origin is another, and a name of its own that it
        points to this machine is no name of it.
        """
        host = connection.headers.get("host", "").lower()
        name = host.rpartition(":")[0] if host.endswith(f":{self.port}") else host
        if name not in self.hosts:
            return False
        origin = connection.headers.get("origin")
        own = f"{'https' if self.lan else 'http'}://{host}"
        return origin == own if by_script else origin in (None, own)

    def who(self, connection: HTTPConnection) -> tuple[bool, str]:
        """Return whether somebody may drive, and the device's name. Raises `PermissionError` for who may not look."""
        if not self.lan:
            return True, ""
        self.devices.look(self.now())
        device = self.devices.known(connection.cookies.get(COOKIE, ""))
        if device is None and not self.watchers:
            raise PermissionError
        return device is not None, device.name if device is not None else ""

    def knows(self, connection: HTTPConnection) -> bool:
        """Return whether somebody may at least watch."""
        try:
            self.who(connection)
        except PermissionError:
            return False
        return True


class Outlet:
    """What is sent to one browser: the newest tick only, and a few other messages.

    Attributes:
        why: its connection is to be closed for this reason.
    """

    def __init__(self, allowed: Callable[[], bool]) -> None:
        """Set what tells whether this browser may still see it."""
        self.allowed = allowed
        self._newest = ""
        self._others: list[str] = []
        self._some = asyncio.Event()
        self.why = ""

    def newest(self, text: str) -> None:
        """Send this, unless something newer comes first."""
        self._newest = text
        self._some.set()

    def put(self, message: dict[str, Any]) -> None:
        """Send this, after what was put before."""
        if len(self._others) < _MOST_WAITING:
            self._others.append(json.dumps(message, separators=(",", ":")))
        self._some.set()

    def close(self, why: str) -> None:
        """Send nothing more, and close the connection."""
        self.why = why
        self._some.set()

    async def send_to(self, socket_: WebSocket) -> None:
        """Send all of it, until it is closed; only this waits for the browser."""
        while not self.why:
            await self._some.wait()
            self._some.clear()
            while self._others:
                await socket_.send_text(self._others.pop(0))
            if self._newest:
                text, self._newest = self._newest, ""
                await socket_.send_text(text)
        await socket_.close(1008, self.why)


class LogPage(Page):
    """A page that shows a log: nobody drives, and everybody points at a moment of their own."""

    def __init__(
        self, settings: dict[str, Any], addresses: list[str], player: Player, say: Callable[[str], None]
    ) -> None:
        super().__init__({**settings, "seat": False}, None, addresses)
        self._say = say
        self._player = player
        self.robot = {"type": "robot", **player.robot, "curves": []}
        self.first = [player.overview()]

    def to_loop(self, message: dict[str, Any]) -> None:
        """Report what people at the machine must know; there is no loop that could be told anything."""
        if message["kind"] == "said":
            self._say(message["why"])

    def more(self, client: Client, ask: PageAsk) -> None:
        """Show a moment of the log."""
        if ask.type == "at":
            client.tell(self._player.at(ask.time))
