"""Every number that a command states, with the test that compares it with a drive."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from fnmatch import fnmatch
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import BACK, CENTRE, FORWARD, PERIOD, TANK, Bench, examples, pad, run
from tenuto.analysis.compare import driver_figures
from tenuto.analysis.curves import curve_table
from tenuto.analysis.sweep import figures_of
from tenuto.analysis.tune import Wish, tune
from tenuto.data import shipped
from tenuto.driving.stopping import link_loss_stages, since_the_loss, whose_link
from tenuto.profile.patch import changed_text
from test_ranks import SOLO, Lesson

TEXT = shipped("medlar.toml").read_text()
WISHES = ("--top-speed", "0.9 m/s", "--stop-within", "0.4 m", "--finest", "0.03 m/s")
COMMANDS: dict[str, tuple[str, ...]] = {
    "check": ("medlar.toml", "--worst", "--table"),
    "tune": ("orchard-row.csv", "medlar.toml", *WISHES),
    "compare": ("drive.csv", "medlar.toml", "medlar.toml"),
    "measure": ("drive.csv", "--odometry", "medlar-odometry.csv"),
    "curve": ("medlar.toml",),
    "report": ("drive.csv",),
    "script": ("round-the-tree.toml", "medlar.toml"),
    "preflight": ("medlar.toml", "--source", "recording:orchard-row.csv"),
}
# What is stated, of each command; and the test that drives it.
PROVEN: dict[str, dict[str, str]] = {
    "check": {
        "link_loss.*": "test_needs.test_a_silent_far_end_costs_no_more_than_check_says",
        "far_end.*": "test_any_profile.test_no_stop_is_longer_than_is_promised",
        "truth.*": "test_any_profile.test_a_truth_table_is_what_the_vehicle_does",
        "worst.*": "test_any_profile.test_no_stop_is_longer_than_is_promised",
    },
    "tune": {"proposals.*": "test_statements.test_what_tune_states_is_what_the_tuned_robot_does"},
    "compare": {
        "figures.distance": "test_statements.test_what_compare_states_of_a_drive_is_in_its_ticks",
        "figures.reversals": "test_statements.test_what_compare_states_of_a_drive_is_in_its_ticks",
        "figures.jerk": "test_statements.test_what_compare_states_of_a_drive_is_in_its_ticks",
        "figures.saturated": "test_statements.test_what_compare_states_of_a_drive_is_in_its_ticks",
        "figures.*": "test_statements.test_what_compare_states_of_a_profile_is_what_it_does",
    },
    "measure": {
        "clock_offset": "test_analysis.test_another_clock_is_found_and_slip_is_a_smaller_wheel",
        "axes.*.unexplained": "test_analysis.test_measure_says_what_it_cannot_tell",
        "*": "test_analysis.test_the_stated_uncertainty_is_honest",
    },
    "curve": {"responses.*": "test_statements.test_what_curve_states_is_what_a_stick_does"},
    "report": {
        "facts.time": "test_analysis.test_a_report_tells_what_the_log_holds",
        "facts.simulated*": "test_needs.test_a_log_in_which_the_robot_answered_needs_no_odometry",
        "facts.*": "test_statements.test_what_report_states_is_in_the_ticks",
    },
    "script": {
        "ends": "test_script.test_it_goes_where_the_preview_said",
        "*": "test_script.test_no_robot_gets_further_than_its_preview",
    },
    "preflight": {},  # it states no number of its own: test_needs.test_preflight_says_what_is_not_ready_and_what_to_do
}


def stated(said: Any, at: str = "") -> Iterator[str]:
    """Name every number in the output of ``--json``, and the values of rows that are named."""
    if isinstance(said, dict):
        name = next((said[key] for key in ("figure", "name", "key") if isinstance(said.get(key), str)), None)
        for key, value in said.items():
            named = name is not None and key in ("value", "first", "second", "difference")
            if named and isinstance(value, str):
                yield f"{at}.{name}"[1:]
            yield from stated(value, f"{at}.{name}" if named else f"{at}.{key}")
    elif isinstance(said, list):
        for one in said:
            yield from stated(one, at)
    elif isinstance(said, (int, float)) and not isinstance(said, bool):
        yield at[1:]


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    made = tmp_path_factory.mktemp("statements")
    assert run("demo", "--out", ".", cwd=made).returncode == 0
    return made


@pytest.mark.long
@pytest.mark.parametrize("command", sorted(COMMANDS))
def test_every_number_that_a_command_states_has_a_drive_that_proves_it(command: str, folder: Path) -> None:
    said = json.loads(run(command, *COMMANDS[command], "--json", cwd=folder).stdout)
    found = set(stated({key: value for key, value in said.items() if key not in ("format", "error")}))
    assert found or command == "preflight"
    patterns = PROVEN[command]
    assert [one for one in sorted(found) if not any(fnmatch(one, pattern) for pattern in patterns)] == []
    for pattern, proof in patterns.items():
        assert any(fnmatch(one, pattern) for one in found), f"{pattern} is stated no more"
        file, name = proof.split(".")
        assert f"def {name}(" in (Path(__file__).parent / f"{file}.py").read_text(), proof


def travelled(bench: Bench, since: float) -> float:
    return sum(tick.dt * float(np.hypot(*tick.command[:2])) for tick in bench.ticks if tick.time > since + 1e-9)


def fine(profile: tenuto.Profile, zone: float) -> float:
    """A tenth of the way beyond the dead zone, held until nothing changes."""
    bench = Bench(profile)
    return bench.drive(20.0, zone + 0.1 * (1.0 - zone)).command.vx


@pytest.mark.long
@examples(10)
@given(
    st.floats(0.5, 1.3), st.floats(0.3, 1.5), st.floats(0.01, 0.15), st.floats(0.4, 1.0), st.floats(0.2, 2.0),
    st.booleans(),
)  # fmt: skip
def test_what_tune_states_is_what_the_tuned_robot_does(
    top: float, within: float, finest: float, scale: float, acceleration: float, own_stop: bool
) -> None:
    """With a scale, any acceleration, and a stop of its own or one that follows the limits."""
    text = TEXT.replace('acceleration = "0.8 m/s^2"', f'acceleration = "{acceleration:.3f} m/s^2"', 1)
    text = text.replace("[controls.drive]", f"[controls.drive]\nscale = {scale:.3f}")
    text = text if own_stop else "\n".join(one for one in text.splitlines() if not one.startswith("stop_deceleration"))
    profile = tenuto.parse_profile(text)
    before = profile.plan()
    wish = Wish(top, within, finest)
    if float(f"{top:.3g}") * (0.3 + PERIOD) >= within:
        with pytest.raises(tenuto.TenutoError, match="before the loss of a link is detected"):
            tune(profile, shipped("orchard-row.csv"), wish)
        return
    changes = tune(profile, shipped("orchard-row.csv"), wish)
    tuned = changed_text(text, changes)[1]
    plan, why = tuned.plan(), {change.place: change.why for change in changes}
    bench = Bench(tuned)
    assert bench.drive(20.0, 1.0).demand.vx == pytest.approx(scale * top, rel=0.01)
    since = bench.now
    bench.run(10.0, None)
    assert bench.ticks[-1].command.vx == 0.0
    assert travelled(bench, since) <= within + 1e-6
    assert since_the_loss(link_loss_stages(plan))[-1].metres <= within + 1e-9
    for key in ("stop_deceleration", "stop_turn_deceleration", "stop_vertical_deceleration"):
        if "vertical" not in key:
            assert getattr(plan.guard, key) >= getattr(before.guard, key) - 1e-9, key
    assert plan.limits.acceleration <= before.limits.acceleration
    assert (plan.limits.deceleration or plan.limits.acceleration) >= before.limits.acceleration - 1e-9
    if "controls.drive.expo" in why:
        zone = plan.controls[0].dead_zone
        assert f"gives {fine(tuned, zone):.3g} m/s" in why["controls.drive.expo"]
        for other in (0.02, -0.02):  # no neighbour is nearer to the wish
            amount = plan.controls[0].shape.curve.positive + other  # type: ignore[union-attr]
            if 0.0 <= amount <= 0.9:
                near = (
                    abs(fine(tuned, zone) - finest),
                    abs(fine(tuned.with_(**{"controls.drive.expo": amount}), zone) - finest),
                )
                assert near[0] <= near[1] + 1e-9
    if "limits.acceleration" in why:
        behind = figures_of(tenuto.replay(tuned, shipped("orchard-row.csv"), alone=True))["behind"]
        assert f"is {behind:.2g} m/s behind" in why["limits.acceleration"]


MODES = """
[switches.mode_button]
kind = "positions"
reads = "left_trigger"
positions = 2
[modes.slow]
fallback = true
speeds = { %s }
limits = { %s }
[modes.brisk]
speeds = { turn = "90 deg/s" }
[choose.mode]
switch = "mode_button"
order = ["slow", "brisk"]
"""


@pytest.mark.parametrize(
    ("speed", "limit", "top", "slow", "accelerates"),
    [
        ('turn = "40 deg/s"', 'turn_acceleration = "90 deg/s^2"', 0.8, 0.8, True),
        ('forward = "0.4 m/s"', 'acceleration = "0.8 m/s^2"', 0.8, 0.4, False),
        ('forward = "0.4 m/s"', 'acceleration = "0.3 m/s^2"', 0.3, 0.3, False),
    ],
)
def test_a_mode_that_is_slower_stays_so_and_one_with_its_own_ramp_keeps_it(
    speed: str, limit: str, top: float, slow: float, accelerates: bool
) -> None:
    profile = tenuto.parse_profile(TEXT + MODES % (speed, limit))
    changes = tune(profile, shipped("orchard-row.csv"), Wish(top_speed=top))
    tuned = changed_text(TEXT + MODES % (speed, limit), changes)[1]
    assert [mode.speeds.forward for mode in tuned.plan().modes] == [slow, top]
    assert ("limits.acceleration" in [change.place for change in changes]) == accelerates


def test_a_tank_is_not_bent_on_one_side() -> None:
    bent = TANK.replace('reads = "left_y"', 'reads = "left_y", curve = [[0, 0], [0.5, 0.2], [1, 1]]')
    assert bent != TANK
    with pytest.raises(tenuto.RecordingError, match="left has its own curve"):
        tune(tenuto.parse_profile(bent), shipped("orchard-row.csv"), Wish(finest=0.02))


@pytest.mark.parametrize("alone", [False, True])
def test_check_states_the_loss_of_whoever_stops_the_robot_by_silence(alone: bool) -> None:
    """A learner with a slow link drives at full speed: alone, the stop is that of this link; else it is no stop."""
    text = shipped("medlar-lesson.toml").read_text()
    own = f'link_timeout = "900 ms"\nalone = {str(alone).lower()}\n'
    lesson = Lesson(tenuto.parse_profile(text.replace("speed_share = 0.5\n", own, 1)))
    plan = lesson.pipeline.plan
    stated = since_the_loss(link_loss_stages(plan))
    assert stated[0].seconds == pytest.approx((0.9 if alone else plan.guard.link_timeout) + PERIOD)
    assert (whose_link(plan) == "the link") == (alone and len(plan.below) == 1)
    assert "learner" in whose_link(plan) or not alone
    lesson.give()
    lesson.run(300, SOLO if not alone else {}, SOLO | {"drive": 1.0})
    assert lesson.ticks[-1].driver == "learner"
    assert lesson.ticks[-1].command.vx == pytest.approx(1.2)
    began = len(lesson.ticks)
    lesson.run(400, {} if alone else None, None)  # whoever stops it is silent
    assert lesson.ticks[-1].command.vx == 0.0
    way = sum(tick.dt * abs(tick.command.vx) for tick in lesson.ticks[began:])
    assert 0.8 * stated[-1].metres < way <= stated[-1].metres + 1e-9


@pytest.mark.long
@pytest.mark.parametrize("robot", ["medlar", "damson", "quince", "sorrel", "medlar-lift"])
def test_a_promise_holds_as_it_is_printed(robot: str, folder: Path) -> None:
    """The numbers of the text are not below those of the promise, and no more than a hundredth above."""
    said = json.loads(run("check", f"{robot}.toml", "--worst", "--json", cwd=folder).stdout)
    text = run("check", f"{robot}.toml", "--worst", cwd=folder).stdout
    printed = [tuple(map(float, one)) for one in re.findall(r"until (\d+\.\d\d) s +(\d+\.\d\d) m", text)]
    promised = [tuple(map(float, one)) for one in re.findall(r"  (\d+\.\d\d) s +(\d+\.\d\d) m +\d+\.\d\d s", text)]
    stages = [
        one for key in ("link_loss", "far_end") for one in said[key] if one["seconds"] and one["metres"] is not None
    ]
    wanted = [(one["seconds"], one["metres"]) for one in stages]
    wanted_worst = [(one["promise"]["seconds"], one["promise"]["metres"]) for one in said["worst"]]
    assert (len(printed), len(promised)) == (len(wanted), len(wanted_worst))
    for shown, meant in zip([*printed, *promised], [*wanted, *wanted_worst], strict=True):
        assert all(-1e-6 <= a - b <= 0.01 for a, b in zip(shown, meant, strict=True)), (shown, meant)


@pytest.mark.long
@examples(8)
@given(
    st.sampled_from(["", "ramp_up = 0.8\n", 'smoothing = "200 ms"\n', "spike_filter = true\nramp_up = 0.4\n"]),
    st.floats(0.0, 1.0), st.floats(0.4, 1.0),
)  # fmt: skip
def test_what_compare_states_of_a_profile_is_what_it_does(filters: str, expo: float, scale: float) -> None:
    text = TEXT.replace("expo = 0.35", f"expo = {expo:.3f}\nscale = {scale:.3f}\n{filters}", 1)
    profile = tenuto.parse_profile(text)
    found, bench = driver_figures(profile.plan()), Bench(profile)
    bench.run(0.1, pad())
    bench.run(0.1, pad(held=True))
    pushed = bench.now
    top = bench.run(20.0, pad(1.0, held=True)).command.vx
    assert found["top speed"] >= top - 1e-9
    reached = next(tick.time for tick in bench.ticks if tick.time > pushed and tick.command.vx >= 0.9 * top)
    assert found["from stick to 90 % of speed"] == pytest.approx(reached - pushed, abs=1e-6)
    since = bench.now
    bench.run(5.0, pad(1.0))
    assert travelled(bench, since) <= found["stopping distance"] + 1e-9
    turned = Bench(profile).drive(20.0, 0.0, 1.0).command.yaw_rate
    assert found["top turning speed"] == pytest.approx(np.degrees(turned))
    speeds = np.array([Bench(profile).drive(8.0, place).demand.vx for place in np.linspace(0.0, 1.0, 41)])
    share = np.mean((speeds > 0.0) & (speeds <= 0.2 * speeds.max()))
    assert found["fine control"] == pytest.approx(100.0 * share, abs=4.0)


@pytest.mark.long
def test_what_compare_states_of_a_drive_is_in_its_ticks(tmp_path: Path) -> None:
    """Summed up from the ticks one by one: way, reversals of the command, its second difference, and what was cut."""
    for name, text in (("as.toml", TEXT), ("fast.toml", TEXT.replace('forward = "1.2 m/s"', 'forward = "2.4 m/s"'))):
        (tmp_path / name).write_text(text)
    found = tenuto.compare(shipped("orchard-row.csv"), tmp_path / "as.toml", tmp_path / "fast.toml", names=("A", "B"))
    figures = found.figures.set_index("figure").to_dict()
    for name, file in (("A", "as.toml"), ("B", "fast.toml")):
        ticks = list(tenuto.replay(tenuto.load_profile(tmp_path / file), shipped("orchard-row.csv"), alone=True))
        way, cut, turned, side, far = 0.0, 0.0, 0, 0.0, 0.0
        top = figures[name]["top speed"]
        for tick in ticks:
            speed = tick.command.vx
            way += float(np.hypot(*tick.command[:2])) * tick.dt
            far_off = max(abs(a - b) for a, b in zip(tick.demand, tick.target, strict=True))
            cut += tick.dt * (far_off > 1e-6 and tick.guard.state == "driving")
            # A reversal is counted once the speed has come back from its extreme by 2 % of the top speed.
            if side == 0.0 and abs(speed - far) >= 0.02 * top:
                side, far = float(np.sign(speed - far)), speed
            elif (speed - far) * side > 0.0:
                far = speed
            elif side and (far - speed) * side >= 0.02 * top:
                turned, side, far = turned + 1, -side, speed
        jerk = np.diff([tick.command.vx for tick in ticks], 2) / PERIOD**2
        assert figures[name]["distance"] == pytest.approx(way, rel=0.01)
        assert figures[name]["saturated"] == pytest.approx(cut, abs=0.05)
        assert figures[name]["reversals"] == turned
        assert figures[name]["jerk"] == pytest.approx(np.sqrt(np.mean(jerk**2)))


def test_fine_control_of_a_tank_is_that_of_both_sticks() -> None:
    """Both together: straight, so without expo a fifth of the way; one stick alone reaches only half the speed."""
    found = driver_figures(tenuto.parse_profile(TANK).plan())
    assert found["fine control"] == pytest.approx(20.0, abs=0.6)


@pytest.mark.long
@given(st.sampled_from(["medlar", "medlar-lift"]), st.integers(0, 10**6))
@examples(6)
def test_what_curve_states_is_what_a_stick_does(robot: str, number: int) -> None:
    profile = tenuto.load_profile(shipped(f"{robot}.toml"))
    plan, table = profile.plan(), curve_table(profile)
    row = table[table["in"].isin(["always", table["in"].iloc[0]])].iloc[number % len(table) % 256]
    control = next(one for one in plan.controls if one.name == row["control"])
    rest = {name: value for one in plan.controls for name, value in one.raw_at(0.0).items()}
    pipeline = tenuto.Pipeline(plan)
    for step in range(400):
        tick = pipeline.step(tenuto.Frame(0.02 * step, rest | {control.reads: float(row["raw"])}), 0.02 * step)
    assert tick.shaped[control.name] == pytest.approx(row["shaped"], abs=1e-6)


@pytest.mark.long
@pytest.mark.parametrize(("robot", "sticks"), [("medlar", "orchard-row"), ("quince", "quince-course")])
def test_what_report_states_is_in_the_ticks(robot: str, sticks: str, tmp_path: Path) -> None:
    profile = tenuto.load_profile(shipped(f"{robot}.toml"))
    ticks = tenuto.replay(profile, shipped(f"{sticks}.csv"))
    ticks.to_frame().to_csv(tmp_path / "run.csv", index=False)
    said = run("report", "run.csv", "--profile", str(shipped(f"{robot}.toml")), "--json", cwd=tmp_path)
    facts = {row["name"]: row["value"] for row in json.loads(said.stdout)["facts"]}
    every = list(ticks)
    came = [tick.frame.time for tick in every if tick.new_frame and tick.frame is not None]
    gaps = np.diff(came)
    driving = [tick.guard.state == "driving" for tick in every]
    assert facts["ticks"] == len(every)
    assert facts["distance, by the commands"] == pytest.approx(
        sum(float(np.hypot(*tick.command[:2])) * tick.dt for tick in every), rel=0.01
    )
    assert facts["top turning speed"] == pytest.approx(max(abs(tick.command.yaw_rate) for tick in every))
    assert facts["stops"] == sum(a and not b for a, b in pairwise(driving))
    assert facts["longest silence"] == pytest.approx(gaps.max())
    assert facts["silences beyond the timeout"] == (gaps > profile.plan().guard.link_timeout).sum()
    assert facts["ticks with a new frame"] == pytest.approx(1.0 / np.median(gaps))


def test_the_raw_numbers_of_the_pad_are_those_of_the_shipped_calibration() -> None:
    """What these tests push is what the profile reads: the ends of the shipped sticks."""
    plan = tenuto.parse_profile(TEXT).plan()
    assert [plan.controls[0].travel.position(raw) for raw in (BACK, CENTRE, FORWARD)] == pytest.approx(
        [-1, 0, 1], abs=0.02
    )
