"""The page's server, seen from the loop: a separate process, so no browser can delay the loop.

The loop only stores its newest tick. A thread sends it some twenty times a second over a socket pair, with the time of
the loop's clock; another thread takes the server's messages. Neither can block the loop.
"""

from __future__ import annotations

import pickle
import select
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass
from typing import Any

from tenuto.basics.closing import Closing
from tenuto.basics.errors import TenutoError
from tenuto.basics.extras import needs
from tenuto.basics.findings import Finding, unexpected
from tenuto.clock import REAL, Timer
from tenuto.driving.asks import Asks
from tenuto.kinds.options import option
from tenuto.protocols.page import FromServer
from tenuto.protocols.remote import read_json

# The interval at which the newest tick and the time are sent, s.
SEND_EVERY = 0.05
# The longest time of the server to begin, and to end, s.
_START, _END = 30.0, 3.0
_LONGEST = 1 << 16


@dataclass(frozen=True, kw_only=True)
class PageSettings:
    """The settings of the page's server.

    Attributes:
        port: of TCP; 0 for any free one.
        lan: also for devices in the network, over TLS, after a code was entered; otherwise for this machine only.
        watchers: everybody in the network may watch.
    """

    port: int = option("a TCP port from 0 to 65535", 8600, low=0, high=65535, word="PORT", place=True)
    lan: bool = option("true or false: devices in the network may use the page", False, word="true|false")
    watchers: bool = option("true or false: with lan, anybody may watch", False, word="true|false")

    def settings(self) -> PageSettings:
        """Return these settings of options that have more."""
        return PageSettings(port=self.port, lan=self.lan, watchers=self.watchers)

    def misfits(self) -> list[Finding]:
        """List options that contradict each other."""
        lacks = self.watchers and not self.lan
        return (
            [unexpected("watchers", "false, unless lan = true: other devices are not admitted", "true")]
            if lacks
            else []
        )

    def packages(self) -> tuple[str, ...]:
        """Return the modules that it needs, of `tenuto.basics.extras.EXTRAS`."""
        return ("starlette", "uvicorn", "websockets", *(("cryptography", "segno") if self.lan else ()))


