"""From a virtual pad through the live loop to a far end in another process: sign, scale, and the end of commands."""

import os
import socket
import subprocess
import sys
import threading
import time
import tty
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

import pandas as pd
import pytest

import tenuto
from brokers import MOSQUITTO, Mosquitto, free_port, wait_for
from helpers import patient, run
from tenuto.data import shipped

pytestmark = pytest.mark.live

TENUTO = [sys.executable, "-m", "tenuto"]
PAD = ["--source", f"simulated:gamepad,recording={shipped('orchard-row.csv')}"]
# Two wheels' controllers on servo frames, in a process of their own: neutral after 0.3 s of silence.
CONTROLLERS = """
import os, select, sys, time
from tenuto.protocols import IbusDecoder, SbusDecoder
decoder, heard, pulses = {"sbus": SbusDecoder, "ibus": IbusDecoder}[sys.argv[1]](), time.monotonic(), (1500.0, 1500.0)
while True:
    if select.select([int(sys.argv[2])], [], [], 0.02)[0]:
        for frame in decoder.feed(os.read(int(sys.argv[2]), 4096)):
            heard, pulses = time.monotonic(), tuple(frame.channels[:2])
    if time.monotonic() - heard > 0.3:
        pulses = (1500.0, 1500.0)
    print(*pulses, flush=True)
"""


@contextmanager
def started(*arguments: str, cwd: Path) -> Iterator[subprocess.Popen[str]]:
    process = subprocess.Popen([*TENUTO, *arguments], cwd=cwd, stdout=subprocess.PIPE, text=True)
    try:
        yield process
    finally:
        process.kill()
        process.communicate()


def speeds(log: Path) -> "pd.Series[float]":
    try:
        return tenuto.load_log(log)["command.vx"]
    except (tenuto.TenutoError, KeyError, ValueError):
        return pd.Series([0.0])


def test_over_a_network(tmp_path: Path) -> None:
    """One driver's machine drives one robot over UDP, and another over a broker, if there is one."""
    patient(tmp_path)
    run("key", "orchard.key", cwd=tmp_path)
    places = {"udp": f"udp:127.0.0.1:{free_port(socket.SOCK_DGRAM)},key=orchard.key"}
    with ExitStack() as stack:
        if MOSQUITTO is not None:
            broker = Mosquitto(tmp_path)
            stack.callback(broker.stop)
            places["mqtt"] = f"mqtt:127.0.0.1:{broker.port}/medlar"
        logs = {way: tmp_path / f"{way}.jsonl" for way in places}
        for way, place in places.items():
            stack.enter_context(
                started("follow", "medlar.toml", "--source", place, "--to", f"log:{way}.jsonl", cwd=tmp_path)
            )
        to = [word for place in (*places.values(), "log:driver.jsonl") for word in ("--to", place)]
        driver = stack.enter_context(started("drive", "medlar.toml", *PAD, *to, cwd=tmp_path))
        assert wait_for(lambda: all(speeds(log).max() > 0.8 for log in logs.values()), 120.0)
        driver.kill()
        assert wait_for(lambda: all(speeds(log).iloc[-1] == 0.0 for log in logs.values()), 5.0)
    here = tenuto.load_log(tmp_path / "driver.jsonl")
    for log in logs.values():
        there = tenuto.load_log(log)
        assert there["command.vx"].max() == pytest.approx(here["command.vx"].max(), abs=0.25)  # a second may be missing
        assert there["command.vx"].min() >= 0.0
        wheels = there[there["command.vx"] > 0.5]
        both = (wheels["actuators.left_wheel"] + wheels["actuators.right_wheel"]) / 2.0
        assert (both * 0.11).mean() == pytest.approx(wheels["command.vx"].mean(), rel=0.01)
        assert set(there["guard.state"].iloc[-3:]) <= {"fault", "stopping", "not enabled"}
        assert there["guard.codes"].iloc[-1]


class Wheels:
    """Two wheels at the end of a line of servo frames, in a process of their own; ``said`` is their commands."""

    def __init__(self, kind: str) -> None:
        self.line, self.port = os.openpty()
        tty.setraw(self.port)
        self.said: list[tuple[float, float]] = []
        command = [sys.executable, "-c", CONTROLLERS, kind, str(self.line)]
        self.process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True, pass_fds=[self.line])
        self.thread = threading.Thread(target=self._listen)
        self.thread.start()

    def _listen(self) -> None:
        assert self.process.stdout is not None
        for row in self.process.stdout:
            left, right = row.split()
            self.said.append((float(left), float(right)))

    def close(self) -> None:
        self.process.kill()
        self.thread.join()
        if self.process.stdout is not None:
            self.process.stdout.close()
        self.process.wait()
        for end in (self.line, self.port):
            os.close(end)


def test_a_computer_in_the_place_of_a_receiver(tmp_path: Path) -> None:
    """Servo frames go from the program with the pad to wheels in other processes, until the first is killed."""
    # The full pulse is 1.2 m/s over 0.11 m; the right wheel is mounted reversed.
    form = '\n[actuators.wheels]\nform = "pulse"\nfull = 10.909\n[actuators.right_wheel]\nreverse = true\n'
    patient(tmp_path, form)
    wheels = {kind: Wheels(kind) for kind in ("sbus", "ibus")}
    to = [word for kind, one in wheels.items() for word in ("--to", f"{kind}:{os.ttyname(one.port)}")]
    with started("drive", "medlar.toml", *PAD, *to, "--to", "log:driver.jsonl", cwd=tmp_path):
        assert wait_for(lambda: all(one.said and one.said[-1][0] > 1850.0 for one in wheels.values()), 120.0)
        time.sleep(1.2)  # the log may be late by this
    for one in wheels.values():
        pushed = max(left for left, _ in one.said)
        assert min(right for _, right in one.said) == pytest.approx(3000.0 - pushed, abs=2.0)
        assert pushed == pytest.approx(1500.0 + 500.0 * speeds(tmp_path / "driver.jsonl").max() / 1.2, abs=15.0)
        assert wait_for(lambda one=one: one.said[-1] == (1500.0, 1500.0), 60.0)  # type: ignore[misc]
        one.close()
