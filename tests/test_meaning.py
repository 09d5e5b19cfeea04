"""What a control means: keys, push-buttons of unknown devices, units of settings, and the words of a stop."""

from __future__ import annotations

import math
import os
import re
from itertools import groupby, pairwise
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import Bench, examples, pad, run
from tenuto.basics.reasons import Code
from tenuto.data import shipped
from tenuto.profile.checks.advice import advise
from tenuto.sources.keyboard import LEVELS
from tenuto.switches.momentary import MomentaryPlan
from tenuto.vehicles.steered import car, four_wheel_steer
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

KEYS = """
format = 1
name = "Keys"
source = { kind = "keyboard" }
style = { kind = "arcade", forward = "forward", turn = "turn" }
speeds = { forward = 1.0, turn = 2.0 }
limits = { acceleration = 50.0, turn_acceleration = 50.0 }
guard = { hold_to_run = "enable", link_timeout = "300 ms" }
chassis = { kind = "differential", track = 0.5, wheel_radius = 0.1, max_wheel_speed = 40.0 }
"""
COLUMNS = """
format = 1
name = "Columns"
source = { kind = "lines", port = "/dev/ttyACM0", columns = ["stick", "side", "start"] }
controls.stick = { reads = "stick", low = 100, centre = 500, high = 900, dead_zone = 0.1 }
controls.side = { reads = "side", low = 100, centre = 500, high = 900, dead_zone = 0.1 }
controls.start.reads = "start"
controls.start.low = 0
controls.start.high = 1
style = { kind = "arcade", forward = "stick", turn = "side" }
speeds = { forward = 1.0, turn = 2.0 }
limits = { acceleration = 1.0, turn_acceleration = 5.0 }
guard = { enable = "start", link_timeout = "300 ms" }
chassis = { kind = "differential", track = 0.5, wheel_radius = 0.1, max_wheel_speed = 40.0 }
"""


@pytest.mark.parametrize("level", range(1, LEVELS + 1))
def test_a_step_of_the_keys_is_that_share_of_the_speed(level: int) -> None:
    rest = {"forward": 0.0, "turn": 0.0, "enable": 0.0}
    bench = Bench(tenuto.parse_profile(KEYS))
    bench.run(0.2, rest)
    bench.run(0.2, rest | {"enable": 1.0})
    tick = bench.run(1.0, rest | {"enable": 1.0, "forward": level / LEVELS})
    assert tick.command.vx == pytest.approx(level / LEVELS)
    zoned = tenuto.parse_profile(KEYS + "controls.forward.dead_zone = 0.08\n")
    assert any("takes away its first steps" in str(one) for one in advise(zoned))


def columns(spring: bool | None) -> Bench:
    """Return a robot whose enabling control is a column: nobody but the builder knows whether it springs back."""
    known = "controls.start.high = 1\n"
    said = "" if spring is None else f"controls.start.push_button = {str(spring).lower()}\n"
    bench = Bench(tenuto.parse_profile(COLUMNS.replace(known, known + said)))
    for start in (0.0, 1.0, 1.0):
        bench.run(0.2, {"stick": 500.0, "side": 500.0, "start": start})
    return bench


@pytest.mark.parametrize("spring", [None, True, False])
def test_a_column_is_a_switch_that_stays_until_the_profile_says_that_it_springs_back(spring: bool | None) -> None:
    bench = columns(spring)
    pushed = {"stick": 900.0, "side": 500.0}
    assert bench.run(0.5, pushed | {"start": 1.0}).command.vx > 0.4
    released = bench.run(1.5, pushed | {"start": 0.0})
    assert (released.command.vx > 0.9) is (spring is True)
    if spring is True:
        bench.run(0.2, pushed | {"start": 1.0})
        assert bench.run(1.5, pushed | {"start": 0.0}).command.vx == 0.0, "the second press ends it"


def test_drivers_whose_enabling_controls_differ_in_kind_are_refused() -> None:
    second = """
[drivers.second]
alone = true
controls.start.reads = "start"
controls.start.push_button = true
controls.start.low = 0
controls.start.high = 1
source = { kind = "lines", port = "/dev/ttyACM1", columns = ["stick", "side", "start"] }
"""
    with pytest.raises(tenuto.ProfileError, match=r"keeps its position.*as the first driver.*springs back"):
        tenuto.parse_profile(COLUMNS + second)
    assert tenuto.parse_profile(COLUMNS + second.replace("push_button = true", "push_button = false"))


