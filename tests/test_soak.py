"""The fault campaign: clean for the real guard; every broken guard is detected, reduced, stored and replayed."""

import json
from dataclasses import asdict
from pathlib import Path

import pytest
from hypothesis import given

import tenuto
from helpers import examples, run
from mutants import MUTANTS, SEEN_BY
from tenuto import testing
from tenuto.analysis.story import tell_all
from tenuto.data import shipped
from tenuto.driving.driver import StickDriver
from tenuto.profile.text import profile_text
from tenuto.sim.soak import Episode, make_story, play, shrink, soak
from tenuto.vehicles.velocity import STANDSTILL

FAULTS = {
    "hold_released", "link_quiet", "link_bad", "link_sparse", "value_not_finite", "control_missing", "ended",
    "time_backwards", "loop_stalled", "value_out_of_range", "sink_blocked",
}  # fmt: skip
MEDLAR_TEXT = shipped("medlar.toml").read_text()
ALL_OF_IT = """
hold_to_run_2 = "right_shoulder"
emergency_stop = "east"
emergency_stop_2 = "north"
reset = "start"
stop = "back"
takes_over = "west"
attention = "1.2 s"
start_warning = "200 ms"
grace = "150 ms"

[outputs.horn]
kind = "start_warning"

[inhibits.bumper]
reads = "contact"
stop_category = 0
source = { kind = "lines", port = "/dev/ttyACM0", columns = ["contact"] }

[inhibits.gate]
reads = "open"
normally = "open"
speed_share = 0.3
timeout = "15 ms"
source = { kind = "lines", port = "/dev/ttyACM1", columns = ["open"] }

[distances.front]
reads = "front"
keep = "0.3 m"
timeout = "15 ms"
source = { kind = "lines", port = "/dev/ttyACM2", columns = ["front"] }

[chassis]"""
CAREFUL = """
enable = "west"
pressed_through = 0.9
released_category = 1
fault_category = 1
emergency_category = 1
emergency_stop = "east"
reset = "start"
test_at_start = ["link"]

[measured.wheels]
reads = "speed"
tolerance = "0.2 m/s"
within = "100 ms"
timeout = "60 ms"
source = { kind = "lines", port = "/dev/ttyACM3", columns = ["speed"] }

[chassis]"""
PROFILES = {
    name: tenuto.load_profile(shipped(f"{name}.toml")) for name in ("medlar-lift", "medlar-lesson", "medlar", "quince")
} | {
    "all of it": tenuto.parse_profile(MEDLAR_TEXT.replace("\n[chassis]", ALL_OF_IT)),
    "careful": tenuto.parse_profile(
        MEDLAR_TEXT.replace("\n[chassis]", CAREFUL).replace('"left_shoulder"', '"right_trigger"')
    ),
}  # fmt: skip


def broken_in(profile: str, seed: int) -> list[str]:
    """Return the broken promises of one drive; drives with many possible stops begin with good conditions."""
    well = [Episode(1.5, "careful", "good", "steady", "there", seed, True)] * 2
    return play(PROFILES[profile], [*(well if profile in ("all of it", "careful") else []), *make_story(seed)]).broken


