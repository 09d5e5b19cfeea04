"""Shared parts of tests: Medlar's profile, a pipeline in simulated time, a source, a sink, the command."""

from __future__ import annotations

import contextlib
import fcntl
import io
import json
import os
import struct
import subprocess
import sys
import termios
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any, cast
from unittest import mock

import jsonschema
import pytest
from hypothesis import settings

from tenuto import Frame, Pipeline, Tick, load_profile
from tenuto.basics.layouts import ControlInfo
from tenuto.cli import main
from tenuto.clock import SimulatedClock, Timer
from tenuto.data import shipped
from tenuto.driving.plan import Planned
from tenuto.sinks import Sink
from tenuto.sources import Source
from tenuto.vehicles import Differential

MEDLAR = load_profile(shipped("medlar.toml"))
CART = cast(Differential, MEDLAR.plan().chassis)
PERIOD = 1.0 / MEDLAR.loop.rate
OUTPUT = jsonschema.Draft202012Validator(
    json.loads((Path(__file__).parents[1] / "docs/schemas/output.json").read_text())
)
QUICK, USUAL, FRESH = 6, 30, 200  # examples of a random test: in make quick, make test and make campaign
CENTRE, FORWARD, BACK = 983.0, -30454.0, 30454.0  # raw numbers of Medlar's pad