MOTORS = """
format = 1
name = "Two motors"
source = { kind = "gamepad" }
style = { kind = "arcade", forward = "left_y", turn = "right_x" }
speeds = { forward = "50 %", turn = "50 %" }
limits = { acceleration = "0.4 s" }
guard = { hold_to_run = "left_shoulder", link_timeout = "300 ms", stop_deceleration = "300 ms" }
chassis = { kind = "motors" }
"""


@pytest.mark.parametrize("form", ["text", "binary", "signed"])
def test_no_sink_sends_shares_where_its_protocol_says_metres(form: str, tmp_path: Path) -> None:
    more = {"signed": 'key = "k", answers = "1 s", '}.get(form, "")
    sink = f'sinks.robot = {{ kind = "serial", port = "/dev/ttyUSB0", {more}form = "{form}" }}\n'
    with pytest.raises(tenuto.ProfileError, match=r"sends m/s.*or write a line of your own"):
        tenuto.parse_profile(MOTORS + sink)
    own = 'sinks.robot = { kind = "serial", port = "/dev/ttyUSB0", line = "{left} {right}" }\n'
    assert not [one for one in advise(tenuto.parse_profile(MOTORS + own)) if one.is_error]
    (tmp_path / "two.toml").write_text(MOTORS)
    reader, writer = os.openpty()
    failed = run(
        "drive", "two.toml", "--source", "simulated:sticks", "--to", f"serial:{os.ttyname(writer)}", cwd=tmp_path
    )
    os.close(reader)
    assert failed.returncode == 1
    assert "sends m/s" in failed.stderr
    assert "line of your own" in failed.stderr


@examples(60)
@given(
    st.lists(st.tuples(st.booleans(), st.integers(1, 6)), max_size=20),
    st.sampled_from([0.004, 0.02, 0.05, 0.125, 0.5]),
    st.integers(1, 20),
)
def test_a_press_counts_by_its_length_however_slow_the_radio_is(
    runs: list[tuple[bool, int]], period: float, hundredths: int
) -> None:
    """By hand: a run of equal frames lasts until the first frame that differs; one of the debounce time counts."""
    debounce = hundredths / 100.0
    switch = MomentaryPlan(name="s", reads="b", debounce=debounce).make()
    frames = [False] * 60 + [on for on, many in runs for _ in range(many)] + [False] * 60
    lengths = [(on, len(list(same))) for on, same in groupby(frames)]
    counts = [on for on, many in lengths if many * period >= debounce - 1e-9]
    by_hand = sum(on and not before for before, on in pairwise(counts))
    pressed = 0
    for number, on in enumerate(frames):
        switch.step({"b": float(on)}, number * period)
        pressed += switch.pressed
    assert pressed == by_hand


@examples(60)
@given(st.sampled_from([car, four_wheel_steer]), st.data())
def test_the_share_of_an_axle_never_saturates(make: Any, data: st.DataObject) -> None:
    size, share = st.floats(0.3, 3.0), st.floats(-2.0, 2.0)
    base = make(data.draw(size), data.draw(size), 0.2, data.draw(st.floats(0.2, 0.8)), 10.0)
    command = VelocityCommand(data.draw(share), data.draw(share), 0.0, data.draw(share))
    angles = base.actuators(base.within_reach(command)[0], base.actuators(STANDSTILL))
    for axle in base.axles().values():
        inner, outer = sorted(abs(angles[name]) for name in axle.of)
        middle = math.atan(2.0 / (1.0 / math.tan(inner) + 1.0 / math.tan(outer))) if inner else 0.0
        assert middle <= axle.most * (1.0 + 1e-9)


AXLE = shipped("quince.toml").read_text().split("[actuators.angles]")[0] + '[actuators.front_axle]\nform = "share"\n'


