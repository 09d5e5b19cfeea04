"""One way in and one way out for every file, and what others may have put there."""

from __future__ import annotations

import ast
import contextlib
import io
import json
import os
import socket
import stat
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pyarrow.parquet as parquet
import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import MEDLAR, Bench, run
from tenuto.analysis.odometry import load_odometry
from tenuto.basics.json_in import read_json
from tenuto.calibration.store import Calibration
from tenuto.cli import main
from tenuto.data import shipped
from tenuto.files import MOST_DATA, write_atomically
from tenuto.links.key_file import read_key
from tenuto.profile import lines
from tenuto.profile.prepare import keep_with, prepare_profile
from tenuto.profile.script import load_script
from tenuto.sinks import log_file
from tenuto.sources.recording import RecordingWriter, read_recording

SOURCE = Path(tenuto.__file__).parent
# Every other call with such a name: of what is no file, or for the reason that stands there.
OTHERS: dict[str, set[str]] = {
    "files.py": {".open", ".read_bytes", ".read_text", "os.fdopen", "os.open"},  # the way in and the way out
    "links/key_file.py": {"os.fdopen", "os.open"},  # a new key, which must not be there yet
    "sinks/events.py": {"path.open"},  # the last byte of a file that it has opened itself
    "sources/keyboard.py": {"os.open"},  # a terminal
    "health/system.py": {"self.file(place).read_text"},  # what the kernel says
    # The bytes that were read.
    "analysis/log_files.py": {"pd.read_csv"}, "analysis/odometry.py": {"pd.read_csv", "pd.read_parquet"},
    # Files of the package.
    "firmware/generate.py": {"shipped_code(name).read_text"}, "firmware/pieces.py": {"path.read_text"},
    "page/site.py": {"_FOLDER / shown.read_bytes"},
    # A kind is opened, a port is read, a message is unsealed, a text is parsed.
    "sources/__init__.py": {"options.open", "source_options(what).open"}, "sinks/__init__.py": {"options.open"},
    "sinks/port.py": {"self.read_bytes"}, "sinks/serial_line.py": {"self._port.read_bytes"},
    "sinks/ways.py": {"self.read_bytes"}, "sinks/udp.py": {"self._session.open"},
    "sources/udp.py": {"self._session.open"}, "protocols/sealed.py": {"pending.session.open"},
    "kinds/texts.py": {".read_text"},
}  # fmt: skip
OPENS = {"open", "fdopen", "read_text", "read_bytes", "write_text", "write_bytes", "read_csv", "read_parquet", "touch"}
# Functions of Tenuto that have such a name, and one that reads bytes.
OURS = ("tenuto.files", "tenuto.kinds.texts", "tenuto.analysis.log_files", "pyarrow.parquet")


def calls_that_open(file: Path) -> set[str]:
    """Find calls of `open` and the like, beside those of the functions that this file imports from `OURS`."""
    tree, known = ast.parse(file.read_text()), set[str]()
    for one in ast.walk(tree):
        if isinstance(one, ast.ImportFrom) and one.module in OURS:
            known |= {name.asname or name.name for name in one.names}
    found = set()
    for one in ast.walk(tree):
        if not isinstance(one, ast.Call):
            continue
        name = one.func.id if isinstance(one.func, ast.Name) else getattr(one.func, "attr", "")
        on = ast.unparse(one.func.value) if isinstance(one.func, ast.Attribute) else ""
        if name in OPENS and not (isinstance(one.func, ast.Name) and name in known):
            found.add(f"{on}.{name}")
    return found


def test_every_file_goes_through_the_one_way_in_and_out() -> None:
    found = {str(file.relative_to(SOURCE)): calls_that_open(file) for file in SOURCE.rglob("*.py")}
    assert {name: calls for name, calls in found.items() if calls} == OTHERS


READERS: dict[str, tuple[str, Callable[[Path], Any]]] = {
    "profile": (".toml", tenuto.load_profile), "script": (".toml", load_script),
    "calibration": (".toml", Calibration.load), "key": (".key", lambda path: read_key(str(path), tenuto.TenutoError)),
    "recording": (".csv", read_recording), "recording in Parquet": (".parquet", read_recording),
    "log": (".csv", tenuto.load_log), "log in JSON": (".jsonl", tenuto.load_log),
    "log in Parquet": (".parquet", tenuto.load_log), "log in MCAP": (".mcap", tenuto.load_log),
    "odometry": (".csv", load_odometry), "odometry in Parquet": (".parquet", load_odometry),
    "sticks of a log": (".csv", lambda path: tenuto.replay(MEDLAR, path)),
    "comparison": (".csv", lambda path: tenuto.compare(path, MEDLAR, MEDLAR)),
}  # fmt: skip