@pytest.mark.long
@pytest.mark.parametrize("name", MUTANTS)
def test_every_broken_guard_is_seen(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    profile, seed = SEEN_BY[name]
    assert broken_in(profile, seed) == []  # the real guard passes the same drive
    MUTANTS[name](monkeypatch)
    monkeypatch.setattr(tenuto.Pipeline, "_tick", tenuto.Pipeline._tick.__wrapped__)  # type: ignore[attr-defined]
    if broken_in(profile, seed):
        return
    for seed in range(100):  # if the drives have changed, another one may detect it
        if any(broken_in(other, seed) for other in PROFILES):
            return
    pytest.fail(f"a guard that {name} was not seen")


@pytest.mark.long
def test_a_hundred_drives_break_nothing_and_keep_the_promised_times(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """`make campaign` does thousands."""
    # It checks its ticks itself.
    monkeypatch.setattr(tenuto.Pipeline, "_tick", tenuto.Pipeline._tick.__wrapped__)  # type: ignore[attr-defined]
    done = run("soak", "--runs", "18", "--seed", "100020", "--json", cwd=tmp_path)
    total = json.loads(done.stdout)
    assert (total["broken"], done.returncode) == ([], 0)
    assert total["runs"] == 108  # eighteen with each of the six shipped robots
    assert total["driven"] > 100.0
    assert min(total["by"][name] for name in ("instructor", "learner", "row_follower")) > 1.5
    assert set(total["faults"]) >= FAULTS
    assert 0.3 < total["worst_time"] <= total["promise_time"]
    assert 0.1 < total["worst_distance"] <= total["promise_distance"]


def test_the_same_seed_is_the_same_drive_and_a_failure_is_shrunk(monkeypatch: pytest.MonkeyPatch) -> None:
    medlar = PROFILES["medlar"]
    assert make_story(7) == make_story(7) != make_story(8)
    assert play(medlar, make_story(7)) == play(medlar, make_story(7))
    MUTANTS["clips instead of ramping"](monkeypatch)
    monkeypatch.setattr(tenuto.Pipeline, "_tick", tenuto.Pipeline._tick.__wrapped__)  # type: ignore[attr-defined]
    broken = next(outcome for outcome in soak(medlar, range(100)) if outcome.broken)
    short = shrink(medlar, broken.story)
    assert play(medlar, short).broken
    assert len(short) <= len(broken.story)
    assert sum(scene.seconds for scene in short) < sum(scene.seconds for scene in broken.story)


@pytest.mark.long
def test_five_things_go_wrong_and_nothing_starts_again(tmp_path: Path) -> None:
    done = run("demo", "--story", "faults", "--out", "out", "--json", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    stories = json.loads(done.stdout)["stories"]
    assert [story["reason"].split(" ")[0] for story in stories] == ["no", "left_y", "emergency", "the", "no"]
    assert [story["state_at_the_end"] for story in stories] == ["fault", "fault", "emergency stop", "fault", "fault"]
    assert all(0.3 < story["stood_after"] < 5.0 for story in stories)
    assert (tmp_path / "out/faults.png").stat().st_size > 20_000
    for told in tell_all():
        after = [tick for tick in told.ticks if tick.time > told.stop.stood + 0.1]
        assert len(after) > 100
        assert all(tick.command == STANDSTILL for tick in after)
        assert told.path[-1].vx == pytest.approx(0.0, abs=0.02)
    lift = told.path
    assert max(point.z for point in lift) > lift[-1].z + 0.2  # Damson has descended


@pytest.mark.long
def test_the_command_says_what_was_done_and_plays_a_kept_drive(tmp_path: Path) -> None:
    done = run("soak", str(shipped("medlar.toml")), "--runs", "5", "--json", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert json.loads(done.stdout)["runs"] == 5
    story = [asdict(scene) for scene in make_story(3)]
    (tmp_path / "kept.json").write_text(json.dumps({"profile": "medlar.toml", "broken": [], "story": story}))
    again = run("soak", str(shipped("medlar.toml")), "--replay", "kept.json", cwd=tmp_path)
    assert "No promise was broken in" in again.stdout, again.stderr
    (tmp_path / "kept.json").write_text("{}")
    wrong = run("soak", str(shipped("medlar.toml")), "--replay", "kept.json", cwd=tmp_path)
    assert (wrong.returncode, "expected a drive kept by tenuto soak" in wrong.stderr) == (1, True)


@pytest.mark.long
def test_a_random_profile_that_breaks_a_promise_is_made_small_and_kept(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    done = run("soak", "--any", "--runs", "8", "--json", cwd=tmp_path)
    assert (done.returncode, json.loads(done.stdout)["runs"]) == (0, 8), done.stderr
    shape = StickDriver._shape

    def once_and_for_all(driver: StickDriver, dt: float) -> None:
        driver.held = vars(driver)["was"] = bool(driver.held or vars(driver).get("was", False))
        shape(driver, dt)

    monkeypatch.setattr(StickDriver, "_shape", once_and_for_all)  # a release is not seen
    monkeypatch.setattr(tenuto.Pipeline, "_tick", tenuto.Pipeline._tick.__wrapped__)  # type: ignore[attr-defined]
    monkeypatch.setattr("hypothesis.internal.conjecture.engine.MAX_SHRINKING_SECONDS", 3)
    done = run("soak", "--any", "--runs", "200", cwd=tmp_path)
    assert done.returncode == 1, done.stdout
    assert "driving, though hold-to-run is released" in done.stdout
    kept = tmp_path / "soak-failure.toml"
    again = run("soak", str(kept), "--replay", "soak-failure.json", cwd=tmp_path)
    assert (again.returncode, "BROKEN: at" in again.stdout) == (1, True)
    assert len(json.loads((tmp_path / "soak-failure.json").read_text())["story"]) <= 2
    monkeypatch.undo()
    assert run("soak", str(kept), "--replay", "soak-failure.json", cwd=tmp_path).returncode == 0


@pytest.mark.long
@examples(60)
@given(testing.any_profile())
def test_every_profile_can_be_written_down(profile: tenuto.Profile) -> None:
    assert tenuto.parse_profile(profile_text(profile)).plan() == profile.plan()


HANDED_OVER = """
format = 1
name = "a learner alone, and a follower"
source = { kind = "gamepad" }
style = { kind = "any_direction", forward = "left_x", sideways = "left_y", turn = "right_x" }
controls.left_x.dead_zone = 0.0
controls.left_y.dead_zone = 0.0
controls.right_x.dead_zone = 0.0
speeds = { forward = 1.0, turn = 1.0 }
limits = { acceleration = 1.0 }
levels = { steps = [0.5, 1.0], faster = "back", slower = "guide" }
chassis = { kind = "differential", wheel_radius = 1.0, track = 1.0 }
loop = { rate = 20.0, stall_timeout = 0.25 }
rates.fine = { scale = 1.0, expo = [0.0, 0.0] }
rates.full = {}
switches.mode_button = { kind = "cycle", reads = "west" }
switches.rates_button = { kind = "cycle", reads = "north" }
modes.slow = { fallback = true }
modes.brisk = { may_start = false }
choose.mode = { switch = "mode_button", order = ["slow", "brisk"] }
choose.rates = { switch = "rates_button", order = ["fine", "full"] }
drivers.follower = { sends = "velocities", given_by = "start", link_timeout = 1.0, source = { kind = "lines", \
port = "/dev/ttyACM0", columns = ["vx", "yaw_rate"] } }
drivers.learner = { given_by = "left_stick", alone = true, link_timeout = 1.0, source = { kind = "gamepad" } }
[guard]
hold_to_run = "south"
released_category = 0
fault_category = 0
emergency_category = 0
attention = 1.0
link_good_for = 0.5
command_timeout = 1.0
grace = 1.0
least_frame_rate = 2.0
link_timeout = 0.25
stop_deceleration = 1.0
"""


def test_a_robot_is_not_handed_over_while_whoever_is_needed_then_is_not_heard() -> None:
    """The first in rank was late for longer than its timeout, which does not affect a learner who drives alone."""
    begins = Episode(0.12, "careful", "good", "steady", "there", 41735, True)
    late = Episode(2.01, "careful", "late", "stands still", "there", 762470, True)
    outcome = play(tenuto.parse_profile(HANDED_OVER), [begins, late])
    assert outcome.broken == []
    assert outcome.driven > 0.0
