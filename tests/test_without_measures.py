"""Vehicles without measures: shares and times to full everywhere, and no numbers in metres."""

from __future__ import annotations

import json
import math
import re
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import Bench, examples, run
from tenuto.data import shipped
from tenuto.driving.stopping import link_loss_stages
from tenuto.sources.recording import read_recording, write_recording
from tenuto.vehicles.actuators import ActuatorPlan, Wire

VEHICLES_PAGE = (Path(__file__).parents[1] / "docs" / "vehicles.md").read_text()
EIGHT = VEHICLES_PAGE.split("A profile has eight lines:\n\n```toml\n")[1].split("```")[0]
MEASURED = 'chassis = {{ kind = "differential", track = {}, wheel_radius = {}, max_wheel_speed = {} }}'
TANK = EIGHT.replace('"arcade", forward = "left_y", turn = "right_x"', '"tank", left = "left_y", right = "right_y"')
SERVO = EIGHT.replace('"arcade", forward = "left_y", turn', '"car", throttle = "left_y", steer').replace(
    '"motors"', '"motor_and_servo"'
)
# Settings in metres, or related to them.
METRIC = re.compile(r"\d m\b|m/s|deg/s|\bmetres? away")


@examples(30)
@given(st.data())
def test_metres_may_come_later_and_change_nothing_else(data: st.DataObject) -> None:
    """With any measures each wheel turns at the share of its fastest speed that its motor had without them."""
    text, size = data.draw(st.sampled_from([EIGHT, TANK])), st.floats(0.05, 5.0)
    track, radius, fastest = (data.draw(size) for _ in range(3))
    shares, seconds = (data.draw(st.integers(low, 100)) for low in (10, 2))
    text = text.replace('"50 %"', f'"{shares} %"').replace('"0.4 s"', f'"{seconds / 20} s", deceleration = "0.307 s"')
    text = text.replace('"300 ms"', '"300 ms", stop_deceleration = "0.2371 s"')
    measured = text.replace('chassis = { kind = "motors" }', MEASURED.format(track, radius, fastest))
    without, with_them = Bench(tenuto.parse_profile(text)), Bench(tenuto.parse_profile(measured))
    rest = {"left_shoulder": 0.0, **dict.fromkeys(("left_y", "right_x", "right_y"), 0.0)}
    raw = st.sampled_from([-32768.0, 0.0, 32767.0]) | st.floats(-32768.0, 32767.0)
    moves = st.tuples(st.sampled_from(["left_y", "right_x", "right_y", "left_shoulder"]), raw)
    now = rest | {"left_shoulder": 1.0}
    for bench in (without, with_them):
        bench.run(0.2, rest)
    for name, value in [("left_x", 0.0), *data.draw(st.lists(moves, max_size=8))]:
        now = now | {name: float(value > 0.0) if name == "left_shoulder" else value}
        for bench in (without, with_them):
            bench.run(0.2, now)
    for a, b in zip(without.ticks, with_them.ticks, strict=True):
        for side in ("left", "right"):
            assert math.isclose(a.actuators[side], b.actuators[f"{side}_wheel"] / fastest, abs_tol=1e-6)


def test_a_profile_of_eight_lines_drives() -> None:
    assert len(EIGHT.strip().splitlines()) == 8
    bench = Bench(tenuto.parse_profile(EIGHT))
    rest = {"left_y": 0.0, "right_x": 1000.0, "left_shoulder": 0.0}  # it never rests exactly in its middle
    for values in (rest, rest | {"left_shoulder": 1.0}):
        bench.run(0.1, values)
    tick = bench.run(1.0, rest | {"left_shoulder": 1.0, "left_y": -32768.0})
    assert tick.actuators == pytest.approx({"left": 0.8, "right": 0.8})
    rising = [tick.actuators["left"] for tick in bench.ticks]
    assert max(b - a for a, b in pairwise(rising)) == pytest.approx(0.02 / 0.4), "all of it takes 0.4 s"


