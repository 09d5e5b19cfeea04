"""The live view shows the content of the tick; its keys work; and it never delays the loop."""

import asyncio
import math
import os
import re
import signal
import subprocess
import sys
import threading
import time
from contextlib import suppress
from pathlib import Path
from types import SimpleNamespace

import pexpect
import pytest

import tenuto
from brokers import wait_for
from helpers import MEDLAR, TANK, Bench, pad, patient
from tenuto import State, Tick
from tenuto.data import shipped
from tenuto.driving.preflight import Check
from tenuto.views.app import LiveApp, WatchApp
from tenuto.views.process import LiveView
from tenuto.views.scene import Scene, scene_of
from tenuto.views.screen import Beat, most_scroll, screen

COURSES = {"medlar": "orchard-row", "quince": "quince-course", "sorrel": "sorrel-course", "damson": "damson-flight"}
SCENE = scene_of(MEDLAR.plan(), "Medlar", "pad → wheels")


def shown(scene: Scene, tick: Tick | None, width: int, height: int) -> list[str]:
    return [line.plain for line in screen(scene, tick, Beat(50.0, 49.0, 0.02, driven=True), width, height)]


def test_before_the_first_drive_it_shows_what_is_ready() -> None:
    scene = scene_of(MEDLAR.plan(), "Medlar", "pad", checks=[Check("clock", True, "set")])
    tick = Bench().run(1.0, pad(0.15))
    for width, height in ((80, 24), (140, 50)):
        lines = [line.plain for line in screen(scene, tick, Beat(), width, height)]
        assert "✓ clock, device, trims, guard" in lines
        assert any(line.startswith("✗ sticks: drive is at +0.15 → release it;") for line in lines)
    assert "before the drive" not in shown(scene, tick, 80, 24)


@pytest.mark.long
@pytest.mark.parametrize("robot", COURSES)
def test_it_fits_every_terminal_and_shows_what_the_tick_holds(robot: str) -> None:
    profile = tenuto.load_profile(shipped(f"{robot}.toml"))
    scene = scene_of(profile.plan(), profile.name, "recording")
    ticks = tenuto.replay(profile, shipped(f"{COURSES[robot]}.csv"))
    for tick in list(ticks)[::20]:
        small, large = (shown(scene, tick, *size) for size in ((80, 24), (140, 50)))
        assert len(small) <= 24
        assert max(map(len, small)) <= 80
        assert max(map(len, large)) <= 140
        for lines in (small, large):
            assert " ".join(str(tick.guard.state).upper()) in "\n".join(lines)
            assert any(line.startswith("link: ") for line in lines)
        bullets = [line.removeprefix("• ") for line in large if line.startswith("•")]
        assert bullets == [reason.text for reason in tick.guard.reasons]  # all of them, and no others
        notices = [line.removeprefix("◦ ") for line in large if line.startswith("◦")]
        assert notices == [notice.text for notice in tick.notices]
        text = "\n".join(large)
        for control in scene.controls:
            position = re.escape(f"{tick.positions[control.name]:+z.2f}")
            assert re.search(rf"\b{control.name} +-?\d+ +{position} ", text)
        assert f"command {round(tick.command.vx, 2) + 0.0:+z.2f} of" in text
        for name, value in tick.actuators.items():
            if not name.endswith("_angle"):
                degrees = name.endswith(("_wheel", "yaw_rate"))
                unit = "deg/s" if degrees else "N" if name.endswith("_thrust") else "m/s"
                found = re.findall(rf"\b{name.replace('_', ' ')} +([+-][\d.]+) {unit}", text)
                shown_as, half = (math.degrees(value), 0.5) if degrees else (value, 0.005)
                assert [float(one) for one in found] == [pytest.approx(shown_as, abs=half + 1e-9)]


def test_what_a_small_terminal_has_no_room_for_is_told_and_scrolled_to() -> None:
    profile = tenuto.load_profile(shipped("quince.toml"))
    scene = scene_of(profile.plan(), profile.name, "recording")
    tick = tenuto.replay(profile, shipped("quince-course.csv")).at(15.0)
    beat = Beat(50.0, 49.0, 0.02, driven=True)
    for height in range(12, 40):
        every = {line.plain for line in screen(scene, tick, beat, 80, 1000)} - {""}
        seen: set[str] = set()
        for scroll in range(most_scroll(scene, tick, beat, 80, height) + 1):
            lines = [line.plain for line in screen(scene, tick, beat._replace(scroll=scroll), 80, height)]
            assert len(lines) <= height
            seen |= {*lines}
        # A small square has other lines than a large one; everything else is present.
        assert {line for line in every if "│" not in line and "─" not in line and line[:1] != " "} <= seen
        first = [line.plain for line in screen(scene, tick, beat, 80, height)]
        assert any("lines more" in line for line in first) == (not {one for one in every if "wheel" in one} <= {*first})


