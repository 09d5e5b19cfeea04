"""Why it does not move, or no faster: every tick of every recording is explained from its own content."""

import json
import math
import re
from dataclasses import replace
from pathlib import Path

import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import MEDLAR, Bench, examples, pad, run
from tenuto import Frame, Pipeline, State, Tick
from tenuto.analysis.logs import ticks_of
from tenuto.analysis.stops import find_stops
from tenuto.analysis.why import explain_at, plan_of_log
from tenuto.calibration.store import Calibration, ControlCalibration
from tenuto.data import shipped
from tenuto.driving.explain import Explanation
from tenuto.driving.follow import FOLLOWED, follow_plan
from tenuto.figures.report import report_figures
from tenuto.vehicles.velocity import STANDSTILL

COURSES = {"medlar": "orchard-row", "quince": "quince-course", "sorrel": "sorrel-course", "damson": "damson-flight"}


def agrees(found: Explanation, tick: Tick, places: float = 1e-9) -> None:
    """The explanation has the content of the tick, and every reason that prevents motion."""
    assert found.answer
    steps = {step.stage: step for step in found.steps}
    for stage in ("intent", "demand", "command"):
        for axis, value in getattr(tick, stage)._asdict().items():
            assert steps[stage].numbers[axis] == pytest.approx(value, abs=places)
    assert ("outputs" in steps) == bool(tick.outputs)
    assert "outputs" not in steps or steps["outputs"].numbers == tick.outputs
    assert steps["actuators"].numbers == pytest.approx(dict(tick.actuators), abs=places)
    for step in found.steps:
        name = step.stage.removeprefix("control ")
        if name != step.stage:
            assert step.numbers["position"] == pytest.approx(tick.positions[name], abs=places)
            assert step.numbers.get("shaped", tick.shaped[name]) == pytest.approx(tick.shaped[name], abs=places)
            assert math.isnan(tick.raw[name]) or step.numbers["raw"] == pytest.approx(tick.raw[name], abs=places)
            inside = abs(tick.positions[name]) <= step.numbers.get("dead_zone", -1.0)
            assert ("inside the dead zone" in step.text) <= inside
    words = steps["guard"].text.removeprefix(str(tick.guard.state)).removeprefix(": ")
    for reason in tick.guard.reasons:
        assert reason.text in words
        assert reason.text in found.answer
        words = words.replace(reason.text, "", 1)
    assert not re.sub(r"\(for [\d.]+ s\)|[; ]", "", words)  # and no other reason
    assert [step.text for step in found.steps if step.stage == "notice"] == [one.text for one in tick.notices]


@pytest.mark.long
@pytest.mark.parametrize("robot", COURSES)
def test_the_ticks_of_the_recordings_are_explained(robot: str) -> None:
    profile = tenuto.load_profile(shipped(f"{robot}.toml"))
    ticks = tenuto.replay(profile, shipped(f"{COURSES[robot]}.csv"))
    slower = 0
    for tick in list(ticks)[::5]:
        found = tick.explain(profile)
        agrees(found, tick)
        assert found.answer.startswith(
            "it may move" if tick.guard.state is State.DRIVING and tick.command == tick.demand == STANDSTILL
            else "it goes" if tick.guard.state is State.DRIVING
            else "it stands" if tick.command == STANDSTILL else "it is being stopped"
        )  # fmt: skip
        slower += "is ramping to" in found.answer
    assert slower > 10
    table = ticks.to_frame()
    for tick, again in list(zip(ticks, ticks_of(table), strict=True))[::25]:  # and from a log as well
        assert again.command == tick.command
        agrees(again.explain(profile), again)


