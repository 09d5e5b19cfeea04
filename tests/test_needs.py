"""Far ends: their reports, the reaction of the guard, and no drive without the required conditions."""

import json
import math
import os
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

import tenuto
from helpers import CART, MEDLAR, PERIOD, Bench, Hands, Notebook, examples, pad, prompt_terminals, run
from tenuto import Frame, Tick
from tenuto.analysis.measure import measure
from tenuto.analysis.odometry import motion_in_log
from tenuto.clock import SimulatedClock
from tenuto.data import shipped
from tenuto.driving.follow import line_plan
from tenuto.driving.guard import State
from tenuto.driving.preflight import checks_of_others
from tenuto.driving.stopping import silent_far_end_stages
from tenuto.driving.telemetry import Telemetry, far_ends_of
from tenuto.driving.watchdog import CommandWatchdog
from tenuto.protocols.answer_line import WHY, AnswerLine, encode_answer, read_answer
from tenuto.protocols.measured import measured_of, telemetry_of
from tenuto.protocols.remote import RemoteState, read_json
from tenuto.protocols.remote_ends import RobotEnd
from tenuto.protocols.way import Way
from tenuto.runtime.preflight import look
from tenuto.sim.far_end import FarEnd
from tenuto.sinks.serial_line import SerialLine
from tenuto.sources.function import FunctionSource
from tenuto.sources.recording import write_recording
from tenuto.vehicles.velocity import STANDSTILL

TEXT = shipped("medlar.toml").read_text()
NAN = math.nan


def with_needs(**needs: object) -> tenuto.Profile:
    lines = [
        f"{key} = {str(value).lower() if isinstance(value, bool) else repr(value)}" for key, value in needs.items()
    ]
    return tenuto.parse_profile(TEXT + "\n[guard.needs]\n" + "\n".join(lines) + "\n")


SAYS = frozenset(("follows", "armed", "mode", "x", "y", "heading", "height", "voltage", "charge"))
numbers = st.one_of(st.just(NAN), st.floats(-50.0, 50.0))
said = st.builds(
    Telemetry, follows=st.sampled_from((None, True, False)), armed=st.sampled_from((None, True, False)),
    mode=st.sampled_from(("", "hold", "guided")), x=numbers, y=numbers, heading=numbers, height=numbers,
    voltage=st.one_of(st.just(NAN), st.floats(8.0, 13.0)), charge=st.one_of(st.just(NAN), st.floats(0.0, 1.0)),
)  # fmt: skip
# Need → its value, and an independent check of the condition.
ASKED: dict[str, tuple[object, Callable[[Telemetry], bool]]] = {
    "armed": (True, lambda one: one.armed is True),
    "mode": ("guided", lambda one: one.mode == "guided"),
    "position": (True, lambda one: not math.isnan(one.x + one.y)),
    "voltage_above": ("10.5 V", lambda one: one.voltage >= 10.5),
    "charge_above": ("20 %", lambda one: one.charge >= 0.2),
    "height_below": ("30 m", lambda one: one.height <= 30.0),
    "within": ("40 m", lambda one: one.x**2 + one.y**2 <= 1600.0),
}
GOOD = Telemetry(
    follows=True, armed=True, mode="guided", x=1.0, y=-2.0, heading=0.5, height=3.0, voltage=12.0, charge=0.9, says=SAYS
)
headings = st.floats(-math.pi, math.pi)
moments = st.tuples(said | st.just(GOOD), st.integers(1, 30), st.booleans(), st.floats(-1.0, 1.0), st.booleans())


