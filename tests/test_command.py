"""The command as a process: its output, its files, and its exit status."""

import csv
import json
import os
import re
import signal
import subprocess
import sys
import time
import tomllib
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import tenuto
from helpers import MEDLAR, patient, run, run_process
from tenuto.cli.commands import COMMANDS
from tenuto.data import shipped
from tenuto.sources.recording import write_recording

ROOT = Path(__file__).parents[1]
PROFILE, RECORDING = str(shipped("medlar.toml")), str(shipped("orchard-row.csv"))


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("demo")
    done = run("demo", cwd=folder)
    assert (done.returncode, done.stderr) == (0, "")
    words = " ".join(done.stdout.split())
    assert "Medlar, the crate cart" in words
    assert "no good frame for 0.3" in words
    assert "re-enabled at 30." in words
    assert {file.name for file in (folder / "tenuto-demo").iterdir()} == {
        "drive.csv", "drive.csv.profile.toml", "drive.png",
        "medlar.toml", "medlar-keyboard.toml", "medlar-lesson.toml", "medlar-lift.toml",
        "damson-guided.toml",
        "damson.toml", "round-the-tree.toml",
        "quince.toml", "sorrel.toml", "orchard-row.csv", "quince-course.csv", "sorrel-course.csv",
        "damson-flight.csv", "worn-pad.csv", "clean-transmitter.csv", "medlar-odometry.csv",
        "pad-gestures.csv",
    }  # fmt: skip
    return folder / "tenuto-demo"


@pytest.mark.long
def test_the_demo_stands_through_the_silence_until_it_is_enabled_again(demo: Path) -> None:
    log, recording = pd.read_csv(demo / "drive.csv"), pd.read_csv(RECORDING)
    heard, held = recording["time"].to_numpy(), recording["left_shoulder"].to_numpy()
    gap = int(np.diff(heard).argmax())
    silent, back = heard[gap], heard[gap + 1]
    assert back - silent == pytest.approx(1.2, abs=0.03)
    assert recording["left_y"][gap + 1] < -20000  # the stick is still held forward when the radio returns
    released = heard[(heard > back) & (held == 0)][0]
    pressed = heard[(heard > released) & (held == 1)][0]
    moving = log[["command.vx", "command.yaw_rate"]].abs().max(axis=1)
    assert moving[log["time"].between(silent, silent + 0.3)].min() > 0.8
    assert moving[log["time"].between(back, pressed)].max() == 0.0
    assert moving[log["time"] > pressed].max() > 0.8
    assert (log["guard.state"] == "driving").eq(log["guard.reasons"].isna()).all()
    assert moving.iloc[-1] == 0.0
    assert log["guard.codes"].iloc[-1] == "ended"


@pytest.mark.long
def test_the_log_the_table_and_the_library_tell_the_same(demo: Path) -> None:
    ticks = tenuto.replay(MEDLAR, RECORDING)
    table = ticks.to_frame()
    log = pd.read_csv(demo / "drive.csv", keep_default_na=False).iloc[:-1]  # the last row is the stop
    assert [name for name in log.columns if not name.startswith("far.")] == [*table.columns, "format"]
    assert {"far.simulated.x", "far.simulated.wheels.left_wheel"} <= set(log.columns), "only there is a far end"
    assert len(log) == len(ticks) == 2000
    assert (log["command.vx"] - table["command.vx"]).abs().max() <= 5e-7
    assert (log["guard.reasons"] == table["guard.reasons"]).all()


@pytest.mark.long
def test_the_figure_is_a_picture_of_the_agreed_size(demo: Path) -> None:
    picture = (demo / "drive.png").read_bytes()
    assert picture[:8] == b"\x89PNG\r\n\x1a\n"
    assert [int.from_bytes(picture[at : at + 4], "big") for at in (16, 20)] == [1280, 800]


@pytest.mark.long
def test_demo_as_json(tmp_path: Path) -> None:
    summary = json.loads(run("demo", "--json", cwd=tmp_path).stdout)
    assert [stop["codes"] for stop in summary["stops"]] == ["link_quiet", "hold_released"]
    assert 15 < summary["distance"] < 20


@pytest.fixture
def profile(tmp_path: Path) -> str:
    return str(patient(tmp_path))


def short_recording(folder: Path, seconds: float) -> Path:
    with open(RECORDING, newline="") as file:
        rows = [row for row in csv.reader(file) if row[0] == "time" or float(row[0]) <= seconds]
    (folder / "short.csv").write_text("\n".join(",".join(row) for row in rows) + "\n")
    return folder / "short.csv"