@pytest.mark.parametrize("reader", sorted(READERS))
def test_no_reader_waits_or_fills_the_memory(reader: str, tmp_path: Path) -> None:
    ending, read = READERS[reader]
    places = [tmp_path / f"{name}{ending}" for name in ("pipe", "zero", "folder", "socket", "huge", "none")]
    pipe, zero, folder, ear, huge, _ = places
    os.mkfifo(pipe)
    zero.symlink_to("/dev/zero")
    folder.mkdir()
    with socket.socket(socket.AF_UNIX) as heard:
        with contextlib.chdir(tmp_path):
            heard.bind(ear.name)
        with huge.open("wb") as file:
            file.truncate(MOST_DATA + 1)  # it takes no room on the disk
        for place in places:
            with pytest.raises(tenuto.TenutoError, match=str(place)):
                read(place)


def in_a_log(ending: str) -> Callable[[Path], None]:
    def write(path: Path) -> None:
        with tenuto.open_sink(f"log:{path}{ending}") as log:
            log.start(MEDLAR.plan())
            log.write(Bench().step(None))

    return write


def a_recording(path: Path) -> None:
    with RecordingWriter(f"{path}.csv") as writer:
        writer.add(tenuto.Frame(0.0, {"left_y": 1.0}))


def beside_a_log(path: Path) -> None:
    keep_with(path.with_suffix(""), prepare_profile(shipped("medlar.toml")))


def an_event(path: Path) -> None:
    with tenuto.open_sink(f"events:{path}.jsonl") as sink:
        sink.start(MEDLAR.plan())
        bench = Bench()
        bench.drive(1.0)
        for tick in bench.ticks:
            sink.write(tick)


WRITERS: dict[str, tuple[str, Callable[[Path], None]]] = {
    **{f"log {ending}": (ending, in_a_log(ending)) for ending in (".csv", ".jsonl", ".parquet", ".mcap")},
    "recording": (".csv", a_recording), "profile of a log": (".profile.toml", beside_a_log),
    "events": (".jsonl", an_event), "text": ("", lambda path: write_atomically(path, "text")),
}  # fmt: skip


@pytest.mark.parametrize("writer", sorted(WRITERS))
@pytest.mark.parametrize("whose", ["ours", "another user's"])
def test_a_link_is_followed_if_it_is_ours(
    writer: str, whose: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    ending, write = WRITERS[writer]
    behind, link = tmp_path / "behind", tmp_path / f"run{ending}"
    behind.write_text("")
    behind.chmod(0o640)
    link.symlink_to("behind")
    path = tmp_path / ("run.profile" if writer == "profile of a log" else "run")
    if whose == "ours":
        write(path)
        assert link.is_symlink()
        assert behind.stat().st_size > 0
        assert stat.S_IMODE(behind.stat().st_mode) == 0o640
        return
    if os.geteuid() == 0:
        os.lchown(link, 4321, 4321)
    else:
        monkeypatch.setattr(os, "geteuid", lambda: 4321)
    with pytest.raises((tenuto.TenutoError, OSError), match="link of another user"):
        write(path)
    assert behind.read_text() == ""


@pytest.mark.parametrize("writer", sorted(WRITERS))
def test_no_writer_waits_for_the_reader_of_a_pipe(writer: str, tmp_path: Path) -> None:
    ending, write = WRITERS[writer]
    os.mkfifo(tmp_path / f"run{ending}")
    with pytest.raises((tenuto.TenutoError, OSError), match="found a pipe"):
        write(tmp_path / ("run.profile" if writer == "profile of a log" else "run"))


plain = st.recursive(
    st.none() | st.booleans() | st.integers(-(10**18), 10**18) | st.floats(-1e300, 1e300) | st.text(),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(), inner, max_size=4),
)  # fmt: skip


@given(plain, st.booleans())
def test_json_is_read_as_it_was_written(said: Any, ascii_only: bool) -> None:
    assert read_json(json.dumps(said, ensure_ascii=ascii_only)) == said


@given(
    st.sampled_from([
        "9" * 400, f"-{'9' * 26}", "1e999", "NaN", "-Infinity", '"\\ud800"', '{"\\udfff": 1}', "[" * 100_000, "{",
    ])
)  # fmt: skip
def test_json_that_nobody_can_use_is_an_error(text: str) -> None:
    for asked in (text, f'{{"a": [{text}]}}'):
        for form in (asked, asked.encode("utf-8", "surrogatepass")):
            with pytest.raises(ValueError):  # noqa: PT011  # whatever its text
                read_json(form)