@examples(60)
@given(st.sets(st.sampled_from(sorted(ASKED)), min_size=1), st.lists(moments, min_size=1, max_size=8))
def test_nothing_is_driven_whose_far_end_is_not_as_it_must_be(
    keys: set[str], story: list[tuple[Telemetry, int, bool, float, bool]]
) -> None:
    bench, heard_at = Bench(with_needs(answers="200 ms", **{key: ASKED[key][0] for key in keys})), -math.inf
    outside_before = False
    for one, lasts, held, stick, answers in [(GOOD, 9, False, 0.0, True), (GOOD, 9, True, 0.0, True), *story]:
        for _ in range(lasts):
            bench.now += 0.02
            heard_at = bench.now if answers else heard_at
            far = {"cart": one._replace(time=heard_at, says=SAYS)} if heard_at > 0.0 else {}
            frame = tenuto.Frame(bench.now, pad(stick, 0.0, held))
            tick = bench.pipeline.step(frame, bench.now, far=far)
            before = bench.ticks[-1] if bench.ticks else tick
            bench.ticks.append(tick)
            met = {key for key in keys if ASKED[key][1](one)}
            bounds = keys & {"height_below", "within"}
            outside = bool(bounds - met)
            if tick.guard.state is State.DRIVING:
                assert bench.now - heard_at <= 0.2 + 1e-9
                assert keys - bounds <= met
                if before.guard.state is State.DRIVING and not outside_before:
                    assert not outside, "a bound stops it"
                if outside and tick.demand != STANDSTILL:
                    c, s = math.cos(one.heading), math.sin(one.heading)
                    way = one.x * c * tick.demand.vx + one.y * s * tick.demand.vx
                    assert "height_below" in met or "height_below" not in keys, "a cart cannot come down"
                    assert way < 0.0, "only the way back is free"
            outside_before = outside
    assert any(tick.guard.state is State.DRIVING for tick in bench.ticks), "it did drive"


@examples(60)
@given(headings, st.floats(41.0, 60.0), headings, st.floats(0.3, 1.0), st.booleans())
def test_beyond_a_fence_it_stops_once_and_then_only_comes_back(
    where: float, away: float, heading: float, stick: float, backward: bool
) -> None:
    assume(abs(math.cos(heading - where)) > 1e-6)  # exactly sideways is neither out nor back
    bench = Bench(with_needs(within="40 m"))
    out = GOOD._replace(x=away * math.cos(where), y=away * math.sin(where), heading=heading, says=SAYS)

    def run(seconds: float, one: Telemetry, forward: float, held: bool) -> Tick:
        for _ in range(round(seconds / 0.02)):
            bench.now += 0.02
            frame = tenuto.Frame(bench.now, pad(forward, 0.0, held))
            bench.ticks.append(bench.pipeline.step(frame, bench.now, far={"cart": one._replace(time=bench.now)}))
        return bench.ticks[-1]

    run(0.2, GOOD, 0.0, False)
    run(0.2, GOOD, 0.0, True)
    assert run(1.0, GOOD, 1.0, True).command.vx > 0.5
    stopped = run(2.0, out, 1.0, True)
    assert (stopped.guard.state, stopped.command) == (State.FAULT, STANDSTILL)
    assert "distance from the origin is" in stopped.guard.reasons[0].text
    run(0.2, out, 0.0, False)
    run(0.2, out, 0.0, True)
    tick = run(1.0, out, -stick if backward else stick, True)
    assert tick.guard.state is State.DRIVING, "it may be enabled to come back"
    comes_back = (math.cos(heading - where) < 0.0) is not backward
    assert (abs(tick.command.vx) > 0.05) is comes_back
    assert comes_back or tick.notices[0].code == "beyond_bound"


@examples(40)
@given(st.floats(0.1, 2.0), st.sampled_from([0.0, 0.15, 0.4]), st.floats(0.5, 3.0), st.integers(0, 2))
def test_a_silent_far_end_costs_no_more_than_check_says(
    answers: float, grace: float, deceleration: float, more: int
) -> None:
    text = TEXT.replace('stop_deceleration = "1.5 m/s^2"', f"stop_deceleration = {deceleration}")
    text = text.replace("[guard]\n", f"[guard]\n{f'grace = {grace}' if grace else ''}\n")
    profile = tenuto.parse_profile(f"{text}\n[guard.needs]\nanswers = {answers}\n")
    *stages, _ = silent_far_end_stages(profile.plan())
    bench, heard, metres = Bench(profile), 0.0, 0.0
    for step in range(400):
        bench.now += 0.02
        forward = float(step > 20)
        # Its last report comes at full speed, at any time within a tick.
        heard = bench.now - 0.009 * more if step < 150 else heard
        frame = tenuto.Frame(bench.now, pad(forward, 0.0, step > 10))
        far = {"cart": GOOD._replace(time=heard, says=SAYS)}
        bench.ticks.append(bench.pipeline.step(frame, bench.now, far=far))
    moving = [tick for tick in bench.ticks if tick.time > heard and any(tick.command)]
    metres = sum(tick.command.vx * 0.02 for tick in moving)
    assert moving[-1].time + 0.02 - heard <= sum(stage.seconds for stage in stages) + 0.02 + 1e-6
    assert metres <= sum(stage.metres for stage in stages) + 0.02 * 1.2 + 1e-6
    assert moving[0].command.vx > 1.1