@pytest.mark.parametrize(
    ("full", "said"),
    [
        ("", ""),
        ('full = "28 deg"', ""),
        ("full = 0.5", ""),
        ('full = "24.9 deg"', r"front_axle is asked for \+28 deg, and its share 1 is \+25 deg"),
        ('full = "10 rad/s"', r"front_axle.full: expected an angle .* found a turning speed"),
        ('full = "28 furlongs"', r"its units are rad/s, .*rad, deg, N, "),
        ('full = "-28 deg"', r"front_axle.full: expected"),
    ],
)
def test_the_full_value_of_an_actuator_has_a_unit_and_is_enough(full: str, said: str) -> None:
    """Driven to the end of crab steering: the share is that of the angle, or `check` has said that it is not."""
    if said.startswith(("its", "front_axle.full")):
        with pytest.raises(tenuto.ProfileError, match=said):
            tenuto.parse_profile(f"{AXLE}{full}\n")
        return
    profile = tenuto.parse_profile(f"{AXLE}{full}\n")
    found = " ".join(map(str, advise(profile)))
    assert bool(re.search(said, found)) if said else "front_axle" not in found
    bench = Bench(profile)
    rest = {name: 0.0 for control in bench.pipeline.plan.controls for name in control.all_reads}
    bench.run(0.2, rest)
    for _ in range(2):  # to counter, to crab
        bench.run(0.2, rest | {"north": 1.0})
        bench.run(0.2, rest)
    bench.run(0.2, rest | {"left_shoulder": 1.0})
    tick = bench.run(3.0, rest | {"left_shoulder": 1.0, "left_y": -32768.0, "right_x": -32768.0})
    angle = tick.actuators["front_left_angle"]
    assert math.degrees(angle) == pytest.approx(28.0, abs=0.01)
    most = bench.pipeline.plan.actuators[-1].full
    assert tick.wire["front_axle.share"] == pytest.approx(min(angle / most, 1.0))
    assert (angle > most * (1 + 1e-6)) is bool(said)


def causes(bench: Bench) -> list[str]:
    return [notice.text for notice in bench.ticks[-1].notices if notice.code == Code.LAST_STOP]


@pytest.mark.parametrize(
    ("broken", "said"),
    [
        ({"left_y": 9e9}, ["left_y was 9e+09, but it can only send -32768 to 32767", "the link was quiet for 2.00 s"]),
        (None, ["the link was quiet for 2.00 s"]),
        ({"left_shoulder": 0.0}, []),
    ],
)
def test_what_stopped_a_drive_is_told_until_the_next_one(broken: dict[str, float] | None, said: list[str]) -> None:
    bench = Bench()
    bench.drive(1.0)
    bench.run(2.0, None if broken is None else pad(1.0, held=True) | broken)
    assert not causes(bench), "as long as it lasts it is a reason"
    bench.run(5.0, pad())
    assert bench.ticks[-1].guard.reasons[0].code == Code.HOLD_NOT_PRESSED
    assert causes(bench) == [f"last stop: {one}" for one in said]
    bench.run(0.1, pad(0.5, held=True))
    assert causes(bench) == [f"last stop: {one}" for one in said], "it waits for the sticks, and has not driven"
    bench.drive(1.0)
    assert bench.ticks[-1].command.vx > 0.0
    bench.run(3.0, pad())
    assert not causes(bench)


def test_a_key_that_is_pressed_once_is_not_to_be_held() -> None:
    bench = Bench(tenuto.parse_profile(KEYS))
    rest = {"forward": 0.0, "turn": 0.0, "enable": 0.0}
    bench.run(0.2, rest | {"enable": 1.0})
    assert "press space, then Enter" in bench.ticks[-1].guard.reasons[0].text
    bench.run(0.2, rest)
    assert bench.ticks[-1].guard.reasons[0].text == "enable is off: press Enter to drive"
    bench.run(0.2, rest | {"enable": 1.0, "forward": 0.0})
    bench.run(0.5, rest | {"enable": 1.0, "forward": 1.0})
    assert bench.step(rest).guard.reasons[0].text == "enable was switched off (by space, X, or 20 s without a key)"


def test_a_trim_that_begins_beyond_its_limit_is_refused() -> None:
    said = r"trims.drive.begin: expected at most trims.drive.most, 0.1, found -0.15"
    text = shipped("medlar.toml").read_text()
    trim = '[trims.drive]\nup = "dpad_up"\ndown = "dpad_down"\nmost = 0.1\nbegin = '
    with pytest.raises(tenuto.ProfileError, match=said):
        tenuto.parse_profile(f"{text}{trim}-0.15\n")
    assert tenuto.parse_profile(f"{text}{trim}-0.1\n")
