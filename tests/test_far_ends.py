"""From a virtual pad through the live loop to a far end in another process: right sign, right scale, and the cut."""

import os
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
from helpers import run
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


@pytest.mark.parametrize(
    "way",
    ["udp", pytest.param("mqtt", marks=pytest.mark.skipif(MOSQUITTO is None, reason="mosquitto is not installed"))],
)
def test_over_a_network(way: str, tmp_path: Path) -> None:
    (tmp_path / "medlar.toml").write_text(shipped("medlar.toml").read_text() + 'stall_timeout = "2 s"\n')
    with ExitStack() as stack:
        if way == "mqtt":
            broker = Mosquitto(tmp_path)
            stack.callback(broker.stop)
            place = f"mqtt:127.0.0.1:{broker.port}/medlar"
        else:
            run("key", "orchard.key", cwd=tmp_path)
            place = f"udp:127.0.0.1:{free_port()},key=orchard.key"
        robot = ("follow", "medlar.toml", "--source", place, "--to", "log:robot.jsonl")
        stack.enter_context(started(*robot, cwd=tmp_path))
        to = ("--to", place, "--to", "log:driver.jsonl")
        driver = stack.enter_context(started("drive", "medlar.toml", *PAD, *to, cwd=tmp_path))
        assert wait_for(lambda: speeds(tmp_path / "robot.jsonl").max() > 0.8, 40.0)
        driver.kill()
        assert wait_for(lambda: speeds(tmp_path / "robot.jsonl").iloc[-1] == 0.0, 5.0)
    there, here = tenuto.load_log(tmp_path / "robot.jsonl"), tenuto.load_log(tmp_path / "driver.jsonl")
    assert there["command.vx"].max() == pytest.approx(here["command.vx"].max(), abs=0.25)  # the log may miss a second
    assert there["command.vx"].min() >= 0.0
    wheels = there[there["command.vx"] > 0.5]
    assert (wheels["actuators.left_wheel"] * 0.11).mean() == pytest.approx(wheels["command.vx"].mean(), rel=0.05)
    assert set(there["guard.state"].iloc[-3:]) <= {"fault", "stopping", "not enabled"}
    assert there["guard.codes"].iloc[-1]


@pytest.mark.parametrize("kind", ["sbus", "ibus"])
def test_a_computer_in_the_place_of_a_receiver(kind: str, tmp_path: Path) -> None:
    """Servo frames leave the program with the pad, and come to wheels in another, until the first is killed."""
    line, port = os.openpty()
    tty.setraw(port)
    text = shipped("medlar.toml").read_text() + 'stall_timeout = "2 s"\n'
    # All of the pulse is 1.2 m/s over 0.11 m; the right wheel is built in the other way round.
    text += '\n[actuators.wheels]\nform = "pulse"\nfull = 10.909\n[actuators.right_wheel]\nreverse = true\n'
    (tmp_path / "medlar.toml").write_text(text)
    said: list[tuple[float, float]] = []
    wheels = subprocess.Popen(
        [sys.executable, "-c", CONTROLLERS, kind, str(line)], stdout=subprocess.PIPE, text=True, pass_fds=[line]
    )

    def listen() -> None:
        assert wheels.stdout is not None
        for row in wheels.stdout:
            left, right = row.split()
            said.append((float(left), float(right)))

    listening = threading.Thread(target=listen)
    listening.start()
    to = ("--to", f"{kind}:{os.ttyname(port)}", "--to", "log:driver.jsonl")
    with started("drive", "medlar.toml", *PAD, *to, cwd=tmp_path):
        assert wait_for(lambda: said and said[-1][0] > 1850.0, 40.0)
        time.sleep(1.2)  # so long the log may be behind
    pushed = max(left for left, _ in said)
    assert min(right for _, right in said) == pytest.approx(3000.0 - pushed, abs=2.0)
    assert pushed == pytest.approx(1500.0 + 500.0 * speeds(tmp_path / "driver.jsonl").max() / 1.2, abs=15.0)
    assert wait_for(lambda: said[-1] == (1500.0, 1500.0), 3.0)
    wheels.kill()
    listening.join()
    if wheels.stdout is not None:
        wheels.stdout.close()
    wheels.wait()
    for end in (line, port):
        os.close(end)