def drive_by_line(
    profile: tenuto.Profile,
    folder: Path,
    during: Callable[[float, FarEnd], str | None],
    seconds: float = 4.0,
    form: str = "text",
    rate: float = 25.0,
    loss: float = 0.0,
    delay: float = 0.0,
) -> list[Tick]:
    """Drive a far end on a pseudo-terminal, in simulated time; ``during`` causes the events."""
    ticks, clock, key = list[Tick](), SimulatedClock(), folder / "orchard.key"
    if form == "signed":
        key.write_text("5a" * 32)
        key.chmod(0o600)
    more = {"form": form, "key": str(key) if form == "signed" else None}
    with (
        prompt_terminals(),
        FarEnd(
            profile, form=form, key=bytes.fromhex("5a" * 32) if form == "signed" else None, loss=loss, delay=delay
        ) as far,
        SerialLine(far.port, rate=rate, answers=0.5, wheels=("left", "right"), distances=("front",), **more) as sink,  # type: ignore[arg-type]
        tenuto.open_sink(f"log:{folder / 'run.csv'}") as log,
    ):
        sink.label = "cart"

        def watch(tick: Tick) -> str | None:
            ticks.append(tick)
            far.robot.advance(0.02)
            if during(tick.time, far) is None:
                far.hear()
            return "done" if tick.time > seconds else None

        tenuto.drive(profile, Hands(begins_at=0.1 + 4.0 * delay), [sink, log], on_tick=watch, clock=clock)
    return ticks


@pytest.mark.parametrize("form", ["text", "binary", "signed"])
def test_a_firmware_that_answers_is_seen_logged_and_needed(form: str, tmp_path: Path) -> None:
    def during(now: float, far: FarEnd) -> str | None:
        far.voltage = 12.0 if now < 2.0 else 9.9
        return None

    ticks = drive_by_line(with_needs(voltage_above="10.5 V", answers="500 ms"), tmp_path, during, form=form)
    assert {str(tick.guard.state) for tick in ticks if 1.0 < tick.time < 2.0} == {"driving"}
    stopped = next(tick for tick in ticks if tick.time > 2.0 and tick.guard.state is not State.DRIVING)
    assert stopped.time < 2.2
    assert "cart: its battery is 9.9 V, below 10.5 V (guard.needs.voltage_above)" in stopped.guard.reasons[0].text
    assert ticks[-1].command == STANDSTILL
    assert ticks[-1].guard.state is State.FAULT
    moving = next(tick for tick in ticks if tick.time > 1.9).far["cart"]
    assert moving.wheels["left"] == pytest.approx(moving.wheels["right"], abs=0.01)
    assert moving.wheels["left"] > 3.0
    assert moving.follows
    assert moving.loss == pytest.approx(0.0)
    assert 0.0 < moving.round_trip < 0.1
    # The log and `why` have all of it.
    rows = tenuto.load_log(tmp_path / "run.csv")
    assert rows["far.cart.voltage"].iloc[-1] == pytest.approx(9.9)
    assert rows["far.cart.wheels.left"].max() > 3.0
    cells = {str(name)[4:]: value for name, value in rows.iloc[-1].items() if str(name).startswith("far.")}
    assert far_ends_of(cells)["cart"].voltage == pytest.approx(9.9)
    (tmp_path / "m.toml").write_text(TEXT)
    why = run("why", "run.csv", "--at", "3", "--profile", "m.toml", cwd=tmp_path)
    assert "9.9 V" in why.stdout, why.stderr


