"""What is sent to whom: the newest tick to everybody who may watch, and requests to the loop."""

from __future__ import annotations

import asyncio
import json
import socket
from collections import deque
from collections.abc import Callable, Mapping
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from starlette.requests import HTTPConnection
from starlette.websockets import WebSocket

from tenuto.driving.explain import explain
from tenuto.driving.guard import State
from tenuto.page.curves import Curves
from tenuto.page.devices import Code, Devices, permit_file, share_of
from tenuto.page.facts import device_facts, robot_facts, tick_facts
from tenuto.page.hub import Client, Hub
from tenuto.protocols.page import PageAsk
from tenuto.protocols.page_rights import Shown
from tenuto.views.scene import Scene, scene_of

if TYPE_CHECKING:
    from tenuto.page.player import Player

COOKIE = "tenuto-device"
# The most messages that wait for a slow browser, beside the newest tick.
_MOST_WAITING = 50
# The rate of the loop is computed over this many messages.
_RATES = 20
# How often the permission of a device is checked, s.
_LOOK_EVERY = 0.5


class Page:
    """The page: its content, and who may see it."""

    shown: ClassVar[Shown] = Shown.DRIVE

    def __init__(self, settings: dict[str, Any], says: socket.socket | None, addresses: list[str]) -> None:
        self.lan, self.watchers = bool(settings["lan"]), bool(settings["watchers"])
        shown = Shown.SEAT if settings["seat"] else self.shown
        self.hub = Hub(self.to_loop, shown=shown, moves=lambda: self._moves, more=self.more)
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
        """Send a message to the loop; a frame without room is dropped, any other message waits."""
        data = json.dumps(message).encode()
        if self._says is None:
            return
        if message["kind"] == "frame":
            with suppress(OSError):
                if not self._waiting:  # no frame overtakes the message that somebody is gone
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
                return  # the loop has ended; so will this process
            self._waiting.pop(0)

    def take(self, message: dict[str, Any]) -> None:
        """Take a message of the loop: the time, the newest tick, and a plan if it has changed."""
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
        """Try the settings of a stick, or write them into the profile while nobody drives.

        A thread does it, because frames must not wait for it; only the newest of several requests is kept.
        """
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
        """Shut out devices that were revoked, as long as it serves."""
        permitted = _changed_at(permit_file())
        while self.lan:
            await asyncio.sleep(_LOOK_EVERY)
            if (now := _changed_at(permit_file())) != permitted:
                permitted = now
                self.code.permit(self.now())
                self.tell_code()
            for outlet in self.outlets:
                if not outlet.allowed():
                    outlet.close("this device may no longer use the page")

    def tell_code(self) -> None:
        """Show the code for the next device at the robot."""
        said = self.code.text or "none: too many wrong codes; tenuto page --permit lets the next device in"
        self.to_loop({"kind": "said", "why": f"code for the next device: {said}"})

    def end(self) -> None:
        """Tell everybody that the drive is over."""
        self.over = True
        for outlet in self.outlets:
            outlet.put({"type": "over"})

    def allowed(self, connection: HTTPConnection, *, by_script: bool = False) -> bool:
        """Return whether a request is meant for this server, and comes from its own page if a script made it.

        This keeps out a foreign page in the same browser: its origin is another, and a name of its own that it
        points to this machine is not a name of this server.
        """
        host = connection.headers.get("host", "").lower()
        name = host.rpartition(":")[0] if host.endswith(f":{self.port}") else host
        if name not in self.hosts:
            return False
        origin = connection.headers.get("origin")
        own = f"{'https' if self.lan else 'http'}://{host}"
        return origin == own if by_script else origin in (None, own)

    def who(self, connection: HTTPConnection) -> tuple[bool, str]:
        """Return whether somebody may drive, and the device's name. Raises `PermissionError` without any right."""
        if not self.lan:
            return True, ""
        self.devices.look(self.now())
        device = self.devices.known(connection.cookies.get(COOKIE, ""))
        if device is None and not self.watchers:
            raise PermissionError
        return device is not None, device.name if device is not None else ""

    def came(self, connection: HTTPConnection) -> None:
        """Keep the address from which an admitted device has connected."""
        if self.lan and connection.client is not None:
            self.devices.came_from(connection.cookies.get(COOKIE, ""), connection.client.host)

    def knows_address(self, share: str) -> bool:
        """Return whether an admitted device has come from an address, or it is this machine's own."""
        own = share in ("127.0.0.1", share_of("::1"))
        return not self.lan or own or any(one.address == share for one in self.devices.all.values())

    def knows(self, connection: HTTPConnection) -> bool:
        """Return whether somebody may at least watch."""
        try:
            self.who(connection)
        except PermissionError:
            return False
        return True


def _changed_at(path: Path) -> float:
    """Return when a file was changed; 0 if there is none."""
    try:
        return path.stat().st_mtime
    except OSError:
        return 0.0


class Outlet:
    """The messages for one browser: the newest tick only, and a few others.

    Attributes:
        why: the reason for which its connection is to be closed; empty for none.
    """

    def __init__(self, allowed: Callable[[], bool]) -> None:
        """Set the check whether this browser may still see the page."""
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
        """Send this, after earlier messages."""
        if len(self._others) < _MOST_WAITING:
            self._others.append(json.dumps(message, separators=(",", ":")))
        self._some.set()

    def close(self, why: str) -> None:
        """Send nothing more, and close the connection."""
        self.why = why
        self._some.set()

    async def send_to(self, socket_: WebSocket) -> None:
        """Send everything until it is closed; only this waits for the browser."""
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
    """A page that shows a log: nobody drives, and each visitor selects a moment."""

    shown = Shown.LOG

    def __init__(
        self, settings: dict[str, Any], addresses: list[str], player: Player, say: Callable[[str], None]
    ) -> None:
        super().__init__({**settings, "seat": False}, None, addresses)
        self._say = say
        self._player = player
        self.robot = {"type": "robot", **player.robot, "curves": []}
        self.first = [player.overview()]

    def to_loop(self, message: dict[str, Any]) -> None:
        """Report messages for the people at the machine; there is no loop."""
        if message["kind"] == "said":
            self._say(message["why"])

    def more(self, client: Client, ask: PageAsk) -> None:
        """Show a moment of the log."""
        client.tell(self._player.at(ask.time))
