"""Logs in four forms: the same table from each, readable by others, and readable after the process was killed."""

import json
import signal
import subprocess
import sys
import time
from contextlib import suppress
from pathlib import Path

import jsonschema
import pandas as pd
import pytest
from mcap.reader import make_reader

import tenuto
from helpers import MEDLAR, Bench, pad, run
from tenuto.data import shipped

FORMS = ("csv", "jsonl", "parquet", "mcap")


@pytest.fixture(scope="module")
def logs(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A drive in all four forms."""
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


@pytest.mark.live
def test_what_a_killed_process_leaves_is_read(tmp_path: Path) -> None:
    to = [word for form in FORMS for word in ("--to", f"log:run.{form}")]
    profile = str(shipped("medlar.toml"))
    drive = [sys.executable, "-m", "tenuto", "drive", profile, "--source", "simulated:sticks", *to]
    with (tmp_path / "said").open("wb") as said:
        process = subprocess.Popen(drive, cwd=tmp_path, stdout=said, stderr=said)

    def last_of(form: str) -> float:
        with suppress(tenuto.RecordingError):  # nothing of it is on the disk yet
            return float(tenuto.load_log(tmp_path / f"run.{form}")["time"].iloc[-1])
        return 0.0

    until = time.monotonic() + 60
    while min(map(last_of, FORMS)) <= 2.0:  # a thread for each, and a busy machine serves one later than another
        assert time.monotonic() < until, (tmp_path / "said").read_text()
        time.sleep(0.3)
    process.send_signal(signal.SIGKILL)
    process.wait()
    lasts = {form: tenuto.load_log(tmp_path / f"run.{form}")["time"].iloc[-1] for form in FORMS}
    assert min(lasts.values()) > 2.0, lasts


def test_wrong_logs_are_told(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name, text, said in (
        ("a.txt", "", r"expected a log that ends in \.csv, \.jsonl, \.parquet, \.mcap"),
        ("a.csv", "", "cannot be read as a log: it is empty"),
        ("b.csv", "time,left_y\n0,1\n", "this is no log of ticks: it has no column guard.state"),
        ("a.jsonl", "nonsense\n", "cannot be read as a log"),
        ("a.parquet", "nonsense", "cannot be read as a log"),
        ("a.mcap", "nonsense", "this is no log|cannot be read"),
    ):
        (tmp_path / name).write_text(text)
        with pytest.raises(tenuto.RecordingError, match=said):
            tenuto.load_log(tmp_path / name)
    done = run("drive", str(shipped("medlar.toml")), "--source", "simulated:sticks", "--to", "log:x.xls", cwd=tmp_path)
    assert (done.returncode, "log:FILE.csv|.jsonl|.parquet|.mcap" in done.stderr) == (1, True)
    monkeypatch.setitem(sys.modules, "mcap.writer", None)
    with pytest.raises(tenuto.SinkError, match=r"pip install 'tenuto\[mcap\]'"):
        tenuto.open_sink(f"log:{tmp_path / 'a.mcap'}")


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.skipif(not Path("/dev/full").exists(), reason="no /dev/full here")
def test_a_full_disk_is_a_fault_in_every_form(form: str, tmp_path: Path) -> None:
    place = tmp_path / (f"run.{form}.unfinished" if form == "parquet" else f"run.{form}")
    place.symlink_to("/dev/full")
    log = tenuto.open_sink(f"log:{tmp_path / 'run'}.{form}")
    with pytest.raises(tenuto.SinkError, match="No space left on device"), log:
        tenuto.replay(MEDLAR, shipped("orchard-row.csv"), [log])