def test_a_far_end_that_falls_silent_is_a_lost_link_with_its_own_time(tmp_path: Path) -> None:
    silent = with_needs(answers="300 ms")
    ticks = drive_by_line(silent, tmp_path, lambda now, far: "silent" if now > 2.0 else None)
    stopped = next(tick for tick in ticks if tick.time > 2.0 and tick.guard.state is not State.DRIVING)
    assert 2.25 < stopped.time < 2.5, "it answers ten times a second, and 0.3 s are borne"
    assert stopped.guard.reasons[0].code == "far_end_silent"
    assert "cart has sent nothing for 0.3 s (guard.needs.answers 0.3 s)" in stopped.guard.reasons[0].text


def test_a_board_whose_code_was_made_from_another_profile_is_told(tmp_path: Path) -> None:
    own = line_plan(MEDLAR.plan()).digest()

    def of_another(now: float, far: FarEnd) -> str | None:
        far.made_from = "" if now < 1.0 else own if now < 2.0 else "0123abcd"
        return None

    ticks = drive_by_line(MEDLAR, tmp_path, of_another)
    told = [tick.time for tick in ticks if "made from another profile (0123abcd; " in str(tick.notices)]
    assert 2.0 < told[0] < 2.3
    assert {str(tick.guard.state) for tick in ticks if 1.0 < tick.time < 4.0} == {"driving"}, "it is told, and no stop"


def test_what_does_not_follow_is_never_shown_as_driven(tmp_path: Path) -> None:
    def latches(now: float, far: FarEnd) -> str | None:
        far.why = 6 if now > 2.0 else 0
        return None

    ticks = drive_by_line(MEDLAR, tmp_path, latches)
    assert {tick.state for tick in ticks if 1.0 < tick.time < 2.0} == {"driving"}
    late = [tick for tick in ticks if 2.3 < tick.time < 4.0]
    assert {tick.state for tick in late} == {"driving, not followed"}
    said = f"cart does not follow: stands; {WHY[6]}"
    assert all(said in [notice.text for notice in tick.notices] for tick in late)
    assert late[-1].explain(MEDLAR).answer.endswith(said)


@given(st.floats(0.0, 6.0) | st.none(), st.booleans() | st.none(), st.booleans())
def test_driving_is_said_only_of_what_was_heard_lately_and_follows(
    last: float | None, follows: bool | None, able: bool
) -> None:
    """A far end that never answered, or became silent, does not follow; one that cannot report it is not doubted."""
    bench = Bench()
    bench.run(0.1, pad())
    bench.run(0.1, pad(held=True))
    for _ in range(round(8.0 / PERIOD)):
        bench.now += PERIOD
        heard = -math.inf if last is None else min(last, bench.now)
        far = {"cart": Telemetry(heard, frozenset(("follows",)) if able else frozenset(), follows)}
        tick = bench.pipeline.step(Frame(bench.now, pad(0.5, held=True)), bench.now, far=far)
        if tick.guard.state is State.DRIVING and bench.now > 1.0:
            gone = able and bench.now - heard > 3.0
            assert (tick.state == "driving, not followed") == (gone or follows is False)


def test_a_robot_that_a_lossy_line_has_latched_is_not_shown_as_driven(tmp_path: Path) -> None:
    """Ten commands a second, valid for 200 ms, and three of ten are lost: it stands, and the driver is informed."""
    ticks = drive_by_line(MEDLAR, tmp_path, lambda now, far: None, seconds=20.0, rate=10.0, loss=0.3)
    driven = [tick for tick in ticks if tick.guard.state is State.DRIVING and tick.time > 0.5]
    latched = next(tick.time for tick in driven if tick.far["cart"].follows is False)
    late = [tick for tick in driven if tick.time > latched + 0.5]
    assert len(late) > 500
    assert {tick.state for tick in late} == {"driving, not followed"}
    assert WHY[2] in late[-1].notices[-1].text
    said = late[-1].far["cart"]
    assert 0.1 < said.loss < 0.5
    assert said.wheels["left"] == pytest.approx(0.0, abs=1e-3), "the robot does stand"
    assert "% lost (tolerates only 1 %)" in said.in_words(late[-1].time)


