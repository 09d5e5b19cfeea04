"""The live view in its own process, so that it costs the loop nothing: the loop only stores its newest tick.

The loop's process is the parent. It sends scene, tick and beat some ten times a second over a socket pair, and never
waits: messages that do not fit are dropped. The view sends back the pressed keys.
"""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import termios
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from multiprocessing.connection import Connection
from types import TracebackType
from typing import Any, Self

from tenuto.driving.guard import State
from tenuto.driving.tick import Tick
from tenuto.views.scene import Scene
from tenuto.views.screen import Beat, screen

_SEND_SECONDS = 0.08
# How long the view may take to restore the terminal, s.
_PATIENCE = 3.0
# A view that has read nothing for this time hangs: its keys are dead, s.
HANGS_AFTER = 2.0
ENDED = "the live view has ended: q is dead, Ctrl-C stops the robot"
# The end of what a full-screen view does to a terminal: its other screen, its mouse, a hidden cursor, colours.
_AS_BEFORE = b"\x1b[?1049l\x1b[?25h\x1b[?1000l\x1b[?1003l\x1b[0m"


class LiveView:
    """The loop's end of the view.

    If it ends or hangs, the terminal is put back, so that Ctrl-C works, the driver is told, and the drive goes on.

    Attributes:
        failed: the view ended before the drive.
    """

    def __init__(
        self, scene: Scene, interrupt: Callable[[str], None], *, keys: bool = True,
        instead: Callable[[Tick], None] | None = None,
    ) -> None:  # fmt: skip
        """Set the scene, and the functions of the view.

        Args:
            scene: what does not change.
            interrupt: for a key that requests a stop: it is called with the name of the key.
            keys: without them it only draws, because the keys of this terminal drive the robot.
            instead: takes the ticks after the view has ended.
        """
        self._scene, self._interrupt, self._keys, self._instead = scene, interrupt, keys, instead
        self._newest: Tick | None = None
        self._ticks = self._frames = 0
        self._worst = 0.0
        self._driven = False
        self._marks = 0
        self._noted = 0
        self.failed = self._said = False
        self._sending_since: float | None = None
        self._settings: list[Any] | None = None
        self._done = threading.Event()
        self._rings = threading.Event()
        self._speaking = threading.Lock()

    def show(self, tick: Tick) -> None:
        """Store a tick for the view; this costs the loop almost nothing."""
        self._newest = tick
        if self.failed and self._instead is not None:
            self._instead(tick)
            return
        self._ticks += 1
        self._frames += tick.new_frame and 1 + len(tick.frame.earlier if tick.frame is not None else ())
        if tick.dt > self._worst:
            self._worst = tick.dt
        self._driven = self._driven or tick.guard.state is State.DRIVING

    def change(self, scene: Scene) -> None:
        """Set another scene: the profile has changed."""
        self._scene = scene

    def note(self) -> str | None:
        """Return the note for the next tick: that the driver has set a mark, or that the view has ended."""
        if self.failed and not self._said:
            self._said = True
            return ENDED
        if self._marks == self._noted:
            return None
        self._noted += 1
        return f"mark {self._noted}"

    def ring(self) -> None:
        """Ring the terminal's bell; if the terminal blocks, only the thread that rings waits."""
        self._rings.set()

    def __enter__(self) -> Self:
        with suppress(termios.error, ValueError):  # no terminal
            self._settings = termios.tcgetattr(sys.stdin.fileno())
        ours, theirs = socket.socketpair()
        ours.setblocking(True)
        ours.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, 1 << 18)
        self._line = Connection(ours.detach())
        self._process = subprocess.Popen(
            [sys.executable, "-m", "tenuto.views.process", str(theirs.fileno()), *([] if self._keys else ["draws"])],
            pass_fds=[theirs.fileno()],
            stderr=sys.stdout.fileno(),  # where Textual draws; it must be the terminal
        )
        theirs.close()
        self._send(Beat())
        for work in (self._feed, self._hear, self._ring_on, self._watch):
            threading.Thread(target=work, name="live view", daemon=True).start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._done.set()
        # If the view hangs in the middle of a message, nothing more can be sent.
        if self._speaking.acquire(timeout=0.5):
            with suppress(OSError):  # or it has ended by itself
                self._line.send(None)
        try:
            self._process.wait(_PATIENCE)
        except subprocess.TimeoutExpired:
            self._end_view()
        self._line.close()

    def _end_view(self) -> None:
        """End the view, which may hang, and put the terminal back as it was before."""
        self._process.kill()
        self._process.wait()
        os.write(sys.stdout.fileno(), _AS_BEFORE)
        if self._settings is not None:
            with suppress(termios.error):
                termios.tcsetattr(sys.stdin.fileno(), termios.TCSANOW, self._settings)

    def _watch(self) -> None:
        """Tell the driver if the view has ended or hangs; the robot is driven on."""
        while not self._done.wait(_SEND_SECONDS):
            since = self._sending_since
            hangs = since is not None and time.monotonic() - since > HANGS_AFTER
            if self._process.poll() is None and not hangs:
                continue
            self._end_view()
            self.failed = True
            os.write(sys.stdout.fileno(), f"\r\n{ENDED[0].upper()}{ENDED[1:]}.\r\n".encode())
            return

    def _feed(self) -> None:
        """Send the newest tick repeatedly; only this thread ever waits for the view."""
        while not self._done.wait(_SEND_SECONDS):
            beat = Beat(self._ticks / _SEND_SECONDS, self._frames / _SEND_SECONDS, self._worst, driven=self._driven)
            self._ticks = self._frames = 0
            self._worst = 0.0
            try:
                self._send(beat)
            except OSError:
                return

    def _ring_on(self) -> None:
        """Ring the bell whenever it was requested; this does not disturb the drawing."""
        while not self._done.is_set():
            if self._rings.wait(_SEND_SECONDS):
                self._rings.clear()
                os.write(sys.stdout.fileno(), b"\a")

    def _send(self, beat: Beat) -> None:
        with self._speaking:
            self._sending_since = time.monotonic()
            self._line.send((self._scene, self._newest, beat))
            self._sending_since = None

    def _hear(self) -> None:
        """Handle a pressed key."""
        while not self._done.is_set():
            try:
                said = self._line.recv()
            except (EOFError, OSError):
                return
            if said.startswith("stop "):
                self._interrupt(said.removeprefix("stop "))
            elif said == "mark":
                self._marks += 1


