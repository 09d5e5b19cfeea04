"""For any invalid input, a command ends with one clear error: no traceback, no hang, no change."""

import hashlib
import os
import shutil
import signal
import typing
from collections.abc import Iterator
from importlib import import_module
from inspect import signature
from pathlib import Path
from types import FrameType
from typing import Annotated, NamedTuple

import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import MEDLAR, examples, run
from tenuto.cli.commands import COMMANDS
from tenuto.data import shipped

pytestmark = [pytest.mark.port, pytest.mark.long]


class Parameter(NamedTuple):
    """A parameter of a command: the name of the option, empty for an argument; and its type."""

    name: str
    option: str
    type: str


def parameters(command: str) -> list[Parameter]:
    """Return the parameters of a command from its signature."""
    module = import_module(f"tenuto.cli.{command}")
    found = []
    for one in signature(getattr(module, command)).parameters.values():
        annotation = eval(one.annotation, vars(module)) if isinstance(one.annotation, str) else one.annotation
        base, *about = typing.get_args(annotation) if typing.get_origin(annotation) is Annotated else (annotation, None)
        said = [word for word in getattr(about[0], "param_decls", None) or () if word.startswith("--")]
        option = said[0].partition("/")[0] if said else "--" + one.name.replace("_", "-")
        found.append(Parameter(one.name, "" if type(about[0]).__name__ == "ArgumentInfo" else option, str(base)))
    return found