@pytest.mark.parametrize("form", ["text", "binary", "signed"])
def test_a_slow_line_is_driven_by_and_its_round_trip_is_known_and_too_slow_a_one_is_no_link(
    form: str, tmp_path: Path
) -> None:
    ticks = drive_by_line(with_needs(answers="1 s"), tmp_path, lambda now, far: None, form=form, delay=0.12)
    said = ticks[-1].far["cart"]
    # The rate is 25 Hz; with signed frames the answers come at their own times, ten times a second.
    assert 0.24 - 0.02 <= said.round_trip <= 0.24 + (0.12 if form == "signed" else 0.06)
    assert said.follows
    assert said.wheels["left"] > 3.0
    if form == "signed":  # a command with a time of the robot from 0.8 s ago is too old
        slow = drive_by_line(MEDLAR, tmp_path, lambda now, far: None, form=form, delay=0.4)
        late = next(tick for tick in slow if tick.time > 3.9)
        assert "more than 0.5 s late, and do not count: the link is too slow to drive" in str(late.notices)
        assert late.state == "driving, not followed"
        assert math.isnan(late.far["cart"].wheels["left"])


@pytest.mark.parametrize("form", ["text", "signed"])
def test_a_firmware_that_is_started_again_stands_until_the_driver_lets_go(form: str, tmp_path: Path) -> None:
    begun = list[float]()

    def starts_again(now: float, far: FarEnd) -> str | None:
        if now > 2.0 and not begun:
            begun.append(now)
            again = FarEnd(MEDLAR, form=form, key=far._key)
            far.__dict__ |= {
                name: again.__dict__[name]
                for name in ("robot", "decoder", "_session", "_newest", "_newest_at", "_asked", "_good")
            }
            far.robot._watchdog = CommandWatchdog()  # it has received nothing yet
            far._counter, far._answered, far._commanded = 0, -1.0, 0.0
            again.close()
        return None

    ticks = drive_by_line(MEDLAR, tmp_path, starts_again, form=form)
    assert begun
    before = [tick for tick in ticks if 1.0 < tick.time < 2.0]
    assert {tick.state for tick in before} == {"driving"}
    late = [tick for tick in ticks if 3.0 < tick.time < 4.0]
    assert {tick.state for tick in late} == {"driving, not followed"}, "its stick is pushed all the while"
    assert all(tick.far["cart"].wheels["left"] == pytest.approx(0.0, abs=1e-3) for tick in late)
    assert all(tick.far["cart"].age(tick.time) < 0.2 for tick in late), "and it answers"


WALL = """
[sinks.cart]
kind = "serial"
port = "/dev/ttyUSB0"
answers = "500 ms"
wheels = ["left", "right"]
distances = ["front"]

[distances.front]
far_end = "cart"
reads = "%s"
keep = "0.5 m"
"""


def test_a_distance_that_the_firmware_measures_keeps_the_robot_away(tmp_path: Path) -> None:
    profile, nearest = tenuto.parse_profile(TEXT + WALL % "distances.front"), [math.inf]

    def before_a_wall(now: float, far: FarEnd) -> str | None:
        far.distances = (2.5 - far.robot.now.x,)
        nearest[0] = min(nearest[0], *far.distances)
        # Noise on the line is not a new distance.
        os.write(far._master, b"#\n")
        return None

    ticks = drive_by_line(profile, tmp_path, before_a_wall, seconds=8.0)
    assert max(tick.command.vx for tick in ticks) > 0.6
    # The promise is about the command: the motors lag by 0.12 s, and the line takes a tick in each direction.
    assert 0.5 - 1.2 * (0.12 + 0.04) <= nearest[0] < 0.6
    assert any(notice.code == "near" for tick in ticks for notice in tick.notices)
    silent = drive_by_line(profile, tmp_path, lambda now, far: "silent" if now > 1.5 else before_a_wall(now, far))
    assert silent[-2].command.vx == 0.0, "what is not heard allows no speed that way"
    # In a replay another source may provide it; without one the error names what is missing.
    with pytest.raises(
        tenuto.SinkError, match="front is read from the far end of cart, which is no sink of this drive"
    ):
        tenuto.replay(profile, shipped("orchard-row.csv"))
    free = FunctionSource("front", ["distances.front"], lambda now: {"distances.front": 50.0})
    assert any(any(tick.command) for tick in tenuto.replay(profile, shipped("orchard-row.csv"), others={"front": free}))
    with pytest.raises(tenuto.ProfileError, match=r"reads: expected a number that the far end of cart .*wheels\.left"):
        tenuto.parse_profile(TEXT + WALL % "distances.rear")
    with pytest.raises(tenuto.ProfileError, match=r"far_end: expected a sink of the profile"):
        tenuto.parse_profile(TEXT + (WALL % "distances.front").replace('far_end = "cart"', 'far_end = "crat"'))


