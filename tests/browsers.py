"""A drive from a page in real time, and a real browser."""

from __future__ import annotations

import json
import shutil
import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from typing import TYPE_CHECKING, Any, Self

import tenuto
from tenuto import DriveHandle, Tick
from tenuto.driving.guard import State
from tenuto.driving.plan import Planned
from tenuto.sinks.function import FunctionSink
from tenuto.sources.page import PageSource
from tenuto.vehicles.velocity import STANDSTILL

if TYPE_CHECKING:
    from playwright.sync_api import Browser, Page
    from websockets.sync.client import ClientConnection

CHROMIUM = shutil.which("chromium") or shutil.which("chromium-browser")
_OPTIONS = (
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync",
)  # fmt: skip
# The longest time of a busy machine for anything, s.
PATIENCE = 30.0


def wait_for(what: Callable[[], Any], why: str, seconds: float = PATIENCE) -> Any:
    """Poll until a result is true, and return it."""
    end = time.monotonic() + seconds
    while not (found := what()):
        assert time.monotonic() < end, why
        time.sleep(0.005)
    return found


class PageDrive:
    """A drive from a page in a thread; the robot's ticks are stored."""

    def __init__(self, profile: Planned, more: str = "", robot: str = "") -> None:
        source = tenuto.open_source(f"page:0{more}")
        assert isinstance(source, PageSource)
        self.source, self.profile = source, profile
        self.url = self.source.server.url
        self.port = int(self.url.rstrip("/").rpartition(":")[2])
        self._more = [robot] if robot else []
        self.ticks: list[Tick] = []
        self.see: Callable[[Tick], None] | None = None
        self.on_tick: Callable[[Tick], str | None] | None = None
        self.handle = DriveHandle()
        self.report = tenuto.DriveReport()
        self._thread = threading.Thread(target=self._drive, name="drive")

    def _drive(self) -> None:
        robot = FunctionSink("robot", self._take)
        tenuto.drive(
            self.profile,
            self.source,
            [robot, *self._more],
            handle=self.handle,
            changes=lambda: None,  # curves are saved only if changes are accepted
            report=self.report,
            on_tick=self.on_tick,
        )

    def _take(self, tick: Tick) -> None:
        self.ticks.append(tick)
        if self.see is not None:
            self.see(tick)

    def __enter__(self) -> Self:
        self._thread.start()
        wait_for(lambda: self.ticks, "the drive does not begin")
        return self

    def __exit__(self, *_: object) -> None:
        self.handle.end("the test is over")
        self._thread.join(PATIENCE)
        self.source.close()

    @property
    def moving(self) -> bool:
        return self.ticks[-1].command != STANDSTILL

    @property
    def state(self) -> str:
        return str(self.ticks[-1].guard.state)

    def codes(self) -> set[str]:
        return {reason.code for reason in self.ticks[-1].guard.reasons}

    def drives(self) -> None:
        wait_for(lambda: self.moving and self.state == "driving", f"it does not drive: {self.ticks[-1].guard}")

    def begun_by(self, page: RawPage, **values: float) -> None:
        """Let a page drive; again and again if a slow machine has lost the link before the robot moved."""

        def moves() -> bool:
            page.begin(**values)
            for _ in range(25):
                if self.moving and self.state == "driving":
                    return True
                page.drive_on(0.02, left_shoulder=1.0, **values)
            return False

        wait_for(moves, "it does not drive")

    def stops(self, code: str = "", *, within: float = PATIENCE) -> float:
        """Wait until it stands, and return how long the robot's ticks drove it after now, s."""
        since = time.monotonic()
        wait_for(lambda: not self.moving, f"it does not stop: {self.ticks[-1].guard}", within)
        if code:
            wait_for(lambda: code in self._since_driven(), f"no {code}: {self.ticks[-1].guard}")
        return time.monotonic() - since

    def _since_driven(self) -> set[str]:
        """Return the codes since the last tick with driving; the first may be in the next tick."""
        codes: set[str] = set()
        for tick in reversed(self.ticks):
            if tick.guard.state is State.DRIVING:
                break
            codes |= {reason.code for reason in tick.guard.reasons}
        return codes

    def stands_for(self, seconds: float) -> None:
        """Check that it remains at standstill."""
        begin = len(self.ticks)
        time.sleep(seconds)
        assert all(tick.command == STANDSTILL for tick in self.ticks[begin:])