def test_what_holds_it_is_named() -> None:
    bench = Bench()
    bench.drive(0.2)
    assert "at 0.8 m/s² (acceleration)" in bench.ticks[-1].explain(MEDLAR).answer
    half = bench.run(2.0, pad(0.5, held=True))
    assert "drive demands no more: +0.500 of its travel is +0.3" in half.explain(MEDLAR).answer
    full = bench.run(2.0, pad(1.0, held=True))
    assert full.explain(MEDLAR).answer.endswith("drive is at its end: this is full speed")
    both = bench.run(2.0, pad(1.0, 1.0, held=True))
    assert "right_wheel cannot do more" in both.explain(MEDLAR).answer
    rest = bench.run(3.0, pad(0.05, held=True)).explain(MEDLAR)
    assert rest.answer == "it may move, but there is no demand: drive within the dead zone"
    drive = next(step for step in rest.steps if step.stage == "control drive")
    raw = int(0.95 * 983 + 0.05 * -30454)
    assert drive.text.startswith(f"left_y sends {raw}")
    assert "inside the dead zone of 0.08, so 0" in drive.text


@pytest.mark.long
def test_a_log_says_for_how_long(tmp_path: Path) -> None:
    done = run("drive", str(shipped("medlar.toml")), "--recording", str(shipped("damson-flight.csv")), cwd=tmp_path)
    assert done.returncode == 1
    run("demo", "--out", ".", cwd=tmp_path)
    said = json.loads(run("why", "drive.csv", "--at", "29", "--json", cwd=tmp_path).stdout)
    assert said["answer"].startswith("it stands: the link was quiet for 1.2")
    guard = next(step["text"] for step in said["steps"] if step["stage"] == "guard")
    assert "(for 2.1 s)" in guard or "(for 2.7 s)" in guard
    table = tenuto.load_log(tmp_path / "drive.csv")
    assert explain_at(table, MEDLAR).time == table["time"].iloc[-1]
    (tmp_path / "drive.csv.profile.toml").unlink()
    for arguments, code, text in (
        (("why", "drive.csv"), 1, "no profile was kept beside it"),
        (("why", "drive.csv", "--profile", "medlar.toml", "--at", "99"), 1, "the log goes from 0.00 to"),
        (("why", "medlar.toml", "--profile", "medlar.toml"), 1, "expected a log that ends in"),
    ):
        done = run(*arguments, cwd=tmp_path)
        assert (done.returncode, text in done.stderr) == (code, True)


def test_objects_show_themselves_in_a_notebook() -> None:
    ticks = tenuto.replay(MEDLAR, shipped("orchard-row.csv"))
    odd = MEDLAR.model_copy(update={"name": "Medlar <3"})
    measured = Calibration("id", "a pad", {"left_y": ControlCalibration("middle", -30454.0, 30454.0, 983.0)})
    for thing, said in (
        (odd, "Medlar &lt;3"),
        (ticks, str(len(ticks))),
        (ticks[1330], "no good frame for 0.62 s"),
        (measured, "983"),
    ):
        shown = thing._repr_html_()
        assert shown.startswith("<b>")
        assert said in shown
        assert shown.count("<tr>") == shown.count("</tr>") > 0


@pytest.mark.long
def test_the_log_of_a_robot_that_follows_is_explained_and_drawn_by_its_own_profile() -> None:
    pipeline, ticks = Pipeline(follow_plan(MEDLAR.plan())), list[Tick]()
    sent = dict.fromkeys((info.name for info in FOLLOWED), 0.0)
    for steps, values in ((10, {}), (10, {"hold_to_run": 1.0}), (40, {"hold_to_run": 1.0, "vx": 0.3}),
                          (5, {"hold_to_run": 1.0, "emergency_stop": 1.0, "vx": 0.3})):  # fmt: skip
        for _ in range(steps):
            now = 0.02 * len(ticks)
            ticks.append(pipeline.step(Frame(now, sent | values), now))
    table = pd.DataFrame(tick.as_row() for tick in ticks)
    assert "because vx demands no more" in explain_at(table, MEDLAR, 1.1).answer
    (stop,) = find_stops(table)
    assert (stop.was_moving, stop.stood == stop.time) == (True, True)  # category 0: from 0.3 m/s at once
    sticks = report_figures(table, plan_of_log(table, MEDLAR))["sticks"]
    assert [ax.get_title() for ax in sticks.axes] == ["vx", "vy", "vz", "yaw_rate"]
    other = report_figures(table, MEDLAR.plan())["sticks"]  # with another profile, no traceback
    assert "none of the sticks" in other.axes[0].texts[0].get_text()
    standing = pd.DataFrame(tick.as_row() for tick in drive_medlar(10))
    still = report_figures(standing, MEDLAR.plan())["sticks"]
    assert "it was not driven" in still.axes[0].texts[0].get_text()


