"""Logs in four formats: the same table from each, readable by other programs, and readable after a kill."""

import atexit
import json
import math
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import warnings
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import jsonschema
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st
from mcap.reader import make_reader

import tenuto
from helpers import MEDLAR, Bench, examples, pad, run
from tenuto import Tick
from tenuto.analysis.logs import ticks_of
from tenuto.cli.why import continued
from tenuto.data import shipped
from tenuto.driving.follow import line_plan
from tenuto.driving.telemetry import Telemetry
from tenuto.opening import keep_beside
from tenuto.profile.prepare import kept_with
from tenuto.profile.profile import PreparedProfile
from tenuto.sinks.log_file import LogFile

FORMS = ("csv", "jsonl", "parquet", "mcap")


@pytest.fixture(scope="module")
def logs(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A drive in all four formats."""
    folder = tmp_path_factory.mktemp("logs")
    sinks = [tenuto.open_sink(f"log:{folder / 'run'}.{form}") for form in FORMS]
    tenuto.replay(MEDLAR, shipped("orchard-row.csv"), sinks)
    for sink in sinks:
        sink.close()
    return folder


@pytest.mark.long
def test_all_forms_load_back_to_the_same_table(logs: Path) -> None:
    table = tenuto.replay(MEDLAR, shipped("orchard-row.csv")).to_frame()
    for form in FORMS:
        loaded = tenuto.load_log(logs / f"run.{form}")
        assert len(loaded) == len(table) + 1  # and the stop at the end
        pd.testing.assert_frame_equal(loaded.iloc[:-1], table, check_dtype=False, atol=1e-6, check_like=True)
        pd.testing.assert_frame_equal(loaded, tenuto.load_log(logs / "run.csv"), check_like=True)


@pytest.mark.long
def test_others_read_them_too(logs: Path) -> None:
    parquet = pd.read_parquet(logs / "run.parquet")
    assert parquet["command.vx"].max() > 1.0
    assert sorted(logs.glob("*.unfinished")) == []
    with (logs / "run.mcap").open("rb") as file:
        reader = make_reader(file)
        seen: dict[str, int] = {}
        for schema, channel, message in reader.iter_messages():
            seen[channel.topic] = seen.get(channel.topic, 0) + 1
            if seen[channel.topic] % 500 == 1:
                assert schema is not None
                jsonschema.validate(json.loads(message.data), json.loads(schema.data))
        summary = reader.get_summary()
    assert seen == dict.fromkeys(("/frames", "/commands", "/guard", "/actuators"), len(parquet))
    assert summary is not None
    assert summary.statistics is not None
    assert summary.statistics.message_count == 4 * len(parquet)
    objects = [json.loads(line) for line in (logs / "run.jsonl").read_text().splitlines()]
    assert {tuple(one) for one in objects} == {tuple(parquet.columns)}


@pytest.mark.filterwarnings("ignore::tenuto.CutOffWarning")
@pytest.mark.long
def test_an_unfinished_log_is_read_up_to_its_last_second(tmp_path: Path) -> None:
    bench = Bench()
    sinks = [tenuto.open_sink(f"log:{tmp_path / 'run'}.{form}") for form in FORMS]
    for sink in sinks:
        sink.start(MEDLAR.plan())
    for number in range(200):
        tick = bench.step(pad())
        for sink in sinks:
            sink.write(tick)
        if number in (60, 110, 199):
            lasts = {form: tenuto.load_log(tmp_path / f"run.{form}")["time"].iloc[-1] for form in FORMS}
            assert min(lasts.values()) > tick.time - 1.05, lasts
    for sink in sinks:
        sink.close()


@pytest.mark.filterwarnings("ignore::tenuto.CutOffWarning")
@pytest.mark.live
def test_what_a_killed_process_leaves_is_read(tmp_path: Path) -> None:
    to = [word for form in FORMS for word in ("--to", f"log:run.{form}")]
    profile = str(shipped("medlar.toml"))
    drive = [sys.executable, "-m", "tenuto", "drive", profile, "--source", "simulated:sticks", *to]
    with (tmp_path / "said").open("wb") as said:
        process = subprocess.Popen(drive, cwd=tmp_path, stdout=said, stderr=said)

    def last_of(form: str) -> float:
        with suppress(tenuto.RecordingError):  # nothing is on the disk yet
            return float(tenuto.load_log(tmp_path / f"run.{form}")["time"].iloc[-1])
        return 0.0

    until = time.monotonic() + 60
    try:
        while min(map(last_of, FORMS)) <= 2.0:  # each has a thread, and a busy machine may delay one of them
            assert time.monotonic() < until, (tmp_path / "said").read_text()
            time.sleep(0.3)
    finally:
        process.send_signal(signal.SIGKILL)
        process.wait()
    lasts = {form: tenuto.load_log(tmp_path / f"run.{form}")["time"].iloc[-1] for form in FORMS}
    assert min(lasts.values()) > 2.0, lasts


def test_wrong_logs_are_told(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name, text, said in (
        ("a.txt", "", r"expected a log that ends in \.csv, \.jsonl, \.parquet, \.mcap"),
        ("a.csv", "", "cannot be read as a log: it is empty"),
        ("e.csv", "\n", "e.csv:1: expected a header with a name for each column"),
        ("b.csv", "time,left_y\n0,1\n", "this is not a log of ticks: it has no column guard.state"),
        ("a.jsonl", "nonsense\n", "a.jsonl:1: expected an object in JSON"),
        ("a.parquet", "nonsense", "cannot be read as Parquet"),
        ("a.mcap", "nonsense", "cannot be read as MCAP"),
    ):
        (tmp_path / name).write_text(text)
        with pytest.raises(tenuto.RecordingError, match=said):
            tenuto.load_log(tmp_path / name)
    done = run("drive", str(shipped("medlar.toml")), "--source", "simulated:sticks", "--to", "log:x.xls", cwd=tmp_path)
    assert (done.returncode, "log:FILE.csv|.jsonl|.parquet|.mcap" in done.stderr) == (1, True)
    monkeypatch.setitem(sys.modules, "mcap.writer", None)
    with pytest.raises(tenuto.SinkError, match=r"pip install 'tenuto\[mcap\]'"):
        tenuto.open_sink(f"log:{tmp_path / 'a.mcap'}")


def a_log(folder: Path, form: str) -> tuple[bytes, list[int]]:
    """Write the log of a short drive; return its bytes, and their number after each row."""
    bench, log, ends = Bench(), tenuto.open_sink(f"log:{folder / 'run'}.{form}"), list[int]()
    assert isinstance(log, LogFile)
    log.start(MEDLAR.plan())
    for number in range(60):
        log.write(bench.step(pad(float(number > 20), 0.0, number > 10)))
        log._to_disk()
        ends.append((folder / f"run.{form}").stat().st_size)
    log.close()
    return (folder / f"run.{form}").read_bytes(), ends


@pytest.mark.parametrize("form", FORMS)
def test_what_a_far_end_names_later_has_its_columns_too(form: str, tmp_path: Path) -> None:
    """Within a second in the same file, later in another; and a number may be whole at first, and NaN afterwards."""
    bench, log, written = Bench(), tenuto.open_sink(f"log:{tmp_path / 'run'}.{form}"), list[Tick]()
    keep_beside(PreparedProfile(MEDLAR), [log])
    log.start(line_plan(MEDLAR.plan()))  # like a robot that follows, whose plan is made from the profile
    for number in range(150):
        wheels = {} if number < 20 else {"left": 1.0 * number}
        wheels |= {"right": -1.0} if number >= 100 and number % 7 else {}
        armed = None if number % 5 else True
        far = Telemetry(0.02 * number, frozenset(("wheels", "armed")), armed=armed, wheels=wheels)
        tick = bench.step(pad(0.0, 0.0, number > 10))
        raw = {**tick.raw, "drive": 3 if number % 3 else math.nan}
        written.append(tick._replace(raw=raw, far={"robot": far}))
        log.write(written[-1])
    log.close()
    tables = [tenuto.load_log(tmp_path / f"run{more}.{form}") for more in ("", "-2")]
    assert len(list(tmp_path.iterdir())) == 4
    assert all(kept_with(tmp_path / f"run{more}.{form}").read_text() == MEDLAR.text() for more in ("", "-2"))
    assert [len(table) for table in tables] == [100, 50]
    assert continued(tmp_path / f"run.{form}", tables[0]).endswith(f" continues in {tmp_path / f'run-2.{form}'}")
    for other in (tables[0][:30], tables[1]):  # another drive, which ended long before it began, or later
        assert continued(tmp_path / f"run.{form}", other) == ""
    for tick, read in zip(written, (one for table in tables for one in ticks_of(table)), strict=True):
        assert read.far["robot"].armed == tick.far["robot"].armed
        assert read.raw["drive"] == pytest.approx(tick.raw["drive"], nan_ok=True)
        for name in ("left", "right"):
            was = tick.far["robot"].wheels.get(name, math.nan)
            assert read.far["robot"].wheels.get(name, math.nan) == pytest.approx(was, nan_ok=True)


def loaded(file: Path) -> tuple[pd.DataFrame | None, list[str]]:
    """Load a log; return it, or None if it is refused with its name, and the warning."""
    with warnings.catch_warnings(record=True) as said:
        warnings.simplefilter("always")
        try:
            table = tenuto.load_log(file)
        except tenuto.RecordingError as error:
            return None, [str(error)] if str(file) in str(error) else []
    return table, [str(one.message) for one in said]


@pytest.mark.parametrize("form", FORMS)
def test_a_log_that_is_cut_anywhere_is_its_beginning_and_a_remark_or_is_refused(form: str, tmp_path: Path) -> None:
    whole, ends = a_log(tmp_path, form)
    table, file = tenuto.load_log(tmp_path / f"run.{form}"), tmp_path / f"cut.{form}"

    @examples(30)
    @given(st.integers(0, len(whole) - 1), st.sampled_from((b"", b"\0" * 100)))
    def cut(end: int, more: bytes) -> None:
        file.write_bytes(whole[:end] + (more if form in ("csv", "jsonl") else b""))
        rows = sum(one <= end for one in ends) if form != "parquet" else 0
        found, said = loaded(file)
        if found is None:
            assert said
            assert not rows
            return
        pd.testing.assert_frame_equal(found, table.iloc[:rows])
        complete = end in ends and form != "mcap" and not more
        if form != "mcap" or rows < len(ends):  # after its last message an MCAP file has no data of the drive
            assert [f"{file} was cut off: it was read up to its last complete" in one for one in said] == [True] * (
                not complete
            )

    cut()


FOLDER = Path(tempfile.mkdtemp())
atexit.register(shutil.rmtree, FOLDER)
LOG, _ = a_log(FOLDER, "csv")
LATER = ("level", "rear_share", "steering", "notice_codes", "format")
WRONG_CELLS = ("", "word", "inf", "-inf", "1e999", "0x10", "1_0", "\x1b[31m", "9" * 400, "\ud55c")


TEXTS = ("driver", "mode", "rates", "guard.codes", "guard.reasons", "actions", "notices", "notice_codes", "steering")
STAGES = ("intent", "demand", "target", "command")
Rows = list[list[str]]


def other_cell(rows: Rows, row: int, column: int, cell: str) -> str:
    rows[row][column] = cell
    name = rows[0][column]
    unknown = not cell and name.split(".")[0] not in (*STAGES, "dt", "new_frame", "power", "send", "format")
    fine = name in TEXTS or (unknown and name != "guard.state")
    return "" if fine else f"log.csv:{row + 1}: column {name}: expected "


def short_row(rows: Rows, row: int, column: int, cell: str) -> str:
    del rows[row][column]
    return f"log.csv:{row + 1}: expected {len(rows[0])} cells, as in the header, found {len(rows[0]) - 1}"


def long_row(rows: Rows, row: int, column: int, cell: str) -> str:
    rows[row].insert(column, "0.0")
    return f"log.csv:{row + 1}: expected {len(rows[0])} cells, as in the header, found {len(rows[0]) + 1}"


def backward(rows: Rows, row: int, column: int, cell: str) -> str:
    row = max(row, 2)
    rows[row - 1], rows[row] = rows[row], rows[row - 1]
    return f"log.csv:{row + 1}: column time: expected times that do not go back"


def no_column(rows: Rows, row: int, column: int, cell: str) -> str:
    name = rows[0][column]
    for one in rows:
        del one[column]
    if name == "guard.state":
        return "this is not a log of ticks: it has no column guard.state"
    needed = name.split(".")[0] in (*STAGES, "guard") or ("." not in name and name not in LATER)
    return f"log.csv: expected a column {name}, found none" if needed else ""


def two_of_a_name(rows: Rows, row: int, column: int, cell: str) -> str:
    rows[0][column] = rows[0][column - 1]
    return f'log.csv:1: expected each column to have its own name, found "{rows[0][column]}"'


def strange_column(rows: Rows, row: int, column: int, cell: str) -> str:
    for number, one in enumerate(rows):
        one.append("0" if number else "weather")
    return "log.csv: expected the columns of a log, found weather"


def header_only(rows: Rows, row: int, column: int, cell: str) -> str:
    del rows[1:]
    return "log.csv: expected at least one row, found none"


def later_format(rows: Rows, row: int, column: int, cell: str) -> str:
    rows[1][rows[0].index("format")] = "2"
    return "log.csv:2: column format: this version reads logs of format 1, found format 2: update Tenuto"


DAMAGES = (
    other_cell,
    short_row,
    long_row,
    backward,
    no_column,
    two_of_a_name,
    strange_column,
    header_only,
    later_format,
)


@examples(80)
@given(st.sampled_from(DAMAGES), st.integers(1, 60), st.integers(1, 48), st.sampled_from(WRONG_CELLS))
def test_a_damaged_csv_names_file_row_and_column(
    damage: Callable[[Rows, int, int, str], str], row: int, column: int, cell: str
) -> None:
    rows = [line.split(",") for line in LOG.decode().splitlines()]
    said = damage(rows, row, column, cell)
    file = FOLDER / "log.csv"
    file.write_text("\n".join(map(",".join, rows)) + "\n")
    table, wrong = loaded(file)
    assert (table is None) is bool(said)
    assert said in " ".join(wrong)
    assert table is None or len(list(ticks_of(table))) == len(rows) - 1


@pytest.mark.parametrize("form", FORMS)
def test_a_log_with_damaged_bytes_is_read_or_refused(form: str, tmp_path: Path) -> None:
    (whole, _), file = a_log(tmp_path, form), tmp_path / f"bad.{form}"

    @examples(40)
    @given(st.lists(st.tuples(st.integers(0, len(whole) - 1), st.integers(0, 255)), min_size=1, max_size=6))
    def damaged(changes: list[tuple[int, int]]) -> None:
        data = bytearray(whole)
        for place, value in changes:
            data[place] = value
        file.write_bytes(data)
        table, said = loaded(file)
        if table is None:
            assert said
        else:
            assert (table["time"].diff().dropna() >= 0.0).all()
            assert len(list(ticks_of(table))) == len(table)

    damaged()


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.skipif(not Path("/dev/full").exists(), reason="no /dev/full here")
def test_a_full_disk_is_a_fault_in_every_form(form: str, tmp_path: Path) -> None:
    place = tmp_path / (f"run.{form}.unfinished" if form == "parquet" else f"run.{form}")
    place.symlink_to("/dev/full")
    log = tenuto.open_sink(f"log:{tmp_path / 'run'}.{form}")
    with pytest.raises(tenuto.SinkError, match="No space left on device"), log:
        tenuto.replay(MEDLAR, shipped("orchard-row.csv"), [log])
