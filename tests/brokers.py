"""A real broker for the tests, where mosquitto is installed, and robots and drivers that meet there."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import threading
import time
from collections.abc import Callable
from pathlib import Path

import tenuto
from helpers import MEDLAR, Notebook, pad
from tenuto import Frame, Tick
from tenuto.core.layouts import ControlInfo
from tenuto.sinks import Sink
from tenuto.sources import Source

MOSQUITTO = shutil.which("mosquitto", path=f"{os.environ.get('PATH', '')}:/usr/sbin:/usr/local/sbin")
# A busy machine stalls loops now and then; what is looked at here is something else.
PATIENT = MEDLAR.model_copy(update={
    "loop": MEDLAR.loop.model_copy(update={"stall_timeout": 2.0}),
    "guard": MEDLAR.guard.model_copy(update={"emergency_stop": "north", "reset": "south"}),
})  # fmt: skip
NOT_PRESSED = {"north": 0.0, "south": 0.0}


def free_port(kind: int = socket.SOCK_STREAM) -> int:
    with socket.socket(socket.AF_INET, kind) as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


def wait_for(what: Callable[[], object], seconds: float = 10.0) -> bool:
    """Wait until something is so; tell whether it came to that."""
    end = time.monotonic() + seconds
    while not what():
        if time.monotonic() > end:
            return False
        time.sleep(0.01)
    return True


class Mosquitto:
    """A broker in a process of its own, that can be stopped, started and paused."""

    def __init__(self, folder: Path, *lines: str) -> None:
        self.port = free_port()
        self.config = folder / "mosquitto.conf"
        said = lines or ("allow_anonymous true",)
        self.config.write_text("\n".join((f"listener {self.port} 127.0.0.1", *said)))
        self.start()

    def start(self) -> None:
        assert MOSQUITTO is not None
        quiet = subprocess.DEVNULL
        self.process = subprocess.Popen([MOSQUITTO, "-c", self.config], stdout=quiet, stderr=quiet)
        assert wait_for(self._answers)

    def stop(self) -> None:
        self.process.send_signal(signal.SIGCONT)
        self.process.kill()
        self.process.wait()

    def pause(self, paused: bool) -> None:
        """Let it hang, as a line does that is cut without a word; what comes meanwhile waits in buffers."""
        self.process.send_signal(signal.SIGSTOP if paused else signal.SIGCONT)

    def _answers(self) -> bool:
        with socket.socket() as one:
            return one.connect_ex(("127.0.0.1", self.port)) == 0


class HandsOn(Source):
    """A pad that a test holds: ``values`` is what it sends."""

    name = "hands"

    def __init__(self) -> None:
        self.values: dict[str, float] | None = pad() | NOT_PRESSED

    def controls(self) -> tuple[ControlInfo, ...]:
        return tuple(ControlInfo(name, 0, 1, 0) for name in pad() | NOT_PRESSED)

    def poll(self, now: float) -> Frame | None:
        return Frame(now, self.values) if self.values is not None else None


class Station:
    """A driver at a pad, and the loop that sends what comes of it; in a thread."""

    def __init__(self, sink: Sink) -> None:
        self.hands, self.sink, self.over = HandsOn(), sink, False
        self.ticks: list[Tick] = []
        self.thread = threading.Thread(target=self._run, daemon=True)
        self.thread.start()

    def _run(self) -> None:
        tenuto.drive(PATIENT, self.hands, [self.sink], on_tick=self._tell)

    def _tell(self, tick: Tick) -> str | None:
        self.ticks.append(tick)
        return "over" if self.over else None

    def drive(self, forward: float = 1.0) -> None:
        """Let go, press, and push the stick, as a driver does."""
        for values, seconds in ((pad(), 1.0), (pad(held=True), 0.4), (pad(forward, held=True), 0.0)):
            self.hands.values = values | NOT_PRESSED
            time.sleep(seconds)

    def drives(self, robot: Robot, forward: float = 1.0) -> bool:
        """Drive until the robot does; where a busy machine was silent for too long, let go and press again."""
        for _ in range(5):
            self.drive(forward)
            if wait_for(lambda: robot.speed * forward > 0.45, 4.0):
                return True
        return False

    def close(self) -> None:
        self.over = True
        self.thread.join(5.0)
        self.sink.close()


class Robot:
    """A robot that follows, in a thread; every tick is kept."""

    def __init__(self, source: Source) -> None:
        self.source, self.over, self.notebook = source, False, Notebook()
        self.thread = threading.Thread(target=self._run, daemon=True)
        self.thread.start()

    def _run(self) -> None:
        tenuto.follow(PATIENT, self.source, [self.notebook], on_tick=lambda tick: "over" if self.over else None)

    @property
    def ticks(self) -> list[Tick]:
        return self.notebook.ticks

    @property
    def speed(self) -> float:
        return self.ticks[-1].command.vx if self.ticks else 0.0

    def close(self) -> None:
        self.over = True
        self.thread.join(5.0)
        self.source.close()