class PageServer(Closing):
    """The page's server. It runs until it is closed.

    Attributes:
        url: of the page. code: for a new device; empty if none is needed.
        fingerprint: of the certificate, if there is one.
        title, origin: the robot's name, and the way of its commands, for the page's head.
        file: of the profile, for settings that are saved on the page; empty if there is none.
        watched: the values of a source, if nothing is driven: see ``tenuto watch``.
        chosen: the answer to the last question; empty before it comes.
        asks: gets the requests of the page's buttons. said: gets messages for the people at the robot.
    """

    def __init__(
        self,
        settings: PageSettings,
        error: type[TenutoError],
        take: Callable[[float, FromServer], None],
        *,
        seat: bool = True,
        clock: Timer = REAL,
    ) -> None:
        """Start it, and wait until it serves.

        Args:
            settings: see there. error: the type if it cannot be served, or its packages are missing.
            take: is called from a thread with frames, and with the message that the driver has left, and their times.
            seat: this page may drive.
            clock: the loop's, whose time is sent too.
        """
        if wrong := settings.misfits():
            raise error(f"page: {wrong[0]}")
        needs(*settings.packages())
        self._error, self._take, self._clock = error, take, clock
        self.asks: Asks | None = None
        self.watched: dict[str, Any] | None = None
        self.chosen, self._question, self._keys = "", 0, tuple[str, ...]()
        self._asking = threading.Lock()
        self.said: Callable[[str], None] = lambda text: None
        self.title = self.origin = self.file = self._driver = ""
        self.url = self.code = self.fingerprint = ""
        self._plan: Any = None
        self._tick: Any = None
        self._sent_plan: Any = object()
        self._done = threading.Event()
        self._ticks, self._worst = 0, 0.0
        ours, theirs = socket.socketpair()
        heard, says = socket.socketpair(socket.AF_UNIX, socket.SOCK_DGRAM)
        self._line, self._heard = ours, heard
        self._process = subprocess.Popen(
            [sys.executable, "-m", "tenuto.page.server", str(theirs.fileno()), str(says.fileno())],
            pass_fds=[theirs.fileno(), says.fileno()], stdin=subprocess.DEVNULL, start_new_session=True,
        )  # fmt: skip
        theirs.close()
        says.close()
        try:
            self._write(pickle.dumps({**asdict(settings), "seat": seat}))
            self._wait_for_it()
        except BaseException:
            self._end()
            raise
        self._threads = [
            threading.Thread(target=work, name="page", daemon=True) for work in (self._feed, self._hear)
        ]  # fmt: skip
        for thread in self._threads:
            thread.start()

    @property
    def gone(self) -> bool:
        """Whether the server has ended without being closed."""
        return not self._done.is_set() and self._process.poll() is not None

    def show(self, tick: Any) -> None:
        """Store a tick for the page; this costs the loop almost nothing."""
        self._tick = tick
        self._ticks += 1
        if tick.dt > self._worst:
            self._worst = tick.dt

    def change(self, plan: Any, driver: str = "") -> None:
        """Take the plan of the robot, also after a change of the profile, and the driver of the page's seat."""
        self._plan, self._driver = plan, driver

    def close(self) -> None:
        """End the server; all open pages show that the drive has ended."""
        if not self._done.is_set():
            self._done.set()
            self._end()
            for thread in self._threads:
                thread.join()

    def _wait_for_it(self) -> None:
        """Wait until it serves. Raises if it cannot, or ends before."""
        end, data = time.monotonic() + _START, b""
        while not data and self._process.poll() is None and time.monotonic() < end:
            if select.select([self._heard], [], [], 0.1)[0]:
                data = self._heard.recv(_LONGEST)
        if not data and select.select([self._heard], [], [], 0.0)[0]:
            data = self._heard.recv(_LONGEST)  # its last message
        said = read_json(FromServer, data)
        if said is None or said.kind != "ready":
            raise self._error(said.why if said is not None else "the page's server did not start: read what it printed")
        self.url, self.code, self.fingerprint = said.why, said.name, said.client

    def _write(self, data: bytes) -> None:
        self._line.sendall(len(data).to_bytes(4, "big") + data)

    def _feed(self) -> None:
        """Send the newest tick repeatedly; only this thread waits for the server."""
        before = self._clock.now()
        while not self._done.wait(SEND_EVERY):
            now = self._clock.now()
            message: dict[str, Any] = {"clock": now, "tick": self._tick}
            message |= {"ticks": self._ticks, "seconds": now - before, "worst": self._worst}
            before = now
            self._ticks, self._worst = 0, 0.0
            if self.watched is not None:
                message["watch"] = self.watched
            plan = self._plan
            if plan is not self._sent_plan:
                message |= {"plan": plan, "title": self.title, "origin": self.origin, "file": self.file,
                            "driver": self._driver}  # fmt: skip
                self._sent_plan = plan
            try:
                self._write(pickle.dumps(message))
            except OSError:
                return

    def _hear(self) -> None:
        while not self._done.is_set():
            with suppress(OSError):
                if select.select([self._heard], [], [], 0.2)[0]:
                    self._hear_one(self._clock.now(), self._heard.recv(_LONGEST))

    def _hear_one(self, at: float, data: bytes) -> None:
        """Carry out requests at once, because a stop must not wait for a poll; pass frames on."""
        said = read_json(FromServer, data)
        if said is None:
            return
        who = said.name or "the page"
        if said.kind in ("frame", "gone"):
            self._take(at, said)
        elif said.kind == "said":
            self.said(said.why)
        elif said.kind == "choice":
            self._choose(said)
        elif self.asks is None:
            return
        elif said.kind == "emergency":
            self.asks.emergency_stop(f"pressed on the page by {who}")
        elif said.kind == "reset":
            self.asks.reset()
        elif said.kind == "mark":
            self.asks.note(said.why or f"mark by {who}")

    def ask(self, question: str, choices: Sequence[tuple[str, str]]) -> None:
        """Ask a question on the page; each answer has a key and a description. `chosen` gets the key."""
        with self._asking:
            self._question, self._keys = self._question + 1, tuple(key for key, _ in choices)
            self.chosen = ""
            self.watched = {"prompt": question, "step": 0, "good": True, "choices": [[*one] for one in choices],
                            "question": self._question}  # fmt: skip

    def answered(self, text: str) -> None:
        """Show a text on the page instead of a question, which can no longer be answered."""
        with self._asking:
            self._question, self._keys = self._question + 1, ()
            self.chosen = ""
            self.watched = {"prompt": text, "step": 0, "good": True}

    def _choose(self, said: FromServer) -> None:
        """Take the first answer. A slow page may answer a question that was answered elsewhere meanwhile."""
        with self._asking:
            if said.question == self._question and said.why in self._keys and not self.chosen:
                self.chosen = said.why

    def _end(self) -> None:
        """Let the server end by itself, with a last message; otherwise kill it."""
        with suppress(OSError):
            self._line.shutdown(socket.SHUT_WR)
        try:
            self._process.wait(_END)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        self._line.close()
        self._heard.close()