def examples(many: int) -> settings:
    """Set the number of examples; fewer in `make quick`, and more in `make campaign`."""
    tried = settings().max_examples
    return settings(max_examples=min(many, QUICK) if tried == QUICK else many * tried // USUAL)


# Two sticks, one for each side, on a pad without calibration.
TANK = """
format = 1
name = "Two sticks"
source = { kind = "gamepad" }
controls.left = { reads = "left_y", dead_zone = 0.05 }
controls.right = { reads = "right_y", dead_zone = 0.05 }
style = { kind = "tank", left = "left", right = "right" }
speeds = { forward = 1.0, backward = 1.0, turn = 2.0 }
limits = { acceleration = 1.0, turn_acceleration = 3.0 }
guard = { hold_to_run = "left_shoulder", link_timeout = "300 ms", stop_deceleration = 1.0 }
chassis = { kind = "differential", track = 0.5, wheel_radius = 0.1, max_wheel_speed = 20.0 }
"""


def pad(forward: float = 0.0, left: float = 0.0, held: bool = False) -> dict[str, float]:
    """Return the numbers of Medlar's pad for sticks at −1…1 of their travel."""

    def raw(position: float) -> float:
        return CENTRE + position * ((FORWARD - CENTRE) if position > 0 else (CENTRE - BACK))

    return {"left_y": raw(forward), "right_x": raw(left), "left_shoulder": float(held)}


class Bench:
    """A pipeline in simulated time; every tick is stored."""

    def __init__(self, profile: Planned = MEDLAR) -> None:
        self.pipeline = Pipeline(profile)
        self.now = 0.0
        self.ticks: list[Tick] = []

    def step(self, values: dict[str, float] | None, dt: float = PERIOD, **more: Any) -> Tick:
        self.now += dt
        frame = None if values is None else Frame(self.now, values)._replace(**more)
        self.ticks.append(self.pipeline.step(frame, self.now))
        return self.ticks[-1]

    def run(self, seconds: float, values: dict[str, float] | None) -> Tick:
        for _ in range(round(seconds / PERIOD)):
            self.step(values)
        return self.ticks[-1]

    def drive(self, seconds: float, forward: float = 1.0, left: float = 0.0) -> Tick:
        """Enable as a driver does, then push the sticks."""
        self.run(0.1, pad())
        self.run(0.1, pad(held=True))
        return self.run(seconds, pad(forward, left, held=True))


def run(*arguments: str, cwd: Path, clock: Timer | None = None) -> subprocess.CompletedProcess[str]:
    """Run the command in this process, by default in simulated time."""
    out, err, status = io.StringIO(), io.StringIO(), 0
    with contextlib.chdir(cwd), contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            main(arguments, clock or SimulatedClock())
        except SystemExit as end:
            status = end.code if isinstance(end.code, int) else 0
    if "--json" in arguments and out.getvalue():
        # In every test the output is one object of the schema, without NaN.
        said = json.loads(out.getvalue(), parse_constant=lambda word: pytest.fail(f"{word} is no JSON"))
        wrong = jsonschema.exceptions.best_match(OUTPUT.iter_errors(said))
        assert wrong is None, f"{arguments}: {list(wrong.absolute_path)}: {wrong.message:.300}"
    return subprocess.CompletedProcess(arguments, status, out.getvalue(), err.getvalue())


def run_process(*arguments: str, cwd: Path) -> subprocess.CompletedProcess[str]:
    """Run the command as a process of its own."""
    command = [sys.executable, "-m", "tenuto", *arguments]
    return subprocess.run(command, cwd=cwd, capture_output=True, text=True, timeout=120, check=False)


def patient(folder: Path, more: str = "") -> Path:
    """Write Medlar's profile for a drive in real time on a machine that stalls now and then."""
    text = shipped("medlar.toml").read_text().replace('link_timeout = "300 ms"', 'link_timeout = "1 s"')
    (folder / "medlar.toml").write_text(text + 'stall_timeout = "2 s"\n' + more)
    return folder / "medlar.toml"


class Hands(Source):
    """A source that enables and pushes the stick forward, and may fail during the drive."""

    name = "hands"

    def __init__(self, fails_at: float = 1e9, begins_at: float = 0.1) -> None:
        self.fails_at, self.begins_at = fails_at, begins_at

    def controls(self) -> tuple[ControlInfo, ...]:
        return tuple(ControlInfo(name, 0, 1, 0) for name in pad())

    def poll(self, now: float) -> Frame:
        if now > self.fails_at:
            raise OSError("the cable broke")
        return Frame(now, pad(float(now > self.begins_at + 0.2), 0.0, now > self.begins_at))


class Notebook(Sink):
    """A sink that stores its ticks, and may fail during the drive."""

    name = "notebook"

    def __init__(self, fails_at: float = 1e9) -> None:
        self.fails_at = fails_at
        self.ticks: list[Tick] = []
        self.stops: list[Tick] = []

    def write(self, tick: Tick) -> None:
        assert not self.stops, "a stop is the last thing"
        self.ticks.append(tick)
        if tick.time > self.fails_at:
            raise OSError("no space left")

    def stop(self, tick: Tick) -> None:
        self.stops.append(tick)


@contextlib.contextmanager
def prompt_terminals() -> Iterator[None]:
    """Deliver every byte to the other end of a pseudo-terminal before `os.write` returns.

    The system delivers it in a thread of its own, which may be many ticks later in simulated time.
    """
    other_end, openpty, write = dict[str, int](), os.openpty, os.write

    def pair() -> tuple[int, int]:
        master, slave = openpty()
        other_end[f"of {master}"], other_end[os.ttyname(slave)] = slave, master
        return master, slave

    def waiting(end: int) -> int:
        return int(struct.unpack("i", fcntl.ioctl(end, termios.FIONREAD, b"1234"))[0])

    def write_through(end: int, data: bytes) -> int:
        key = f"of {end}"
        if os.isatty(end) and key not in other_end:
            key = os.ttyname(end)
        if not os.isatty(end) or key not in other_end:
            return write(end, data)
        before = waiting(other_end[key])
        written, deadline = write(end, data), time.monotonic() + 20.0
        while waiting(other_end[key]) < before + written:
            assert time.monotonic() < deadline, "what is written to a pseudo-terminal does not arrive"
            os.sched_yield()
        return written

    with mock.patch("os.openpty", pair), mock.patch("os.write", write_through):
        yield