class RawPage:
    """A page without a browser: its messages as bytes over a WebSocket."""

    def __init__(self, url: str, **more: Any) -> None:
        from websockets.sync.client import connect

        origin, place = more.pop("origin", url.rstrip("/")), url.replace("http", "ws", 1)
        self._stack = ExitStack()
        line = connect(f"{place}live", origin=origin, proxy=None, open_timeout=PATIENCE, **more)
        self.line: ClientConnection = self._stack.enter_context(line)
        self.clock, self.number, self.who, self.over = 0.0, 0, dict[str, Any](), False
        self.tick: dict[str, Any] = {}
        self._hearing = threading.Thread(target=self._hear, daemon=True)
        self._hearing.start()
        wait_for(lambda: self.clock > 0.0 and self.who, "the server says nothing")

    def _hear(self) -> None:
        with suppress(Exception):
            for text in self.line:
                message = json.loads(text)
                if message["type"] == "tick":
                    self.tick = message
                    self.clock = message["clock"]
                elif message["type"] == "who":
                    self.who = message
        self.over = True

    def say(self, **message: Any) -> None:
        self.line.send(json.dumps(message))

    def frame(self, *, old: float = 0.0, **values: float) -> None:
        self.number += 1
        self.say(type="frame", number=self.number, heard=self.clock - old, values=values)

    def drive_on(self, seconds: float, **values: float) -> None:
        """Send frames at the usual rate for a time."""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            self.frame(**values)
            time.sleep(0.02)

    def take(self) -> None:
        self.say(type="take")
        wait_for(lambda: self.who["driver"] == self.who["you"], "nobody lets it drive")

    def begin(self, **values: float) -> None:
        """Take the seat, and enable as a driver does."""
        self.take()
        self.drive_on(0.2)
        self.drive_on(0.2, left_shoulder=1.0)
        self.drive_on(0.3, left_shoulder=1.0, **values)


@contextmanager
def chromium() -> Iterator[Browser]:
    """Start a browser."""
    from playwright.sync_api import sync_playwright

    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=CHROMIUM, args=list(_OPTIONS))
        try:
            yield browser
        finally:
            browser.close()


class Fingers:
    """Fingers on a touch screen, as the browser's own input events."""

    def __init__(self, page: Page) -> None:
        self._line = page.context.new_cdp_session(page)
        self._down: dict[int, tuple[float, float]] = {}
        self._page = page

    def middle_of(self, where: str) -> tuple[float, float]:
        place = self._page.locator(where).bounding_box()
        assert place is not None, where
        return place["x"] + place["width"] / 2, place["y"] + place["height"] / 2

    def down(self, finger: int, at: tuple[float, float]) -> None:
        self._down[finger] = at
        self._send("touchStart")

    def move(self, finger: int, by: tuple[float, float]) -> None:
        x, y = self._down[finger]
        self._down[finger] = (x + by[0], y + by[1])
        self._send("touchMove")

    def lift(self, finger: int) -> None:
        # Lifted fingers are reported by an end.
        left = {finger: self._down.pop(finger)}
        self._send("touchEnd", left)

    def _send(self, kind: str, points_: dict[int, tuple[float, float]] | None = None) -> None:
        points = [{"x": x, "y": y, "id": finger} for finger, (x, y) in (points_ or self._down).items()]
        self._line.send("Input.dispatchTouchEvent", {"type": kind, "touchPoints": points})


class Cable(threading.Thread):
    """A proxy for a browser that may be cut: then nothing passes, and neither side gets an error."""

    def __init__(self) -> None:
        super().__init__(daemon=True)
        self._door = socket.create_server(("127.0.0.1", 0))
        self.url = f"http://127.0.0.1:{self._door.getsockname()[1]}"
        self.cut = False
        self.start()

    def run(self) -> None:
        with suppress(OSError):
            while True:
                near, _ = self._door.accept()
                threading.Thread(target=self._serve, args=(near,), daemon=True).start()

    def _serve(self, near: socket.socket) -> None:
        with suppress(OSError, ValueError), near:
            head = b""
            while b"\r\n\r\n" not in head:
                head += near.recv(4096)
            word, target, _ = head.split(b"\r\n")[0].decode().split(" ")
            place = target if word == "CONNECT" else target.split("/")[2]
            host, _, port = place.partition(":")
            with socket.create_connection((host, int(port))) as far:
                if word == "CONNECT":
                    near.sendall(b"HTTP/1.1 200 OK\r\n\r\n")
                else:  # one request per connection
                    head = head.replace(f"http://{place}".encode(), b"", 1)
                    far.sendall(head.replace(b"\r\n", b"\r\nConnection: close\r\n", 1))
                back = threading.Thread(target=self._pump, args=(far, near), daemon=True)
                back.start()
                self._pump(near, far)
                back.join()

    def _pump(self, one: socket.socket, other: socket.socket) -> None:
        with suppress(OSError):
            while data := one.recv(65536):
                while self.cut:
                    time.sleep(0.02)
                other.sendall(data)
        for end in (one, other):
            with suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)

    def close(self) -> None:
        self._door.shutdown(socket.SHUT_RDWR)
        self._door.close()
        self.join()
