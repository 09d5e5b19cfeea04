"""The examples, each run by one command, all at once; and the view of a station."""

import json
import os
import re
import runpy
import signal
import subprocess
import sys
from collections.abc import Iterator
from contextlib import ExitStack, suppress
from pathlib import Path

import pytest

import tenuto
from brokers import MOSQUITTO, Mosquitto, Robot, wait_for
from helpers import run
from tenuto.clock import REAL
from tenuto.data import shipped

ROOT = Path(__file__).parents[1]
NEEDS_BROKER = pytest.mark.skipif(MOSQUITTO is None, reason="mosquitto is not installed: apt-get install mosquitto")
# Example → the texts that it must print, in this order.
SAYS = {
    "pad_to_serial": (r"it is over", r"It is at x \+[2-5]\.\d+ m, .* [23]\d\d good lines, 0 bad"),
    "receiver_to_four_wheels": (
        r"not enabled .* front_left 1500", r"driving .*\+0\.69 m/s  front_left 18\d\d µs, .*rear_left 11\d\d",
        r"driving .* front_left 13\d\d", r"stopping", r"fault .* \+0\.00 m/s",
    ),
    "drone_over_mavlink": (
        r"arm\n", r"take off\n", r"land\n",
        r"It is at x \+[123]\.\d+ m, y \+0\.\d+ m, \+[56]\d deg: on the ground, not armed",
    ),
    "glove": (r"not enabled", r"driving .* \+0\.\d+ m/s +-\d+ deg", r"driving .* \+0\.7\d m/s", r"no good frame for",
              r"fault +\+0\.00"),
    "walk_through": (
        r"so 0\n", r"it is being stopped, \+0\.\d+ m/s", r"characters of report", r"fine control",
        r"wheel_radius: 0\.113\d ± 0\.000\d m", r"track: 0\.65", r"stop_deceleration = .1\.92 m",
    ),
    "station_and_robot": (
        r"driving +\+(0\.9|1\.0)", r"program is killed", r"stopping .* shed is gone", r"fault +[+-]0\.0",
    ),
}  # fmt: skip


# These use simulated time, or only draw; the others take real time, and run side by side.
AT_ONCE = ("receiver_to_four_wheels", "glove", "drone_over_mavlink", "walk_through")
IN_REAL_TIME = [name for name in SAYS if name not in AT_ONCE]


# The examples from three lines on; each runs until Ctrl-C.
GROWING = {
    "01_every_input": r"left_x=[+-]0\.[3-9]",
    "02_two_motors": r"left [+-][1-9]\d+ %  right",
    "03_with_the_guard": r"not held.*left +[+-][1-9]\d* % +right +[+-]\d+ % +\n",
    "04_switch_the_scheme": r"(tank|arcade) .*pressed \d times +\n",
    "05_own_motors": r"left +[1-9]\d* .*left is off\nright is off\n$",
}


@pytest.mark.long
def test_what_grows_runs_until_ctrl_c_and_its_motors_are_told_to_stand() -> None:
    with ExitStack() as stack:
        running = {}
        for name in GROWING:
            command = [sys.executable, str(ROOT / f"examples/{name}.py")]
            running[name] = stack.enter_context(subprocess.Popen(command, stdout=subprocess.PIPE, text=True))
            stack.callback(running[name].kill)
        for name, one in running.items():
            assert one.stdout is not None
            said, moving = "", GROWING[name].partition(".*left is off")[0]
            while (
                re.search(r"[1-9]", re.sub(r"pressed \d", "", said)) is None
                or re.search(moving, said, re.DOTALL) is None or said.count("\n") < 12
            ):  # fmt: skip
                said += one.stdout.readline()
            one.send_signal(signal.SIGINT)
            said += one.stdout.read()
            assert one.wait(60) == 0, name
            assert re.search(GROWING[name], said, re.DOTALL), said
            if name in ("02_two_motors", "03_with_the_guard"):
                assert re.match(r"left +\+0 %  right +\+0 %", said.splitlines()[-1])


@pytest.mark.long
def test_the_pages_show_the_examples_as_they_are_and_the_notebook_runs() -> None:
    page = (ROOT / "docs/own-loop.md").read_text()
    assert [name for name in GROWING if (ROOT / f"examples/{name}.py").read_text() in page] == [*GROWING][:3]
    cells = json.loads((ROOT / "examples/06_notebook.ipynb").read_text())["cells"]
    names: dict[str, object] = {}
    for cell in cells:
        if cell["cell_type"] == "code":
            exec(compile("".join(cell["source"]), "06_notebook", "exec"), names)
    sides = [axes.get_ylabel() for axes in names["figure"].axes]  # type: ignore[attr-defined]
    assert sides == ["share of travel", "command, m/s", "deg/s"]