def test_a_profile_of_many_errors_is_read_once(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Each error has its line; the text is searched once, not once for each."""
    many = "\n".join(f"unknown_{number} = 1" for number in range(2000))
    (tmp_path / "many.toml").write_text(shipped("medlar.toml").read_text().replace("[guard]", f"[guard]\n{many}", 1))
    searched, search = list[str](), lines._written

    def seen(text: str) -> Iterator[tuple[int, list[str]]]:
        searched.append(text)
        return search(text)

    monkeypatch.setattr(lines, "_written", seen)
    lines._places.cache_clear()
    found = json.loads(run("check", "many.toml", "--json", cwd=tmp_path).stdout)["findings"]
    at = {one["where"]: one["line"] for one in found}
    first = at["guard.unknown_0"]
    assert [at[f"guard.unknown_{number}"] - first for number in range(2000)] == list(range(2000))
    assert len(searched) == 1
    with pytest.raises(tenuto.ProfileError, match="and 1900 more errors"):
        tenuto.load_profile(tmp_path / "many.toml")


def test_a_log_is_the_same_in_every_form_and_needs_no_memory_for_all_of_it(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(log_file, "_ROWS_AT_ONCE", 60)
    ticks = list(tenuto.replay(MEDLAR, shipped("orchard-row.csv")))[:400]
    columns = []
    for ending in ("csv", "jsonl", "parquet", "mcap"):
        with tenuto.open_sink(f"log:{tmp_path / 'run'}.{ending}") as log:
            log.start(MEDLAR.plan())
            for tick in ticks:
                log.write(tick)
        columns.append(list(tenuto.load_log(tmp_path / f"run.{ending}").columns))
    assert all(one == columns[0] for one in columns)
    groups = parquet.ParquetFile(tmp_path / "run.parquet").metadata
    assert max(groups.row_group(number).num_rows for number in range(groups.num_row_groups)) < 60 + 100


def test_a_log_that_is_taken_for_a_recording_is_named(tmp_path: Path) -> None:
    tenuto.replay(MEDLAR, shipped("orchard-row.csv")).to_frame().to_csv(tmp_path / "run.csv", index=False)
    with pytest.raises(tenuto.RecordingError, match="found the log of a drive: tenuto compare"):
        tenuto.replay(MEDLAR, tmp_path / "run.csv")


@pytest.mark.parametrize(
    "arguments",
    [("--help",), ("drive", "--help"), ("check", "medlar.toml", "--table"), ("why", "drive.csv", "--at", "20"),
     ("drive", "medlar.toml", "--recording", "orchard-row.csv", "--plain", "--seconds", "1")],
)  # fmt: skip
def test_a_terminal_without_a_character_stops_no_command(arguments: tuple[str, ...], folder: Path) -> None:
    shown, hidden = (io.TextIOWrapper(io.BytesIO(), "latin-1") for _ in range(2))
    with (
        contextlib.chdir(folder), contextlib.redirect_stdout(shown), contextlib.redirect_stderr(hidden),
        pytest.raises(SystemExit) as ended,
    ):  # fmt: skip
        main(arguments, tenuto.SimulatedClock())
    assert ended.value.code in (0, None)


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    made = tmp_path_factory.mktemp("files")
    assert run("demo", "--out", ".", cwd=made).returncode == 0
    return made


def test_a_service_finds_its_files_and_ports_at_boot(tmp_path: Path) -> None:
    (tmp_path / "cart.toml").write_text(shipped("medlar.toml").read_text())
    (tmp_path / "its.key").write_text("0" * 64)
    to = ("--to", "serial:/dev/ttyUSB7,form=signed,key=its.key", "--to", "log:run.csv")
    made = json.loads(run("service", "cart.toml", "--user", "orchard", *to, "--json", cwd=tmp_path).stdout)["files"]
    unit, rules = made.values()
    assert f"--to serial:/dev/ttyUSB7,form=signed,key={tmp_path / 'its.key'} --to log:{tmp_path / 'run.csv'}" in unit
    assert 'KERNEL=="ttyUSB7"' in rules
    for more, said in (
        ((), "at boot it would drive a simulated robot"),
        (("--to", "simulated", "--follow", "udp::14660,key=no.key"), "there is no file"),
        (("--to", "serial:/dev/ttyUSB7,form=signed,key=no.key"), "there is no file"),
    ):
        done = run("service", "cart.toml", "--user", "orchard", *more, cwd=tmp_path)
        assert (done.returncode, said in done.stderr) == (1, True), done.stderr
    assert (
        "simulated robot only" in run("service", "cart.toml", "--user", "o", "--to", "simulated", cwd=tmp_path).stdout
    )