MODES = """
[choose.mode]
switch = "pace"
order = ["brisk", "slow"]
[switches.pace]
kind = "cycle"
reads = "north"
[modes.brisk]
[modes.slow]
fallback = true
speeds = { forward = 0.2, backward = 0.2, turn = 1.0 }
"""


def test_sticks_and_bars_are_drawn_as_they_are() -> None:
    plan = tenuto.parse_profile(TANK + MODES).plan()
    scene = scene_of(plan, "Two sticks", "test")
    rest = {"left_y": 0.0, "right_y": 0.0, "right_x": 0.0, "left_shoulder": 0.0, "north": 0.0}
    bench = Bench(plan)
    bench.run(0.2, rest)
    bench.run(0.2, rest | {"left_shoulder": 1.0})
    tick = bench.run(3.0, rest | {"left_shoulder": 1.0, "left_y": 32767.0, "right_y": 32767.0})
    lines = shown(scene, tick, 80, 24)
    top = next(row for row, line in enumerate(lines) if line.startswith("┌"))
    dots = [column for column, mark in enumerate(lines[top + 6]) if mark == "●"]
    assert dots == [8, 27], "both sticks are drawn pulled back, each in the middle of its square"
    assert "command -0.20 of 0.20 m/s " in "\n".join(lines), "the bar ends at the speed of the mode that it is in"
    assert "right wheel   -115 deg/s" in "\n".join(lines)


def test_every_state_is_said_in_words() -> None:
    text = shipped("medlar.toml").read_text().replace("[guard]", '[guard]\nemergency_stop = "north"\nreset = "south"')
    bench, off = Bench(tenuto.parse_profile(text)), {"north": 0.0, "south": 0.0}
    seen = {}
    for values, steps in (
        (pad(), 5), (pad(0.5, held=True), 5), (pad(held=True), 5), (pad(1.0, held=True), 60), (None, 25), (None, 60),
        (pad() | {"north": 1.0}, 3),
    ):  # fmt: skip
        for _ in range(steps):
            tick = bench.step(None if values is None else off | values)
            seen[tick.guard.state] = tick
    assert set(seen) == set(State)
    for state, tick in seen.items():
        assert " ".join(str(state).upper()) in "\n".join(shown(SCENE, tick, 80, 24))
    assert "waiting for the first tick" in shown(SCENE, None, 80, 24)


@pytest.mark.live
def test_keys_stop_mark_pause_and_help() -> None:
    bench = Bench()
    newest: list[tuple[Scene, Tick | None, Beat] | None] = [(SCENE, bench.run(0.1, pad()), Beat())]
    told: list[str] = []

    async def press() -> None:
        app = LiveApp(SCENE, lambda: newest[0], told.append)

        def text() -> str:
            return str(app.query_one("#view").visual)  # type: ignore[attr-defined]

        async with app.run_test(size=(80, 24)) as pilot:
            await pilot.pause(0.3)
            assert "N O T   E N A B L E D" in text()
            await pilot.press("p")
            newest[0] = (SCENE, bench.drive(1.0), Beat())
            await pilot.pause(0.3)
            assert "N O T   E N A B L E D" in text()
            assert "PAUSED" in text()
            await pilot.press("p")
            await pilot.pause(0.3)
            assert "D R I V I N G" in text()
            await pilot.press("question_mark")
            assert "mark this moment" in text()
            await pilot.press("question_mark", "m", "q", "ctrl+c")
            assert told == ["mark", "stop q", "stop Ctrl-C"]
            newest[0] = None  # the drive has ended
            await pilot.pause(0.4)
        assert app.return_code == 0

    asyncio.run(press())