TAKES = {command: parameters(command) for group in COMMANDS.values() for command in group}
# Options with which a command does its work, and ends soon.
MORE = {
    "drive": ["--source", "simulated:sticks", "--seconds", "0.5"], "page": ["--port", "0", "--seconds", "0.5"],
    "preflight": ["--source", "simulated:sticks", "--seconds", "0.5"],
    "follow": ["--source", "udp:127.0.0.1:0,key=good.key", "--seconds", "0.5"], "robot": ["--seconds", "0.5"],
    "watch": ["--for", "0.5"], "station": ["--seconds", "0.5"], "soak": ["--runs", "1"], "why": ["--at", "0.1"],
    "calibrate": ["--source", "recording:worn-pad.csv"], "demo": ["--out", "demo"], "service": ["--to", "simulated"],
}  # fmt: skip
GOOD = {
    "log": "run.csv", "recording": "orchard-row.csv", "script": "round-the-tree.toml", "broker": "127.0.0.1:9",
    "odometry": "medlar-odometry.csv", "source": "simulated:sticks", "path": "a.key",
}  # fmt: skip
FILES = (
    "none.toml", "empty.csv", "zeros.csv", "random.toml", "folder", "pipe.toml", "pipe.csv", "wide.csv", "late.csv",
    "back.csv", "one.csv", "junk.parquet", "junk.mcap", "junk.jsonl", "cut.csv", "/dev/null", "/dev/full", "", "-",
    "folder/none/x.csv", "x" * 3000, "medlar.toml", "orchard-row.csv", "round-the-tree.toml",
)  # fmt: skip
NUMBERS = ("0", "-1", "nan", "inf", "1e308", "1e-320", "word", "", "9" * 400, "0x10", "1_000", "0.5")
TEXTS = (
    "",
    "=",
    "a=b=c",
    "a=",
    "\x1b[31m",
    "\u00e9",
    "*",
    "+/#",
    "300",
    "3 m",
    "-5 s",
    "nan s",
    "x" * 3000,
    "a:b,c",
    "::",
)
SINKS = (
    "serial:", "serial:none,baud=0", "serial:none,rate=nan", "mqtt:127.0.0.1:9/+", "udp:127.0.0.1:99999", "sbus:none",
    "udp:127.0.0.1:9,key=empty.csv", "mavlink:127.0.0.1:9,target_system=300", "mavlink:127.0.0.1:9,rate=0", "log:x",
    "log:none/x.csv", "log:folder/a.mcap", "events:none/a.jsonl", "simulated:x",
)  # fmt: skip
SOURCES = (
    "sbus:none", "ibus:/dev/null", "recording:none.csv", "recording:late.csv", "recording:pipe.csv", "gamepad:9",
    "recording:orchard-row.csv,speed=nan", "recording:orchard-row.csv,start=1e9", "lines:none", "ppm:zeros.csv",
    "ppm:/dev/gpiochip99", "pwm:empty.csv,line=1", "crsf:junk.mcap", "tilt:none", "simulated:x",
)  # fmt: skip


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Good files of every kind, and bad ones."""
    place = tmp_path_factory.mktemp("inputs")
    for name in ("medlar.toml", "round-the-tree.toml", "orchard-row.csv", "worn-pad.csv", "medlar-odometry.csv"):
        shutil.copy(shipped(name), place / name)
    shutil.copy(shipped("medlar.toml"), place / "run.toml")
    log = tenuto.open_sink(f"log:{place / 'run.csv'}")
    tenuto.replay(MEDLAR, tenuto.open_source(f"recording:{shipped('orchard-row.csv')},end=6"), [log])
    log.close()
    whole = (place / "run.csv").read_bytes()
    head = "time,left_y,right_x,left_shoulder\n0,0,0,0\n"
    dice = hashlib.sha512(b"bytes").digest()
    contents: dict[str, bytes] = {
        "empty.csv": b"", "zeros.csv": bytes(1000), "random.toml": dice * 5, "junk.parquet": dice, "junk.mcap": dice,
        "junk.jsonl": dice, "wide.csv": b"time," + b",".join(b"a%d" % n for n in range(20_000)) + b"\n",
        "late.csv": f"{head}1e300,1,1,1\n".encode(), "back.csv": f"{head}-1,1,1,1\n".encode(), "one.csv": head.encode(),
        "cut.csv": whole[: len(whole) // 2],
    }  # fmt: skip
    for name, data in contents.items():
        (place / name).write_bytes(data)
    (place / "good.key").write_text("5a" * 32)
    (place / "good.key").chmod(0o600)
    (place / "folder").mkdir()
    for name in ("pipe.toml", "pipe.csv"):
        os.mkfifo(place / name)
    return place


def bad_values(one: Parameter) -> st.SearchStrategy[str]:
    if one.name == "seconds":  # infinity is a valid duration
        return st.sampled_from([number for number in NUMBERS if number not in ("inf", "1e308", "9" * 400)])
    if "float" in one.type or "int" in one.type:
        return st.sampled_from(NUMBERS)
    if one.name in ("to", "sink"):
        return st.sampled_from(SINKS + TEXTS)
    if one.name in ("source", "other"):
        return st.sampled_from(SOURCES + TEXTS)
    return st.sampled_from(FILES if "Path" in one.type else FILES + TEXTS) | st.text(max_size=30).filter(
        lambda text: "\0" not in text and not text.startswith("-")
    )


@st.composite
def calls(draw: st.DrawFn) -> tuple[str, ...]:
    """A valid call with one invalid value."""
    command = draw(st.sampled_from(sorted(TAKES)))
    takes = TAKES[command]
    wrong = draw(st.sampled_from(takes)) if takes else None
    words = [command]
    for one in takes:
        if one is wrong and one.type == str(bool):
            words += [one.option] * bool(one.option)
        elif one is wrong:
            words += [*filter(None, (one.option,)), draw(bad_values(one))]
        elif not one.option:
            words.append(GOOD.get(one.name, "medlar.toml"))
    more = MORE.get(command, [])
    for option, value in zip(more[::2], more[1::2], strict=True):
        words += [option, value] if option not in words else []
    return tuple(words)


@pytest.fixture
def patience() -> Iterator[None]:
    """Abort a command that hangs."""

    def late(number: int, frame: FrameType | None) -> None:
        raise TimeoutError("it hangs")

    before = signal.signal(signal.SIGALRM, late)
    yield
    signal.alarm(0)
    signal.signal(signal.SIGALRM, before)


def contents_of(folder: Path) -> dict[Path, bytes]:
    return {file: file.read_bytes() for file in folder.iterdir() if file.is_file()}


@pytest.mark.parametrize("words", ["preflight medlar.toml --seconds nan", "why run.csv --at nan", "watch --for nan"])
def test_nan_is_no_number_of_an_option(folder: Path, words: str) -> None:
    done = run(*words.split(), cwd=folder)
    assert (done.returncode, words.split()[-2] in done.stderr) == (2, True), done.stderr


@pytest.mark.filterwarnings("ignore::ResourceWarning")
def test_a_command_with_one_bad_value_ends_with_one_clear_error(
    folder: Path, patience: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(folder / "data"))
    before = contents_of(folder)

    @examples(40)
    @given(calls())
    def called(words: tuple[str, ...]) -> None:
        signal.alarm(120)  # generous: a busy machine is slow, and a hang never ends
        done = run(*words, cwd=folder)
        signal.alarm(0)
        said, after = done.stdout + done.stderr, contents_of(folder)
        changed = [file for file, data in before.items() if after.get(file) != data]
        for file in changed:
            file.unlink(missing_ok=True)
            file.write_bytes(before[file])
        assert done.returncode in (0, 1, 2), (words, said)
        assert "Traceback" not in said, (words, said)
        assert "\x1b" not in said, (words, said)
        if done.returncode:
            assert said.strip(), words
            assert max(map(len, said.splitlines())) < 2000, words
            assert not changed, (words, said)

    called()