def test_needs_that_nobody_can_tell_are_refused_with_their_key() -> None:
    armed = with_needs(armed=True)
    with pytest.raises(tenuto.SinkError, match=r"guard\.needs\.armed: no sink of this drive can report that"):
        tenuto.drive(armed, Hands(), [], clock=SimulatedClock())
    line = '[sinks.robot]\nkind = "serial"\nport = "p"\nanswers = "1 s"\n'
    with pytest.raises(tenuto.ProfileError, match=r"guard\.needs\.armed: no sink of this profile can report that"):
        tenuto.parse_profile(TEXT + "[guard.needs]\narmed = true\n" + line)
    with pytest.raises(tenuto.ProfileError, match=r"height_from: expected less than guard\.needs\.height_below"):
        with_needs(height_from="3 m", height_below="2 m")
    for more, said in (
        ("modes = { a = -5 }", r"modes\.a: expected the autopilot's number for it, 0 or more, found -5"),
        ('mode = "guided"', "mode: expected one of modes: none, found guided"),
        ('only = "cart"', "only: expected an address without a host"),
    ):
        with pytest.raises(tenuto.ProfileError, match=said):
            tenuto.parse_profile(f'{TEXT}[sinks.pilot]\nkind = "mavlink"\naddress = "h:1"\n{more}\n')
    flies = [tick for tick in tenuto.replay(armed, shipped("orchard-row.csv")) if any(tick.command)]
    assert flies, "a replay has no far end"


@pytest.mark.long
def test_a_log_in_which_the_robot_answered_needs_no_odometry(tmp_path: Path) -> None:
    with tenuto.open_sink("simulated") as robot, tenuto.open_sink(f"log:{tmp_path / 'run.csv'}") as log:
        tenuto.replay(MEDLAR, shipped("orchard-row.csv"), [robot, log])
    table = tenuto.load_log(tmp_path / "run.csv")
    silent = table[[name for name in table.columns if not name.startswith("far.")]]
    by_wheels = table.drop(columns=["far.simulated.vx", "far.simulated.yaw_rate"])
    # Reading clocks jitters: the time of a number that is logged twice differs a little.
    twice = table.loc[table.index.repeat(2)].reset_index(drop=True)
    twice["far.simulated.time"] += np.random.default_rng(5).uniform(-3e-5, 3e-5, len(twice))
    for told in (table, by_wheels, twice):
        found = measure(told, motion_in_log(told, CART)).responses
        for axis in ("vx", "yaw_rate"):
            assert found[axis].time_constant.value == pytest.approx(0.12, abs=0.003), "as its motors are slow"
            assert found[axis].scale.value == pytest.approx(1.0, abs=0.002)
    with pytest.raises(tenuto.RecordingError, match="this log has no telemetry of a far end"):
        motion_in_log(silent, CART)


