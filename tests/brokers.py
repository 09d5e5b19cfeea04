"""A real broker for the tests, if mosquitto is installed, with robots and drivers."""

from __future__ import annotations

import os
import select
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
from tenuto import Frame, State, Tick
from tenuto.basics.layouts import ControlInfo
from tenuto.clock import REAL, SimulatedClock, Timer
from tenuto.links.udp import UdpPort
from tenuto.sim.bad_line import BadLine
from tenuto.sinks import Sink
from tenuto.sources import Source

MOSQUITTO = shutil.which("mosquitto", path=f"{os.environ.get('PATH', '')}:/usr/sbin:/usr/local/sbin")
# A busy machine stalls loops from time to time, which is not tested here.
PATIENT = MEDLAR.model_copy(update={
    "loop": MEDLAR.loop.model_copy(update={"stall_timeout": 2.0}),
    "guard": MEDLAR.guard.model_copy(update={"emergency_stop": "north", "reset": "south"}),
})  # fmt: skip
NOT_PRESSED = {"north": 0.0, "south": 0.0}


def free_port(kind: int = socket.SOCK_STREAM) -> int:
    with socket.socket(socket.AF_INET, kind) as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


def wait_for(what: Callable[[], object], seconds: float = 10.0, clock: Timer = REAL) -> bool:
    """Wait for a condition; return whether it was met."""
    end = clock.now() + seconds
    while not what():
        if clock.now() > end:
            return False
        clock.sleep_until(clock.now() + 0.01)
    return True


class Mosquitto:
    """A broker in a process of its own, which can be stopped, started and paused."""

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
        """Suspend it, like a cut line; messages meanwhile wait in buffers."""
        self.process.send_signal(signal.SIGSTOP if paused else signal.SIGCONT)

    def _answers(self) -> bool:
        with socket.socket() as one:
            return one.connect_ex(("127.0.0.1", self.port)) == 0


class DatagramRelay:
    """A bad line for datagrams between a driver and a robot: some are lost, the others are late."""

    def __init__(self, to: tuple[str, int], loss: float, delay: float, clock: SimulatedClock) -> None:
        self.front = UdpPort(bind=("127.0.0.1", 0), error=tenuto.SinkError)
        self.back = UdpPort(bind=("127.0.0.1", 0), peer=to, error=tenuto.SinkError)
        self.ways = [(self.front, self.back, BadLine[bytes](loss, delay, 1)),
                     (self.back, self.front, BadLine[bytes](loss, delay, 2))]  # fmt: skip
        self.end, self.cut = clock.every(0.005, self.carry, "relay"), False

    def carry(self, now: float) -> None:
        for source, sink, line in self.ways:
            for data, sender in source.receive():
                if source is self.front:
                    self.front.peer = sender
                line.put(data, now)
            for data in line.take(now):
                if not self.cut:
                    sink.send(data)

    def close(self) -> None:
        self.end()
        self.front.close()
        self.back.close()


class StreamRelay:
    """A slow line for a stream, such as that to a broker: every byte is late."""

    def __init__(self, port: int, delay: float) -> None:
        self.listening = socket.create_server(("127.0.0.1", 0))
        self.port, self.to, self.delay, self.over = int(self.listening.getsockname()[1]), port, delay, False
        self.thread = threading.Thread(target=self._run)
        self.thread.start()

    def _run(self) -> None:
        self.listening.settimeout(0.1)
        lines: dict[socket.socket, tuple[socket.socket, BadLine[bytes]]] = {}
        while not self.over:
            for one in select.select([self.listening, *lines], [], [], 0.005)[0]:
                if one is self.listening:
                    driver, broker = self.listening.accept()[0], socket.create_connection(("127.0.0.1", self.to))
                    lines |= {driver: (broker, BadLine(0.0, self.delay)), broker: (driver, BadLine(0.0, self.delay))}
                elif data := one.recv(4096):
                    lines[one][1].put(data, time.monotonic())
                else:
                    self.over = True
            for other, line in lines.values():
                for data in line.take(time.monotonic()):
                    other.sendall(data)
        for one in (self.listening, *lines):
            one.close()

    def close(self) -> None:
        self.over = True
        self.thread.join()


class HandsOn(Source):
    """A pad that a test controls: it sends ``values``."""

    name = "hands"

    def __init__(self) -> None:
        self.values: dict[str, float] | None = pad() | NOT_PRESSED

    def controls(self) -> tuple[ControlInfo, ...]:
        return tuple(ControlInfo(name, 0, 1, 0) for name in pad() | NOT_PRESSED)

    def poll(self, now: float) -> Frame | None:
        return Frame(now, self.values) if self.values is not None else None


class Side:
    """One end of a link, and its loop: in a thread, or in simulated time."""

    def __init__(self, clock: Timer, name: str) -> None:
        self.clock, self.over, self.ticks = clock, False, list[Tick]()
        self._join = clock.start(self._run, name)

    def _run(self) -> None:
        raise NotImplementedError

    @property
    def _loop_clock(self) -> Timer | None:
        return None if self.clock is REAL else self.clock

    def _tell(self, tick: Tick) -> str | None:
        self.ticks.append(tick)
        return "over" if self.over else None

    def close(self) -> None:
        self.over = True
        self._join()


class Station(Side):
    """A driver with a pad, and the loop that sends the commands."""

    def __init__(self, sink: Sink, clock: Timer = REAL) -> None:
        self.hands, self.sink = HandsOn(), sink
        super().__init__(clock, "station")

    def _run(self) -> None:
        tenuto.drive(PATIENT, self.hands, [self.sink], on_tick=self._tell, clock=self._loop_clock)

    def drive(self, forward: float = 1.0) -> None:
        """Release until it stands, press, and push the stick, as a driver does."""
        self.hands.values = pad() | NOT_PRESSED
        wait_for(lambda: self.ticks and self.ticks[-1].guard.state is State.NOT_ENABLED, 4.0, self.clock)
        for values, seconds in ((pad(), 0.25), (pad(held=True), 0.25), (pad(forward, held=True), 0.0)):
            self.hands.values = values | NOT_PRESSED
            self.clock.sleep_until(self.clock.now() + seconds)

    def drives(self, robot: Robot, forward: float = 1.0) -> bool:
        """Drive until the robot drives; if a busy machine was silent for too long, release and press again."""
        for _ in range(5 if self.clock is REAL else 1):
            self.drive(forward)
            if wait_for(lambda: robot.speed * forward > 0.45, 4.0, self.clock):
                return True
        return False

    def close(self) -> None:
        super().close()
        self.sink.close()


class Robot(Side):
    """A robot that follows; every tick is stored."""

    def __init__(self, source: Source, clock: Timer = REAL) -> None:
        self.source, self.notebook = source, Notebook()
        super().__init__(clock, "robot")

    def _run(self) -> None:
        tenuto.follow(PATIENT, self.source, [self.notebook], on_tick=self._tell, clock=self._loop_clock)

    @property
    def speed(self) -> float:
        return self.ticks[-1].command.vx if self.ticks else 0.0

    def close(self) -> None:
        super().close()
        self.source.close()