def main(descriptor: int, keys: bool) -> None:
    """Run the view: draw what is received, and send pressed keys."""
    os.nice(10)  # the loop goes first, also while all of this is being loaded
    for name in ("SIGINT", "SIGQUIT", "SIGTSTP"):  # the loop's process handles Ctrl-C and Ctrl-Z
        if hasattr(signal, name):
            signal.signal(getattr(signal, name), signal.SIG_IGN)
    line = Connection(descriptor)
    kept: list[tuple[Scene, Tick | None, Beat]] = [line.recv()]
    rates: list[Beat] = []

    def newest() -> tuple[Scene, Tick | None, Beat] | None:
        try:
            while line.poll():
                found = line.recv()
                if found is None:
                    return None
                kept[0] = found
                rates.append(found[2])
                del rates[:-12]
        except (EOFError, OSError):
            return None
        scene, tick, _ = kept[0]
        return scene, tick, _mean(rates)

    def tell(what: str) -> None:
        try:
            line.send(what)
        except OSError:
            return  # the loop has ended; the next refresh ends the view

    if not keys:
        _draw(newest)
        return
    from tenuto.views.app import LiveApp

    LiveApp(kept[0][0], newest, tell).run()


def _draw(newest: Callable[[], tuple[Scene, Tick | None, Beat] | None]) -> None:
    """Draw without reading a key, until the drive is over."""
    from rich.console import Console, Group
    from rich.live import Live

    console = Console(stderr=True, highlight=False, markup=False)
    with Live(console=console, screen=True, auto_refresh=False) as live:
        while (found := newest()) is not None:
            live.update(Group(*screen(*found, *console.size)), refresh=True)
            time.sleep(_SEND_SECONDS)


def _mean(beats: list[Beat]) -> Beat:
    """Return the beat over the last second: mean rates, and the longest step."""
    if not beats:
        return Beat()
    count = len(beats)
    return Beat(
        sum(beat.rate for beat in beats) / count, sum(beat.frames for beat in beats) / count,
        max(beat.worst for beat in beats), driven=beats[-1].driven,
    )  # fmt: skip


if __name__ == "__main__":
    main(int(sys.argv[1]), keys=len(sys.argv) < 3)