def test_preflight_says_what_is_not_ready_and_what_to_do(tmp_path: Path) -> None:
    (tmp_path / "m.toml").write_text(TEXT + "\n[guard.needs]\narmed = true\n")
    # A trim of 15 % at the transmitter, which is not noticed until the robot creeps.
    for name, forward in (("good.csv", 0.0), ("off.csv", 0.15)):
        frames = [tenuto.Frame(0.02 * step, pad(forward, 0.0, step > 50)) for step in range(300)]
        write_recording(tmp_path / name, frames)
    asked = ("preflight", "m.toml", "--seconds", "2", "--to", "simulated", "--to", "log:drive.csv", "--source")
    good = run(*asked, "recording:good.csv", cwd=tmp_path)
    assert (good.returncode, "Everything is ready." in good.stdout) == (0, True), good.stdout + good.stderr
    assert not (tmp_path / "drive.csv").exists(), "no log is written"
    off = run(*asked, "recording:off.csv", "--json", cwd=tmp_path)
    found = {check["name"]: check for check in json.loads(off.stdout)["checks"]}
    assert (off.returncode, [name for name, check in found.items() if not check["good"]]) == (1, ["sticks"])
    assert "drive is at +0.15" in found["sticks"]["text"]
    assert "centre its trim" in found["sticks"]["todo"]
    nowhere = run(*asked[:-1], "--to", "log:none/drive.csv", "--source", "recording:good.csv", cwd=tmp_path)
    assert (nowhere.returncode, "none/drive.csv: cannot write there" in nowhere.stdout) == (1, True)


def test_nothing_is_enabled_while_it_is_looked_at() -> None:
    notebook = Notebook()
    horn = tenuto.parse_profile(TEXT + '\n[actions.horn]\npress = "left_shoulder"\nwhen = "any time"\n')
    tick, _ = look(horn, Hands(), [notebook], clock=SimulatedClock(), seconds=3.0)
    assert not any(one.actions for one in notebook.ticks)
    assert tick.positions["drive"] == pytest.approx(1.0)
    assert {(tick.command, str(tick.guard.state)) for tick in notebook.ticks} == {(STANDSTILL, "not enabled")}
    assert notebook.stops, "and a stop is the last thing"


def test_a_plain_drive_says_what_is_ready_and_preflight_looks_at_everybody(tmp_path: Path) -> None:
    (tmp_path / "m.toml").write_text(TEXT)
    frames = [tenuto.Frame(0.02 * step, pad(0.15)) for step in range(150)]
    write_recording(tmp_path / "off.csv", frames)
    said = run("drive", "m.toml", "--recording", "off.csv", "--plain", "--seconds", "2", cwd=tmp_path).stdout
    assert "ready: profile, calibration, clock, device, trims, guard, simulated" in said
    assert "not ready: sticks: drive is at +0.15 → release it;" in said
    lesson = tenuto.load_profile(shipped("medlar-lesson.toml"))
    values = pad() | dict.fromkeys(("east", "right_shoulder", "right_trigger", "start", "north"), 0.0)
    hands = FunctionSource("pad", tuple(values), lambda now: values)
    others = {
        "learner": hands,
        "row_follower": FunctionSource("planner", ("vx", "yaw_rate"), lambda now: None),
        "front": FunctionSource("front", ("front",), lambda now: {"front": 2000.0} if now < 1.0 else None),
    }
    tick, newest = look(lesson, hands, [Notebook()], others=others, clock=SimulatedClock())
    found = {check.name: check.text for check in checks_of_others(newest, tick.time, lesson.plan()) if not check.good}
    assert found == {
        "row_follower": "nothing has come from it", "front": "its link is not good: the newest frame is 2.0 s old"
    }  # fmt: skip


# Calculated by hand from docs/protocols.md: CRC-16/CCITT-FALSE of the text before the last space.
ANSWER = b"A 17 1042 0 11840 W 10900 -10870 D 850 "


def crc(text: bytes) -> int:
    """The long division of the standard, bit by bit."""
    register = 0xFFFF
    for bit in (byte >> place & 1 for byte in text for place in range(7, -1, -1)):
        register = (register << 1 ^ (0x1021 if register >> 15 ^ bit else 0)) & 0xFFFF
    return register


def test_the_answer_line_is_the_one_of_the_docs() -> None:
    assert crc(b"123456789") == 0x29B1
    answer = AnswerLine(17, 1042, 0, 11.84, (10.9, -10.87), (0.85,))
    whole = ANSWER + b"%04X\n" % crc(ANSWER[:-1])
    assert encode_answer(answer) == whole
    assert whole.decode().strip() in (Path(__file__).parents[1] / "docs/protocols.md").read_text()
    assert read_answer(whole[:-1]) == answer