def drive_medlar(steps: int) -> list[Tick]:
    """Return ticks of a robot that is not enabled."""
    pipeline, values = Pipeline(MEDLAR.plan()), {"left_y": 983.0, "right_x": 983.0, "left_shoulder": 0.0}
    return [pipeline.step(Frame(0.02 * number, values), 0.02 * number) for number in range(steps)]


@examples(40)
@given(
    st.sampled_from(["free", "clip", "scale", "halve", "keep turn", "keep forward"]),
    st.sampled_from([1, 2]), st.floats(-1, 1), st.floats(-1, 1) | st.just(1.0),
)  # fmt: skip
def test_full_speed_is_said_of_nothing_slower(corner: str, sticks: int, forward: float, left: float) -> None:
    style = replace(MEDLAR.style, corner=corner, sticks=sticks)  # type: ignore[call-arg]
    profile = MEDLAR.model_copy(update={"style": style})
    bench = Bench(profile)
    tick = bench.drive(4.0, forward, left)
    assert tick.command == tick.target
    said, ends = tick.explain(profile).answer, profile.plan().speeds.along(tick.command)
    full = abs(tick.command.vx) >= ends[0] - 1e-3 or abs(tick.command.yaw_rate) >= ends[3] - 1e-3
    assert ("full speed" in said) <= full, said
    if corner != "free" and abs(tick.intent.forward - tick.shaped["drive"]) > 1e-3:
        assert f'corner = "{corner}"' in said or "cannot do more" in said


@pytest.mark.parametrize(
    ("keys", "says"),
    [("", "the wheels steer at 60 deg/s"), ("jerk = 2.0\n", "an S-curve limits it (limits.jerk)")],
)
def test_what_holds_steered_wheels_is_said(keys: str, says: str) -> None:
    text = shipped("quince.toml").read_text().replace("[limits]\n", f"[limits]\n{keys}")
    bench = Bench(tenuto.parse_profile(re.sub(r"steering_rate = .*", 'steering_rate = "60 deg/s"', text)))
    rest = {control.reads: 0.0 for control in bench.pipeline.plan.controls}
    for seconds, moved in ((0.2, {"left_shoulder": 0.0}), (0.2, {}), (3.0, {"left_y": -32768.0})):
        bench.run(seconds, rest | {"left_shoulder": 1.0} | moved)
    tick = bench.run(0.06, rest | {"left_shoulder": 1.0, "left_y": -16000.0, "right_x": -32768.0})
    assert says in tick.explain(bench.pipeline.plan).answer


def test_a_tick_is_explained_by_the_profile_of_another_vehicle_too() -> None:
    tick = tenuto.replay(MEDLAR, shipped("orchard-row.csv")).at(5.0)
    steps = tick.explain(tenuto.load_profile(shipped("sorrel.toml"))).steps
    wheel = tick.actuators["left_wheel"]
    assert f"left_wheel {wheel:+.2f}" in next(step.text for step in steps if step.stage == "actuators")
    known = next(step.text for step in tick.explain(MEDLAR).steps if step.stage == "actuators")
    assert f"left_wheel {math.degrees(wheel):+.0f} deg/s" in known
