"""Profiles changed and saved in code, many settings at once, ticks found and drawn, and errors of one family."""

from __future__ import annotations

import math
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import MEDLAR, examples
from tenuto import stages
from tenuto.data import shipped
from tenuto.sources.recording import read_recording, write_recording

TEXT = shipped("medlar.toml").read_text()
ROW = shipped("orchard-row.csv")
TICKS = tenuto.replay(MEDLAR, ROW)
# Key → permitted values.
KEYS: dict[str, st.SearchStrategy[object]] = {
    "controls.drive.expo": st.floats(0.0, 1.0), "controls.steer.dead_zone": st.floats(0.0, 0.4),
    "speeds.forward": st.floats(0.1, 1.2) | st.just("0.5 m/s") | st.just("40 %"),
    "limits.acceleration": st.floats(0.2, 3.0) | st.just("0.9 s"), "guard.link_timeout": st.just("400 ms"),
    "guard.grace": st.just("150 ms"), "name": st.just("another"),
}  # fmt: skip


@examples(20)
@given(st.dictionaries(st.sampled_from(sorted(KEYS)), st.none(), min_size=1), st.data())
def test_a_changed_profile_is_the_file_with_those_keys_changed(keys: dict[str, None], data: st.DataObject) -> None:
    changes = {key: data.draw(KEYS[key]) for key in keys}
    profile = MEDLAR.with_(**changes)
    told, before = tomllib.loads(profile.text()), tomllib.loads(TEXT)
    for key, value in changes.items():
        *places, last = key.split(".")
        mine, theirs = told, before
        for place in places:
            mine, theirs = mine[place], theirs[place]
        assert mine.pop(last) == value
        theirs.pop(last, None)
    assert told == before, "nothing else"
    comments = [line.partition("#")[2] for line in TEXT.splitlines() if "#" in line]
    assert [line.partition("#")[2] for line in profile.text().splitlines() if "#" in line] == comments
    assert tenuto.parse_profile(profile.text()) == profile


def test_a_profile_is_saved_whole_with_its_comments(tmp_path: Path) -> None:
    (tmp_path / "m.toml").write_text(TEXT)
    profile = tenuto.load_profile(tmp_path / "m.toml").with_(**{"speeds.forward": "0.6 m/s", "guard.stop": None})
    assert (profile.file, profile.guard.stop) == (tmp_path / "m.toml", None)
    profile.save(tmp_path / "n.toml")
    assert (tmp_path / "n.toml").read_text().count("#") == TEXT.count("#")
    assert tenuto.load_profile(tmp_path / "n.toml") == profile
    with pytest.raises(tenuto.ProfileError, match="a file that can be written"):
        profile.save(tmp_path / "none" / "n.toml")
    for wrong, said in (({"controls.drive.expo": 2.0}, "controls.drive.expo"), ({"limits.acc": 1}, "limits.acc: ")):
        with pytest.raises(tenuto.ProfileError, match=said):
            profile.with_(**wrong)
    made = tenuto.Profile.model_validate(tomllib.loads(TEXT))  # made in code, without a file
    assert tenuto.parse_profile(made.with_(name="in code").text()).name == "in code"


@pytest.fixture
def row(tmp_path: Path) -> str:
    """The first four seconds of a drive, for many short drives."""
    write_recording(tmp_path / "row.csv", read_recording(ROW)[:200])
    return str(tmp_path / "row.csv")


def test_a_sweep_has_a_row_for_each_and_the_figures_of_its_drive(row: str) -> None:
    tried: dict[str, list[object]] = {"limits.acceleration": [0.4, 3.0], "speeds.forward": ["0.5 m/s", 1.0]}
    table = tenuto.sweep(MEDLAR, row, tried, progress=False)
    assert [*table.columns[:2], len(table)] == ["limits.acceleration", "speeds.forward", 4]
    for one in table.to_dict("records"):
        profile = MEDLAR.with_(**{key: one[key] for key in tried})
        drive = tenuto.replay(profile, row).to_frame()
        speed = (drive["command.vx"] ** 2 + drive["command.vy"] ** 2) ** 0.5
        assert one["top_speed"] == pytest.approx(speed.max())
        assert one["distance"] == pytest.approx((speed * drive["dt"]).sum())
    behind = table.groupby("limits.acceleration")["behind"].mean()
    assert behind[0.4] > 3.0 * behind[3.0], "a slow ramp is further behind the sticks"
    own = tenuto.sweep(MEDLAR, row, {"levels": [None]}, lambda ticks: {"ticks": len(ticks)}, progress=False)
    assert own["ticks"].tolist() == [len(tenuto.replay(MEDLAR, row))]
    with pytest.raises(tenuto.ProfileError, match=r"speeds\.forward"):
        tenuto.sweep(MEDLAR, row, {"speeds.forward": [1.0, "1 kg"]}, progress=False)
    with pytest.raises(tenuto.TenutoError, match="expected keys and the values to try"):
        tenuto.sweep(MEDLAR, row, {})


BESIDE = """
import sys, threading, tenuto
from tenuto.data import shipped
tried = {"speeds.forward": [0.5 + 0.05 * number for number in range(12)]}
name = "a name that only this process has"
def sweep():
    return tenuto.sweep(shipped("medlar.toml"), sys.argv[1], tried,
                        lambda ticks: {"top": max(tick.command.vx for tick in ticks), "name": name})
beside = sweep()
other = threading.Event()
threading.Thread(target=other.wait, daemon=True).start()
assert sweep().equals(beside), "with threads they are driven one after the other"
assert beside["speeds.forward"].tolist() == tried["speeds.forward"] and beside["top"].is_monotonic_increasing
"""


@pytest.mark.long
def test_many_are_driven_beside_one_another_and_come_in_their_order(row: str) -> None:
    done = subprocess.run([sys.executable, "-c", BESIDE, row], capture_output=True, text=True, check=False, timeout=120)
    assert (done.returncode, done.stderr) == (0, "")


def test_ticks_are_found_by_time_explain_themselves_and_are_drawn() -> None:
    tick = TICKS.at(26.6)
    assert tick.time <= 26.6 < tick.time + 0.02 + 1e-9
    assert str(tick.explain()) == str(tuple.__new__(tenuto.Tick, tick).explain(MEDLAR))
    assert TICKS.at(TICKS[0].time) == TICKS[0]
    for wrong in (-1.0, 1e4, math.nan):
        with pytest.raises(tenuto.TenutoError, match="expected a time within"):
            TICKS.at(wrong)
    table = TICKS.to_frame(by_time=True)
    assert len(table.loc[26.0:27.0]) == pytest.approx(50, abs=1)
    figure = TICKS.plot()
    assert [ax.get_title() for ax in figure.axes][-1] == "path seen from above"


@pytest.mark.parametrize(
    "wrong",
    [
        lambda: stages.expo(0.5, 2.0), lambda: stages.dead_zone(0.5, 0.9, 0.5),
        lambda: stages.in_corner(1, 1, "kep turn"),
        lambda: stages.Travel(1.0, 0.0, 2.0), lambda: stages.Points.through([(0.0, 0.0), (0.5, 2.0)]),
        lambda: stages.Differential(track=0.0, wheel_radius=0.1), lambda: stages.Differential(0.5, math.nan),
        lambda: tenuto.replay(MEDLAR, "none.csv"), lambda: tenuto.open_sink("nothing"),
    ],
)  # fmt: skip
def test_every_constructor_raises_of_one_family(wrong: object) -> None:
    with pytest.raises(tenuto.TenutoError):
        wrong()  # type: ignore[operator]