@examples(100)
@given(
    st.integers(0, 255), st.integers(0, 65535), st.integers(0, 255), st.floats(0.001, 65.0),
    st.lists(st.floats(-900.0, 900.0), max_size=4), st.lists(st.floats(0.0, 900.0), max_size=4), st.data(),
)  # fmt: skip
def test_an_answer_comes_back_as_it_was_and_a_damaged_one_not_at_all(
    counter: int, good: int, why: int, volts: float, wheels: list[float], distances: list[float], data: st.DataObject
) -> None:
    line = encode_answer(AnswerLine(counter, good, why, volts, tuple(wheels), tuple(distances)))[:-1]
    read = read_answer(line)
    assert read is not None
    assert read[:3] == (counter, good, why)
    assert [read.voltage, *read.wheels, *read.distances] == pytest.approx([volts, *wheels, *distances], abs=5.1e-4)
    place, bit = data.draw(st.integers(0, len(line) - 1)), data.draw(st.integers(0, 7))
    assert read_answer(line[:place] + bytes([line[place] ^ 1 << bit]) + line[place + 1 :]) is None
    assert read_answer(os.urandom(20)) is None


@examples(60)
@given(
    st.lists(st.booleans(), min_size=20, max_size=120), st.floats(0.0, 0.4), st.integers(1, 5), st.integers(0, 65535)
)
def test_loss_and_round_trip_are_what_the_way_did(arrives: list[bool], delay: float, every: int, began: int) -> None:
    """Commands each 0.1 s, some of which are lost; answers come at intervals, after the delay."""
    way, came, answers = Way(), began, list[tuple[float, int, int]]()
    for number, there in enumerate(arrives):
        now = 0.1 * number
        way.sent(number % 256, now)
        came += there
        if there and number % every == 0:
            answers.append((now + delay, number % 256, came))
        for at, counter, got in [one for one in answers if one[0] <= now]:
            way.answered(counter, got % 65536, at, modulo=65536)
        answers = [one for one in answers if one[0] > now]
    heard = [number for number, there in enumerate(arrives) if there and number % every == 0]
    heard = [number for number in heard if 0.1 * number + delay <= 0.1 * (len(arrives) - 1)]
    if not heard:
        assert math.isnan(way.round_trip)
        return
    assert way.round_trip == pytest.approx(delay)
    # Loss counts from the last answer before the last two seconds; exactly at their edge, from either.
    possible = []
    for edge in (-1e-9, 1e-9):
        older = [number for number in heard if 0.1 * number + delay < 0.1 * heard[-1] + delay - 2.0 + edge]
        first = older[-1] if older else heard[0]
        lost = sum(not there for there in arrives[first + 1 : heard[-1] + 1])
        possible += [pytest.approx(lost / (heard[-1] - first))] if heard[-1] - first >= 5 else []
    assert not possible or way.loss in possible


def ends() -> Iterator[Telemetry]:
    yield GOOD._replace(wheels={"left_wheel": 3.0, "right_wheel": NAN}, distances={"front": 1.25})
    yield Telemetry(says=frozenset(Telemetry._fields), wheels={"w" * 60: 1.0})
    yield Telemetry()


def test_a_robot_elsewhere_says_what_it_measures() -> None:
    for one in ends():
        message = measured_of({"firmware": one})
        again = telemetry_of(message)
        for name in one.says & frozenset(("armed", "mode", "x", "height", "voltage")):
            assert getattr(again, name) == getattr(one, name) or math.isnan(getattr(one, name))
    assert measured_of({}) is None
    end = RobotEnd()
    tick = (
        Bench()
        .run(0.1, pad())
        ._replace(far={"firmware": GOOD._replace(distances={"d" * 40: 1.0}, says=SAYS | {"distances"})})
    )
    end.tell(tick._replace(notices=tuple(tenuto.Reason("note", "é" * 400) for _ in range(8))))
    data = end.state(1.0).to_json()
    assert len(data) <= 1400, "it fits into a datagram, sealed"
    state = read_json(RemoteState, data)
    assert state is not None
    assert state.measured is not None
    assert (state.measured.mode, state.measured.voltage, state.measured.distances) == ("guided", 12.0, {"d" * 24: 1.0})