@pytest.mark.live
def test_watch_polls_until_it_is_left() -> None:
    polls, pressed = list[int](), list[str]()
    keys = {"mark": lambda: pressed.append("m"), "restart": lambda: pressed.append("r")}

    async def press() -> None:
        app = WatchApp(lambda: not polls.append(1), lambda: f"polled {len(polls)}", 0.01, keys)  # type: ignore[func-returns-value]
        async with app.run_test(size=(80, 24)) as pilot:
            await pilot.pause(0.5)
            await pilot.press("m", "r", "m", "q")
        assert app.return_code == 0

    asyncio.run(press())
    assert len(polls) > 10
    assert pressed == ["m", "r", "m"]


def drive_in_a_terminal(folder: Path) -> "pexpect.spawn[str]":
    arguments = ["-m", "tenuto", "drive", str(patient(folder)), "--recording", str(shipped("orchard-row.csv"))]
    return pexpect.spawn(
        sys.executable, [*arguments, "--to", "log:run.csv"], cwd=str(folder), dimensions=(24, 80), encoding="utf-8",
        timeout=60, env=os.environ | {"TERM": "xterm-256color"},
    )  # fmt: skip


@pytest.mark.live
def test_in_a_real_terminal_it_marks_stops_and_leaves_the_terminal_as_it_was(tmp_path: Path) -> None:
    child = drive_in_a_terminal(tmp_path)
    child.expect("D R I V I N G")
    child.send("m")
    time.sleep(0.5)
    child.send("q")
    child.expect("Stopped: q: stop requested")
    child.expect(pexpect.EOF)
    child.close()
    assert child.exitstatus == 0
    table = tenuto.load_log(tmp_path / "run.csv")
    assert "mark 1" in table["notices"].tolist()
    assert table["command.vx"].iloc[-1] == 0.0
    assert (tmp_path / "run.csv.profile.toml").read_bytes() == (tmp_path / "medlar.toml").read_bytes()


@pytest.mark.live
def test_a_view_that_is_killed_or_hangs_stops_nothing_and_is_told(tmp_path: Path) -> None:
    child = drive_in_a_terminal(tmp_path)
    child.expect("D R I V I N G")
    found = subprocess.run(["pgrep", "-P", str(child.pid)], capture_output=True, text=True, check=True).stdout.split()
    for process in found:
        os.kill(int(process), signal.SIGSTOP)
    time.sleep(0.8)
    log = tmp_path / "run.csv"
    rows = len(log.read_text().splitlines())
    assert wait_for(lambda: len(log.read_text().splitlines()) > rows + 30)  # it continues to drive
    for process in found:
        os.kill(int(process), signal.SIGKILL)
    child.expect("The live view has ended: q is dead, Ctrl-C stops the robot")
    rows = len(log.read_text().splitlines())
    assert wait_for(lambda: len(log.read_text().splitlines()) > rows + 30)
    child.expect("driving")  # a line is shown instead
    child.sendintr()  # the terminal is as it was: Ctrl-C is a signal again
    child.expect("Stopped: Ctrl-C")
    child.expect(pexpect.EOF)
    child.close()
    table = tenuto.load_log(log)
    assert max(table["dt"]) < 1.0
    assert "the live view has ended: q is dead, Ctrl-C stops the robot" in table["notices"].tolist()


@pytest.mark.live
def test_a_terminal_that_nobody_reads_holds_up_no_bell(monkeypatch: pytest.MonkeyPatch) -> None:
    ours, theirs = os.openpty()
    os.set_blocking(theirs, False)
    with suppress(BlockingIOError):
        while True:
            os.write(theirs, b"x" * 1024)
    os.set_blocking(theirs, True)
    terminal = SimpleNamespace(stdout=SimpleNamespace(fileno=lambda: theirs))
    monkeypatch.setattr("tenuto.views.process.sys", terminal)
    view = LiveView(scene_of(MEDLAR.plan(), "Medlar", "test"), print)
    ringer = threading.Thread(target=view._ring_on, daemon=True)
    ringer.start()
    for _ in range(3):
        view.ring()  # returns, although nothing can be written
        time.sleep(0.05)
    assert ringer.is_alive()
    view._done.set()
    os.set_blocking(ours, False)
    rung = b""
    until = time.monotonic() + 30.0
    while b"\a" not in rung and time.monotonic() < until:
        with suppress(BlockingIOError):
            rung += os.read(ours, 65536)
    ringer.join(10.0)
    assert (b"\a" in rung, ringer.is_alive()) == (True, False)
    os.close(ours)
    os.close(theirs)