def test_a_servo_stands_where_the_stick_does_and_no_faster_than_it_can() -> None:
    text = SERVO.replace('"motor_and_servo"', '"motor_and_servo", steering_time = "1 s"')
    bench = Bench(tenuto.parse_profile(text))
    rest = {"left_y": 0.0, "right_x": 0.0, "left_shoulder": 0.0}
    for values in (rest, rest | {"left_shoulder": 1.0}):
        bench.run(0.1, values)
    left = rest | {"left_shoulder": 1.0, "right_x": -32768.0}
    assert bench.run(1.0, left).actuators == pytest.approx({"motor": 0.0, "servo": 1.0}), "at a stand too"
    turned = [tick.actuators["servo"] for tick in bench.ticks]
    assert max(b - a for a, b in pairwise(turned)) == pytest.approx(2.0 * 0.02 / 1.0), "lock to lock in 1 s"
    assert bench.run(1.0, left | {"left_y": 32767.0}).actuators == pytest.approx({"motor": -0.8, "servo": 1.0})


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('"80 %"', '"0.8 m/s"', 'speeds.forward: .*has no measures: write a share, such as "50 %"'),
        ('"80 %"', '"120 %"', "speeds.forward: .*a share is above 0 %, and at most 100 %"),
        ('"0.4 s"', '"0.4 m/s^2"', "limits.acceleration: .*write the time to full"),
        ('"0.4 s"', '"0.4 s", jerk = "3 m/s^3"', "limits.jerk: .*write a number, in shares of full per s³"),
        ('"motors"', '"differential", track = 0.5, wheel_radius = 0.1',
         "the full speed of this differential is not known: set its greatest speed in .chassis."),
        ('"motors"', '"surfaces", mix = "elevon"', "the full speed of this surfaces is not known"),
        ("right_x", "rihgt_x", 'style.turn: expected a control of the gamepad .*did you mean "right_x"'),
        ('"right_x" }', '"right_x", smallest_radius = 2.0 }', "style.smallest_radius: expected nothing with a vehicle"),
        ("format = 1", 'format = 1\nsinks.robot = { kind = "udp", address = "127.0.0.1:14660", key = "k" }',
         "sinks.robot: expected nothing .* found a udp, which sends m/s"),
        ("format = 1", 'format = 1\ndistances.front = { reads = "left_trigger", keep = "0.5 m" }',
         "distances.front: expected nothing .*an inhibit, which needs no metres"),
        ("format = 1", 'format = 1\nmeasured.wheels = { reads = "left_trigger", tolerance = 0.1 }', "measured.wheels:"),
        ("format = 1", 'format = 1\ndrivers.p = { sends = "velocities", permit = "east", source.kind = "lines", '
         'source.port = "p", source.columns = ["vx"] }', "drivers.p.sends: "),
        ("format = 1", 'format = 1\nactuators.left.form = "rev/min"', "left.form: expected share, duty, pulse"),
    ],
)  # fmt: skip
def test_what_cannot_be_is_refused_with_its_reason(old: str, new: str, said: str) -> None:
    with pytest.raises(tenuto.ProfileError, match=said):
        tenuto.parse_profile(EIGHT.replace(old, new))


def test_a_rig_without_a_button_is_told_how_it_is_enabled_and_measured() -> None:
    text = EIGHT.replace('"gamepad"', '"lines", port = "p", columns = ["left_y", "right_x"]')
    with pytest.raises(tenuto.ProfileError) as told:
        tenuto.parse_profile(text.replace('hold_to_run = "left_shoulder", ', ""))
    assert [finding.where for finding in told.value.findings] == [
        "controls.left_y", "controls.right_x", "guard.hold_to_run"]  # fmt: skip
    assert "tenuto begin measures them" in str(told.value)
    assert "a gesture of sticks where there is neither" in str(told.value)


@pytest.mark.parametrize("text", [pytest.param(EIGHT, marks=pytest.mark.long), SERVO])
def test_all_that_is_said_of_it_is_in_percent(text: str, tmp_path: Path) -> None:
    (tmp_path / "two.toml").write_text(text)
    recording = str(tmp_path / "row.csv")
    write_recording(recording, read_recording(shipped("orchard-row.csv"))[:600])
    drive = ("drive", "two.toml", "--recording", recording, "--to", "log:run.csv", "--to", "simulated")
    drawn = (
        ("report", "run.csv"), ("compare", "run.csv", "two.toml", "two.toml", "--figure", "c.png"),
        ("tune", "run.csv", "two.toml", "--top-speed", "60 %", "--out", "patch.toml"),
    )  # fmt: skip
    for command in (
        ("check", "two.toml", "--table", "--worst"), drive, ("why", "run.csv", "--at", "6"),
        *(drawn if text is EIGHT else ()),
    ):  # fmt: skip
        done = run(*command, cwd=tmp_path)
        assert done.returncode == 0, done.stderr
        found = [line for line in (done.stdout + done.stderr).splitlines() if METRIC.search(line)]
        assert found == [], command
        assert "%" in done.stdout or command is drive
    if text is EIGHT:
        page = (tmp_path / "run.csv.html").read_text()
        assert METRIC.search(re.sub(r'src="[^"]*"', "", page)) is None
    for refused in (("measure", "run.csv", "--odometry", recording), ("script", str(shipped("round-the-tree.toml")))):
        last = () if refused[0] == "measure" else ("two.toml",)
        done = run(*refused, *last, cwd=tmp_path)
        assert done.returncode == 1
        assert "has no measures" in done.stderr
    said = json.loads(run("check", "two.toml", "--json", "--worst", cwd=tmp_path).stdout)
    assert all(stage["metres"] is None for stage in (*said["link_loss"], *said["worst"]))
    assert link_loss_stages(tenuto.load_profile(tmp_path / "two.toml").plan())[0].seconds == pytest.approx(0.32)


@given(st.lists(st.floats(-1.0, 1.0), max_size=50), st.booleans())
def test_two_contacts_are_never_closed_together(shares: list[float], cut: bool) -> None:
    wire, before = Wire((ActuatorPlan(name="m", form="contacts"),)), (0.0, 0.0)
    for share in shares:
        now = tuple(wire.step({"m": share}).values())
        assert now in ((0.0, 0.0), (1.0, 0.0), (0.0, 1.0))
        assert before in ((0.0, 0.0), now) or now == (0.0, 0.0), "both are open before the other closes"
        assert now == (0.0, 0.0) if abs(share) <= 0.25 else share * (now[0] - now[1]) >= 0.0
        assert now != (0.0, 0.0) or abs(share) <= 0.5 or before != (0.0, 0.0), "above a half one closes"
        before = now
    if cut:
        assert set(wire.step({"m": 1.0}, power=False).values()) == {0.0}