@pytest.mark.live
def test_drive_from_a_recording_at_the_real_rate(tmp_path: Path, profile: str) -> None:
    began = time.monotonic()
    recording = short_recording(tmp_path, 2.5)
    done = run_process("drive", profile, "--recording", str(recording), "--to", "log:run.csv", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert time.monotonic() - began > 2.5
    assert "not enabled: left_shoulder is not held: hold it to drive" in done.stdout
    assert "driving" in done.stdout
    assert "recording short.csv has ended" in done.stdout
    log = pd.read_csv(tmp_path / "run.csv")
    assert log["command.vx"].max() > 0.1
    assert log["command.vx"].iloc[-1] == 0.0


def speed_in(log: Path) -> float:
    return float(pd.read_csv(log, on_bad_lines="skip", usecols=["command.vx"])["command.vx"].iloc[:-1].max())


@pytest.mark.live
@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, signal.SIGTSTP, signal.SIGQUIT])
def test_a_signal_ramps_down_and_the_last_row_is_a_stop(tmp_path: Path, profile: str, number: signal.Signals) -> None:
    arguments = ["drive", profile, "--recording", RECORDING, "--to", "log:run.csv"]
    process = subprocess.Popen(
        [sys.executable, "-m", "tenuto", *arguments], cwd=tmp_path, stdout=subprocess.PIPE, text=True
    )
    log = tmp_path / "run.csv"
    while not log.exists() or ",driving," not in log.read_text() or speed_in(log) < 0.25:
        time.sleep(0.05)
        assert process.poll() is None
    os.kill(process.pid, number)
    output, _ = process.communicate(timeout=60)
    assert process.returncode == 0
    assert "stop requested" in output
    rows = pd.read_csv(log)
    speeds = rows["command.vx"]
    assert speeds.max() > 0.2
    assert speeds.iloc[-1] == 0.0
    assert (-speeds.diff()[1:] <= 1.5 * rows["dt"][1:] + 1e-5).all()  # a ramp, no jump


