"""Real processes: a transmitter, the loop, the robot and its sensors, each killed, suspended or faulty at any time.

The robot stands. Five rounds here; TENUTO_ROUNDS=50 pytest tests/test_processes.py makes fifty, docs/guard.md has 40.
"""

import os
import random
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import pytest

from tenuto.data import shipped

pytestmark = pytest.mark.live

ROUNDS = int(os.environ.get("TENUTO_ROUNDS", "5"))
# The process, and what happens to it: a signal, or a word for its program.
FAULTS: list[tuple[str, signal.Signals | str]] = [
    ("transmitter", signal.SIGKILL), ("loop", signal.SIGSTOP), ("robot", signal.SIGSTOP),
    ("sensors", "open"), ("sensors", "stuck"), ("loop", signal.SIGKILL), ("transmitter", signal.SIGSTOP),
    ("robot", signal.SIGKILL), ("sensors", signal.SIGSTOP), ("sensors", signal.SIGKILL),
]  # fmt: skip
TIMEOUT, VALID, WITHIN, RAMP = 0.3, 0.5, 0.4, 1.2 / 1.5
ROLL_OUT = 0.12 * 4.1  # the motors' lag, from full speed to a sixtieth of it
STANDS = 0.02

# Rests until the loop runs, presses, pushes forward, and continues as long as it lives.
TRANSMITTER = """
import pathlib, time
from tenuto.sim.receiver import SimulatedReceiver
begun = []
def motion(t):
    if not begun and pathlib.Path("run.csv").exists():
        begun.append(t)
    t -= begun[0] if begun else t
    return [1500.0, 2012.0 if t > 0.9 else 1500.0, 1500.0, 1500.0, 2012.0 if t > 0.6 else 988.0, *[1500.0] * 11]
SimulatedReceiver("sbus", motion=motion, link="radio")
time.sleep(60)
"""
# A gate that is closed until it is opened, and an encoder that measures the speed until it sticks.
SENSORS = """
import os, pathlib, time, tty
ours, theirs = os.openpty()
tty.setraw(theirs)
os.symlink(os.ttyname(theirs), "sensors")
while True:
    time.sleep(0.02)
    log = pathlib.Path("robot.csv")
    rows = [row.split(",") for row in log.read_text()[-400:].splitlines()] if log.exists() else []
    speed = next((row[5] for row in reversed(rows) if len(row) == 9 and row[5][-1:].isdigit()), "0")
    closed, moves = not os.path.exists("open"), not os.path.exists("stuck")
    os.write(ours, f"{int(closed)},{speed if moves else 0}\\n".encode())
"""
SENSED = """
[inhibits.gate]
source = { kind = "lines", port = "sensors", columns = ["gate", "speed"] }
reads = "gate"
stop_category = 0

[measured.wheels]
source_of = "gate"
reads = "speed"
tolerance = "0.4 m/s"
"""
COMMANDS = {
    "robot": ["-m", "tenuto", "robot", "mine.toml", "--link", "cart", "--log", "robot.csv"],
    "transmitter": ["-c", TRANSMITTER],
    "sensors": ["-c", SENSORS],
    "loop": ["-m", "tenuto", "drive", "mine.toml", "--to", "serial:cart", "--to", "log:run.csv"],
}


def profile_text() -> str:
    text = shipped("medlar.toml").read_text()
    for old, new in (
        ('kind = "gamepad"', 'kind = "sbus"\nport = "radio"'),
        ('"left_y"', '"channel_2"'), ('"right_x"', '"channel_4"'),
        ("low = -30454\ncentre = 983\nhigh = 30454\n", ""), ('"left_shoulder"', '"channel_5"'),
        ('link_timeout = "300 ms"', f'link_timeout = "{TIMEOUT} s"\ncommand_timeout = "{VALID} s"'),
        ('rate = "50 Hz"', 'rate = "50 Hz"\nstall_timeout = "400 ms"'),
    ):  # fmt: skip
        text = text.replace(old, new)
    return text + SENSED + f'within = "{WITHIN} s"\n'