def says_it(name: str, said: str) -> bool:
    return re.search(".*?".join(f"(?:{part})" for part in SAYS[name]), said, re.DOTALL) is not None


def alone(name: str) -> str:
    command = [sys.executable, str(ROOT / f"examples/{name}.py")]
    return subprocess.run(command, capture_output=True, text=True, check=True, timeout=60).stdout


@pytest.mark.long
@pytest.mark.parametrize("name", AT_ONCE)
def test_an_example_in_simulated_time_says_what_it_is_for(name: str, capsys: pytest.CaptureFixture[str]) -> None:
    runpy.run_path(str(ROOT / f"examples/{name}.py"))
    assert says_it(name, said := capsys.readouterr().out), said


@pytest.fixture(scope="module")
def started() -> Iterator[dict[str, subprocess.Popen[str]]]:
    """All of them, side by side: they wait most of the time."""
    names = [name for name in IN_REAL_TIME if MOSQUITTO is not None or name != "station_and_robot"]
    running = {
        name: subprocess.Popen(
            [sys.executable, ROOT / f"examples/{name}.py"],
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            start_new_session=True,
        )
        for name in names
    }
    yield running
    for one in running.values():
        with suppress(ProcessLookupError):  # with its child processes
            os.killpg(one.pid, signal.SIGKILL)
        one.communicate()


@pytest.mark.live
@pytest.mark.parametrize(
    "name", [pytest.param(name, marks=NEEDS_BROKER if name == "station_and_robot" else ()) for name in IN_REAL_TIME]
)
def test_an_example_says_what_it_is_for(started: dict[str, subprocess.Popen[str]], name: str) -> None:
    said, _ = started[name].communicate(timeout=90)
    if not says_it(name, said):  # side by side they may stall one another, and a stalled loop stops its robot
        for one in started.values():
            one.wait()
        said = alone(name)
    else:
        assert started[name].returncode == 0, said
    assert says_it(name, said), said


@pytest.mark.live
@NEEDS_BROKER
def test_a_station_shows_every_robot_and_why_it_stands(tmp_path: Path) -> None:
    with ExitStack() as stack:
        broker = Mosquitto(tmp_path)
        stack.callback(broker.stop)
        watch_them(broker, stack, tmp_path)


def watch_them(broker: Mosquitto, stack: ExitStack, tmp_path: Path) -> None:
    here = f"127.0.0.1:{broker.port}"
    none = run("station", here, "--json", "--seconds", "0.3", cwd=tmp_path, clock=REAL)
    assert (json.loads(none.stdout)["robots"], none.returncode) == ({}, 1)
    medlar = Robot(tenuto.open_source(f"mqtt:{here}/medlar"))
    stack.callback(medlar.close)
    (tmp_path / "quince.toml").write_text(shipped("quince.toml").read_text() + '[loop]\nstall_timeout = "2 s"\n')
    profile = str(tmp_path / "quince.toml")
    command = [sys.executable, "-m", "tenuto", "follow", profile, "--source", f"mqtt:{here}/quince"]
    quince = stack.enter_context(subprocess.Popen([*command, "--json"], stdout=subprocess.PIPE, text=True))
    stack.callback(quince.kill)
    assert wait_for(
        lambda: "quince" in run("station", here, "--json", "--seconds", "0.4", cwd=tmp_path, clock=REAL).stdout, 20.0
    )
    both = run("station", here, "--json", "--seconds", "1", cwd=tmp_path, clock=REAL)
    said = json.loads(both.stdout)["robots"]
    assert {name: one["condition"] for name, one in said.items()} == {"medlar": "not enabled", "quince": "not enabled"}
    assert both.returncode == 0
    assert "nothing has come from the source yet" in said["quince"]["reasons"][0]
    quince.kill()
    medlar.close()
    after = run("station", here, "--json", "--seconds", "1", cwd=tmp_path, clock=REAL)
    assert {one["condition"] for one in json.loads(after.stdout)["robots"].values()} == {"gone"}
    assert after.returncode == 1
    broker.stop()
    nothing = run("station", here, "--json", "--seconds", "1", cwd=tmp_path, clock=REAL)
    assert nothing.returncode == 1
    assert "no connection to the broker" in nothing.stderr


def test_follow_is_used_wrongly(tmp_path: Path) -> None:
    for arguments, code, said in (
        (("follow", str(shipped("medlar.toml")), "--source", "mqtt:here"), 1, "expected HOST/ROBOT"),
        (("follow", str(shipped("medlar.toml")), "--source", "simulated:sticks"), 1, "sends no velocities"),
        (("follow", str(shipped("medlar.toml"))), 2, "--source"),
        (("station", ":1883"), 2, "expected HOST or HOST:PORT"),
    ):
        done = run(*arguments, cwd=tmp_path)
        assert done.returncode == code
        assert said in " ".join((done.stdout + done.stderr).split())