@pytest.mark.long
def test_curve_as_a_figure_a_table_and_json(tmp_path: Path) -> None:
    lift = str(shipped("medlar-lift.toml"))
    done = run("curve", lift, "--figure", "c.png", "--table", "c.csv", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert "slow, fine; brisk, fine" in done.stdout
    assert (tmp_path / "c.png").read_bytes()[:4] == b"\x89PNG"
    table = pd.read_csv(tmp_path / "c.csv")
    fine = table[(table["control"] == "steer") & table["in"].str.startswith("slow, fine")]
    # The figure shows the result of a pipeline for that stick.
    profile = tenuto.load_profile(lift)
    held = {name: 0.0 for control in profile.plan().controls for name in control.all_reads}
    for row in fine.iloc[::25].itertuples():
        pipeline = tenuto.Pipeline(profile)
        for step in range(60):
            tick = pipeline.step(tenuto.Frame(step * 0.02, held | {"left_x": float(str(row.raw))}), step * 0.02)
        assert tick.shaped["steer"] == pytest.approx(float(str(row.shaped)), abs=1e-5)
    summary = json.loads(run("curve", str(shipped("damson.toml")), "--json", cwd=tmp_path).stdout)
    assert {row["control"] for row in summary["responses"]} == {"sideways", "forward", "climb", "turn"}
    assert run("curve", lift, "--table", "nowhere/c.csv", cwd=tmp_path).returncode == 1


def test_a_trim_is_kept_over_restarts(tmp_path: Path) -> None:
    (tmp_path / "lift.toml").write_text(shipped("medlar-lift.toml").read_text() + '[loop]\nstall_timeout = "2 s"\n')
    profile = tenuto.load_profile(tmp_path / "lift.toml")
    names = [name for control in profile.plan().controls for name in control.all_reads]
    frames = [tenuto.Frame(step * 0.02, dict.fromkeys(names, 0.0) | {"dpad_left": float(step % 50 > 25)})
              for step in range(120)]  # fmt: skip
    write_recording(tmp_path / "trim.csv", frames)
    first = run("drive", "lift.toml", "--recording", "trim.csv", cwd=tmp_path)
    assert "The trims are kept in lift.trims.toml" in first.stdout, first.stderr
    assert tomllib.loads((tmp_path / "lift.trims.toml").read_text()) == {"steer": 0.01}
    assert (
        "trims as they were left: steer +0.01"
        in run("drive", "lift.toml", "--recording", "trim.csv", cwd=tmp_path).stdout
    )
    assert tomllib.loads((tmp_path / "lift.trims.toml").read_text()) == {"steer": 0.02}
    (tmp_path / "full.csv").symlink_to("/dev/full")
    early = [frame._replace(time=0.2 * frame.time) for frame in frames]  # before the full disk is detected
    write_recording(tmp_path / "early.csv", early)
    full = run("drive", "lift.toml", "--recording", "early.csv", "--to", "log:full.csv", cwd=tmp_path)
    assert (full.returncode, "No space left" in full.stderr) == (1, True)  # and the trims until then are stored
    assert tomllib.loads((tmp_path / "lift.trims.toml").read_text())["steer"] > 0.02
    (tmp_path / "lift.trims.toml").write_text("steer = 7")
    broken = run("drive", "lift.toml", "--recording", "trim.csv", cwd=tmp_path)
    assert (broken.returncode, "lift.trims.toml: steer: expected a number from -1 to 1" in broken.stderr) == (1, True)


def test_used_wrongly_or_given_something_broken(tmp_path: Path) -> None:
    (tmp_path / "bad.toml").write_text(Path(PROFILE).read_text().replace("dead_zone", "dead_zon", 1))
    (tmp_path / "bad.csv").write_text("time,left_y\n0,oops\n")
    for arguments, status, said in (
        (["drive", "bad.toml"], 1, "bad.toml: controls.drive.dead_zon: expected a key of this table"),
        (["drive", PROFILE, "--recording", "bad.csv"], 1, "bad.csv:2: expected a number in column left_y"),
        (["drive", PROFILE, "--recording", RECORDING, "--to", "lgo:x.csv"], 1, 'found "lgo"'),
        (["drive", "missing.toml"], 2, "missing.toml"),
        (["demo", "--out", "bad.toml"], 2, "cannot write to bad.toml"),
        (["dirve"], 2, "dirve"),
    ):
        done = run(*arguments, cwd=tmp_path)
        assert (done.returncode, done.stdout) == (status, ""), arguments
        assert said in " ".join(done.stderr.replace("│", " ").split()), done.stderr
        assert "Traceback" not in done.stderr


@pytest.mark.long
def test_the_help_lists_every_command_on_one_screen_and_each_explains_itself(tmp_path: Path) -> None:
    said = run("--help", cwd=tmp_path).stdout.splitlines()
    assert len(said) <= 24
    assert max(map(len, said)) <= 80
    names = [name for group in COMMANDS.values() for name in group]
    assert all(any(f" {name} " in line for line in said) for name in names)
    # Every module of a command has a command, whose help says more than its line in the list.
    for name in names:
        done = run(name, "--help", cwd=tmp_path)
        assert (done.returncode, f"Usage: tenuto {name}" in done.stdout) == (0, True)
    assert run(cwd=tmp_path).returncode == 2
    assert run("--version", cwd=tmp_path).stdout == f"tenuto {tenuto.__version__}\n"


@pytest.mark.long
def test_the_public_face_is_found_and_takes_texts(tmp_path: Path) -> None:
    assert set(tenuto.__all__) <= set(dir(tenuto))
    assert all(getattr(tenuto, name).__name__ in (name, "Finding") for name in tenuto.__all__)
    assert tenuto.figures.__name__ == "tenuto.figures"
    seen: list[tenuto.Tick] = []
    log = tmp_path / "run.csv"
    report = tenuto.drive(
        PROFILE, f"recording:{RECORDING},end=12", ["simulated", f"log:{log}", seen.append],
        clock=tenuto.SimulatedClock(),
    )  # fmt: skip
    assert len(tenuto.load_log(log)) == len(seen) == report.ticks + 1
    assert [tick.command for tick in tenuto.replay(PROFILE, RECORDING)][:500] == [tick.command for tick in seen[:500]]
    for arguments, said in (
        ((7, "gamepad"), "expected a profile, a plan, or the path of a profile; found 7"),
        ((PROFILE, 7), "expected a source, or a text such as gamepad; found 7"),
        ((PROFILE, "simulated:sticks", [7]), "expected a sink, a text such as log:run.csv, or a function"),
    ):
        with pytest.raises(tenuto.TenutoError, match=said):
            tenuto.drive(*arguments)


HELP = "import sys; sys.argv = ['tenuto', '--help']; import tenuto.__main__"


@pytest.mark.long
@pytest.mark.parametrize("code", ["import tenuto", HELP])
def test_the_heavy_packages_are_loaded_only_where_they_are_used(code: str) -> None:
    program = f"import atexit, sys\natexit.register(lambda: print('LOADED', *sys.modules))\n{code}"
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=False)
    loaded = done.stdout.split("LOADED")[1].split()
    assert "tenuto" in loaded
    assert not {"scipy", "pandas", "matplotlib", "sdl2", "serial"} & set(loaded)