def rows_of(path: Path) -> list[tuple[float, float]]:
    """The robot's own log: the common clock of all processes, and its speed. A killed one may end in half a row."""
    lines = path.read_text().splitlines()[1:] if path.exists() else []
    cells = [line.split(",") for line in lines if line.count(",") == 8]
    return [(float(row[0]), float(row[5])) for row in cells]


def wait_for(what: Callable[[], bool], seconds: float) -> bool:
    until = time.monotonic() + seconds
    while not (there := what()) and time.monotonic() < until:
        time.sleep(0.02)
    return there


def promised(who: str, how: signal.Signals | str) -> float:
    """Return the time within which the robot stands, s."""
    if who == "sensors":
        # A gate that opens or is silent removes the power, and so does a wrong speed.
        return {"open": 0.0, "stuck": WITHIN}.get(str(how), TIMEOUT) + ROLL_OUT
    return max(VALID, TIMEOUT + RAMP if who == "transmitter" else 0.0) + ROLL_OUT


def happen(to: subprocess.Popen[bytes], who: str, how: signal.Signals | str, folder: Path) -> None:
    """Cause the event."""
    if isinstance(how, str):
        (folder / how).touch()
        return
    to.send_signal(how)
    if how == signal.SIGKILL:
        # The name of a real device disappears with it; this one would lead to the next owner of the terminal's number.
        (folder / {"robot": "cart", "transmitter": "radio"}.get(who, who)).unlink(missing_ok=True)


@pytest.mark.parametrize("number", range(ROUNDS))
def test_whatever_is_killed_the_robot_stands(number: int, tmp_path: Path) -> None:
    who, how = FAULTS[number % len(FAULTS)]
    dice = random.Random(number)
    (tmp_path / "mine.toml").write_text(profile_text())
    log = tmp_path / "robot.csv"
    running: dict[str, subprocess.Popen[bytes]] = {}

    def begin(name: str) -> None:
        with (tmp_path / f"{name}.txt").open("wb") as said:
            command = [sys.executable, *COMMANDS[name]]
            running[name] = subprocess.Popen(command, cwd=tmp_path, stdout=said, stderr=subprocess.STDOUT)

    def drives() -> bool:
        """Start again: after a stall of the machine a drive ends correctly, and the driver does not press again."""
        end()
        begin("robot")
        begin("transmitter")
        begin("sensors")
        assert wait_for(lambda: all((tmp_path / name).exists() for name in ("cart", "radio", "sensors")), 120.0)
        begin("loop")
        return wait_for(lambda: any(speed > 0.2 for _, speed in rows_of(log)[-3:]), 15.0)

    def end() -> None:
        for name in reversed(running):  # the loop first: it would open a lost port again
            running[name].kill()
            running[name].wait()
        for name in ("run.csv", "robot.csv", "cart", "radio", "sensors"):
            (tmp_path / name).unlink(missing_ok=True)

    try:
        assert any(drives() for _ in range(6)), "the processes did not get going"
        time.sleep(dice.uniform(0.0, 1.2))
        fault = time.monotonic()
        happen(running[who], who, how, tmp_path)
        time.sleep(1.1)
        running[who].send_signal(signal.SIGCONT)
        back = time.monotonic()
        if (who, how) == ("robot", signal.SIGKILL):
            assert running["loop"].wait(timeout=60) == 1
            assert "cart is gone" in (tmp_path / "loop.txt").read_text()
            return
        # If the robot itself was suspended, its time counts from when it continues.
        start = back if who == "robot" else fault
        promise = promised(who, how)
        time.sleep(1.5)
        lived_on = wait_for(lambda: len([row for row in rows_of(log) if row[0] > start + promise]) > 20, 60.0)
        rows = rows_of(log)
    finally:
        end()
    slow = max(b[0] - a[0] for a, b in pairwise(row for row in rows if row[0] > start))
    moving = [clock for clock, speed in rows if clock > start and abs(speed) > STANDS]
    took = max(moving, default=start) - start
    what = f"{who} {getattr(how, 'name', how)}"
    print(f"{what}: it stood after {took:.2f} s, promised {promise:.2f} s; its longest step {slow:.2f} s")
    assert took <= promise + 0.15 + 3.0 * slow
    assert lived_on, (tmp_path / "robot.txt").read_text()  # and it continued at standstill