@pytest.mark.long
def test_the_example_of_the_readme_runs(tmp_path: Path) -> None:
    done = subprocess.run(
        [sys.executable, ROOT / "examples/first_drive.py"], cwd=tmp_path, capture_output=True, text=True
    )
    assert done.returncode == 0, done.stderr
    assert "no good frame for" in done.stdout
    example = (ROOT / "examples/first_drive.py").read_text().split('"""\n\n', 1)[1].strip()
    assert example in (ROOT / "README.md").read_text()


@pytest.mark.long
@pytest.mark.parametrize(("typed", "completed"), [("dr", "drive"), ("drive --re", "--recording")])
def test_a_shell_completes_commands_and_options(typed: str, completed: str) -> None:
    words = f"tenuto {typed}"
    asks = {"_TENUTO_COMPLETE": "complete_bash", "COMP_WORDS": words, "COMP_CWORD": str(len(words.split()) - 1)}
    command = [str(Path(sys.executable).with_name("tenuto"))]
    done = subprocess.run(command, env=os.environ | asks, capture_output=True, text=True, check=True)
    assert completed in done.stdout.split()


LIGHT = """
import sys
for name in ("pandas", "scipy", "matplotlib", "textual", "pyarrow", "pymavlink", "paho", "cryptography", "hypothesis"):
    sys.modules[name] = None
from tenuto.cli import main
from tenuto.clock import SimulatedClock
for line in sys.stdin.read().splitlines():
    try:
        main(line.split(), SimulatedClock())
    except SystemExit as end:
        print("ended", line.split()[0], end.code, file=sys.stderr)
"""


@pytest.mark.long
def test_what_drives_needs_no_package_that_draws_or_counts(tmp_path: Path) -> None:
    """A light install: commands for a robot work, and those for a desk name the extra that they need."""
    medlar, row, pad = (shipped(name) for name in ("medlar.toml", "orchard-row.csv", "worn-pad.csv"))
    curved = medlar.read_text().replace("expo = 0.35", "curve = [[0, 0], [0.5, 0.2], [1, 1]]", 1)
    (tmp_path / "curved.toml").write_text(curved)
    lines = {
        f"check {medlar}": 0, f"drive curved.toml --recording {row} --to log:run.csv": 0, "devices": 0,
        f"watch recording:{row} --json": 0, f"calibrate --from {pad} --out pad.toml --force": 0,
        f"script {shipped('round-the-tree.toml')} {medlar}": 0, f"follow {medlar}": 2,
    }  # fmt: skip
    lacking = {
        "why run.csv": "analysis", "demo": "analysis", "curve curved.toml": "analysis",
        "soak --any --runs 1": "testing",
        f"drive {medlar} --recording {row} --to log:a.parquet": "parquet",
        f"drive {medlar} --recording {row} --to mavlink:127.0.0.1:1": "mavlink",
        f"drive {medlar} --recording {row} --to mqtt:127.0.0.1/medlar": "mqtt",
    }  # fmt: skip
    said = "\n".join((*lines, *lacking))
    command = [sys.executable, "-c", LIGHT]
    done = subprocess.run(command, cwd=tmp_path, input=said, capture_output=True, text=True, check=True)
    ended = [int(code) for code in re.findall(r"^ended \w+ (\d)", done.stderr, re.M)]
    assert ended == [*lines.values(), *[1] * len(lacking)], done.stderr
    assert re.findall(r"pip install 'tenuto\[(\w+)\]'", done.stderr) == [*lacking.values()]
    assert len((tmp_path / "run.csv").read_text().splitlines()) > 1500


@pytest.mark.parametrize("command", [(), ("begin",), ("drive",), ("why",)])
def test_a_single_h_asks_for_help_too(command: tuple[str, ...], tmp_path: Path) -> None:
    short, long = (run(*command, option, cwd=tmp_path) for option in ("-h", "--help"))
    assert short.stdout == long.stdout
    assert (short.returncode, "Usage: tenuto" in short.stdout) == (0, True)
