"""Further measures of machine safety: inhibits, second channels, three positions, attention, tests, a record."""

import json
import math
import signal
import subprocess
import sys
import threading
import time
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

import tenuto
from helpers import MEDLAR, PERIOD, Bench, Hands, Notebook, examples, pad
from tenuto import DriveHandle, Frame, Pipeline, Profile, State, Tick, load_log, parse_profile
from tenuto.basics.layouts import ControlInfo
from tenuto.clock import SimulatedClock
from tenuto.data import shipped
from tenuto.driving.follow import FOLLOWED
from tenuto.sinks.events import EventLog
from tenuto.vehicles.velocity import STANDSTILL

TEXT = shipped("medlar.toml").read_text()
LINES = 'source = { kind = "lines", port = "/dev/ttyACM1", columns = ["contact"] }\nreads = "contact"\n'
BUMPER = f'[inhibits.bumper]\n{LINES}timeout = "200 ms"\n'


def medlar(guard: str = "", more: str = "", style: str = "") -> Profile:
    """Return Medlar with more keys of the guard, and more tables."""
    text = TEXT.replace("[guard]\n", f"[guard]\n{guard}\n")
    return parse_profile(f"{text}\n{more}{style}")


class Room:
    """A robot with a contact, in simulated time, with the values of the pad and the contact at each tick."""

    def __init__(self, profile: Profile) -> None:
        self.pipeline, self.now, self.ticks = Pipeline(profile), 0.0, list[Tick]()

    def step(self, values: dict[str, float], contact: Any = 1.0) -> Tick:
        self.now += PERIOD
        others = {} if contact == "silent" else {"bumper": Frame(self.now, {"contact": contact})}
        self.ticks.append(self.pipeline.step(Frame(self.now, values), self.now, others=others))
        return self.ticks[-1]

    def run(self, ticks: int, values: dict[str, float], contact: Any = 1.0) -> Tick:
        for _ in range(ticks):
            self.step(values, contact)
        return self.ticks[-1]

    def drive(self, contact: Any = 1.0) -> Tick:
        self.run(5, pad(), contact)
        self.run(5, pad(held=True), contact)
        return self.run(100, pad(1.0, held=True), contact)


contacts = st.one_of(st.sampled_from([0.0, 1.0, "silent", float("nan"), "x", None]), st.floats(-2.0, 2.0))
stories = st.lists(st.tuples(st.integers(1, 30), contacts, st.booleans(), st.booleans()), min_size=1, max_size=8)


@examples(60)
@given(st.sampled_from(["closed", "open"]), st.sampled_from([0, 1, 2]), stories)
def test_an_inhibit_stops_whatever_it_sends_and_nothing_starts_again(
    normally: str, category: int, story: list[tuple[int, Any, bool, bool]]
) -> None:
    """An independent account: the last value of the contact and its time, and the driver's actions since the stop."""
    room = Room(medlar(more=BUMPER + f'normally = "{normally}"\nstop_category = {category}\n'))
    good = 1.0 if normally == "closed" else 0.0
    room.drive(good)
    assert room.ticks[-1].command.vx > 1.0
    said, heard, released = good, room.now, False
    for ticks, contact, held, pushed in story:
        for _ in range(ticks):
            before = room.ticks[-1]
            tick = room.step(pad(float(pushed), held=held), contact)
            if contact != "silent":
                number = isinstance(contact, float) and contact == contact
                said, heard = (contact, room.now) if number else (said, -1.0)
            permits = (said >= 0.5) is (normally == "closed") and room.now - heard <= 0.2
            if not permits:
                assert tick.guard.state is not State.DRIVING
                assert tick.guard.reasons[0].code in ("inhibited", "inhibit_silent")
                assert category > 0 or (tick.command == STANDSTILL and not tick.power)
                assert abs(tick.command.vx) <= abs(before.command.vx) + 1e-9
                assert tick.power == (category == 2) or category == 1
            if tick.guard.state is State.DRIVING and before.guard.state is not State.DRIVING:
                assert released
                assert not pushed
            released = not held or (released and tick.guard.state is not State.DRIVING)


def test_an_inhibit_makes_a_stop_that_is_under_way_more_severe() -> None:
    emergency = 'emergency_stop = "north"\nreset = "south"\nemergency_category = 1'
    room = Room(medlar(emergency, BUMPER + "stop_category = 0\n"))
    rest = {"north": 0.0, "south": 0.0}
    for values in (pad(), pad(held=True)):
        room.run(5, values | rest)
    assert room.run(100, pad(1.0, held=True) | rest).command.vx > 1.0
    ramps = room.run(5, pad(1.0, held=True) | rest | {"north": 1.0})
    assert (ramps.guard.state, ramps.power, ramps.command.vx > 0.5) == (State.EMERGENCY_STOP, True, True)
    cut = room.step(pad(1.0, held=True) | rest, 0.0)
    assert (cut.guard.state, cut.power, cut.command) == (State.EMERGENCY_STOP, False, STANDSTILL)
    assert cut.guard.reasons[0].code == "emergency_stop"


BOAT = """
format = 1
name = "One thruster beside the middle"
source = { kind = "gamepad" }
style = { kind = "arcade", forward = "left_y", turn = "right_x" }
speeds = { forward = 1.0, turn = 1.0 }
limits = { acceleration = 1.0 }
guard = { enable = "south", link_timeout = 1.0 }
[chassis]
kind = "thrusters"
drag = { forward = 1.0, turn = %s }
thrusters.left = { x = 0.0, y = %s, thrust = %s, thrust_back = 1.0 }
"""


@example(4.0, 1.0, 3.0, 0.5, -1.0, -1.0)  # the turn moves it forward, faster than permitted
@examples(40)
@given(
    st.floats(0.5, 6.0), st.floats(-1.5, 1.5), st.floats(0.3, 3.0), st.floats(0.1, 0.9),
    st.floats(-1.0, 1.0), st.floats(-1.0, 1.0),
)  # fmt: skip
def test_what_couples_its_axes_is_no_faster_than_the_share_that_is_left(
    drag: float, beside: float, thrust: float, share: float, forward: float, turn: float
) -> None:
    profile = parse_profile(BOAT % (drag, beside, thrust) + f"{BUMPER}speed_share = {share}\n")
    room, rest = Room(profile), {"left_y": 0.0, "right_x": 0.0, "south": 0.0}
    sticks = {"left_y": -32767.0 * forward, "right_x": -32767.0 * turn}
    for values, ticks in ((rest, 10), (rest | {"south": 1.0}, 10), (rest, 10), (rest | sticks, 100)):
        for _ in range(ticks):
            tick = room.step(values, 0.0)
    assert tick.guard.state is State.DRIVING
    assert abs(tick.command.vx) <= share + 1e-6
    assert abs(tick.command.yaw_rate) <= share + 1e-6


def test_an_inhibit_that_slows_leaves_its_share_within_the_limits() -> None:
    room = Room(medlar(more=BUMPER + "speed_share = 0.25\n"))
    full = room.drive().command.vx
    slow = room.run(150, pad(1.0, held=True), 0.0)
    assert (slow.guard.state, slow.notices[0].code) == (State.DRIVING, "inhibit_slows")
    assert slow.command.vx == pytest.approx(0.25 * full)
    steps = [b.command.vx - a.command.vx for a, b in pairwise(room.ticks)]
    limit = MEDLAR.plan().limits.axes[0]
    assert min(steps) == pytest.approx(-limit[1] * PERIOD)  # no jump down, and none up
    assert room.run(150, pad(1.0, held=True)).command.vx == pytest.approx(full)
    assert room.run(60, pad(1.0, held=True), "silent").command.vx < 0.5 * full


TANK = """format = 1
name = "tank"
source = { kind = "gamepad" }
style = { kind = "tank", left = "left_y", right = "right_y" }
speeds = { forward = 1.0, turn = 1.0 }
limits = { acceleration = %.2f, deceleration = %.2f, turn_acceleration = 4.0 }
guard = { enable = "south", link_timeout = 1.0 }
chassis = { kind = "skid_steer", wheel_radius = 1.0, centre_left = %.2f, centre_right = %.2f }
loop = { rate = 50.0 }
"""
shares = st.floats(-1.0, 1.0)


@example(1.0, 2.0, (1.0, 0.5), 0.125, [(60, (1.0, 1.0), False), (34, (1.0, -1.0), False), (9, (1.0, -1.0), True)])
@examples(40)
@given(
    st.floats(0.3, 4.0), st.floats(0.3, 4.0), st.tuples(st.floats(0.2, 1.5), st.floats(0.2, 1.5)),
    st.floats(0.1, 0.9), st.lists(st.tuples(st.integers(1, 60), st.tuples(shares, shares), st.booleans()), max_size=6),
)  # fmt: skip
def test_nothing_speeds_up_while_an_inhibit_slows_each_side_of_a_tank(
    up: float, down: float, centres: tuple[float, float], share: float, story: list[Any]
) -> None:
    room = Room(parse_profile(TANK % (up, down, *centres) + f"{BUMPER}speed_share = {share}\n"))
    rest = {"left_y": 0.0, "right_y": 0.0, "south": 0.0}
    for values, ticks in ((rest, 10), (rest | {"south": 1.0}, 10), (rest, 10)):
        room.run(ticks, values)
    for ticks, (left, right), inhibits in story:
        for _ in range(ticks):
            before = room.ticks[-1].command
            tick = room.step(rest | {"left_y": -32767.0 * left, "right_y": -32767.0 * right}, float(not inhibits))
            assert tick.guard.state is State.DRIVING
            for now, was in ((tick.command.vx, before.vx), (tick.command.yaw_rate, before.yaw_rate)):
                assert not inhibits or abs(now) <= max(abs(was), share) + 1e-9


@pytest.mark.parametrize(
    ("guard", "more", "said"),
    [
        ("", BUMPER + "speed_share = 0.5\nstop_category = 0\n", "inhibits.bumper.speed_share: expected nothing beside"),
        ("", BUMPER.replace("reads = \"contact\"", "reads = \"kontact\""), "inhibits.bumper.reads: expected one of"),
        ("", BUMPER + '[inhibits.gate]\nsource_of = "bumpr"\nreads = "contact"\n', 'found "bumpr" (did you mean'),
        ("", '[inhibits.gate]\nreads = "axis_77x"\n', "inhibits.gate.reads: expected a control of a gamepad"),
        ('hold_to_run_2 = "left_shoulder"', "", "guard.hold_to_run_2: expected another control than guard.hold_to_run"),
        ('discrepancy_time = "1 s"', "", "guard.discrepancy_time: expected nothing without hold_to_run_2 or"),
        ('emergency_stop_2 = "north"', "", "guard.emergency_stop: expected a control, because guard.emergency_stop_2"),
        ("pressed_through = 0.9", "", "guard.pressed_through: expected nothing where left_shoulder is a button"),
        ('test_at_start = ["emergency stop"]', "", "guard.emergency_stop: expected a control, because guard.test"),
        ('start_warning = "1 s"', "", "guard.start_warning: expected an output of kind start_warning with it"),
        ("", '[outputs.horn]\nkind = "start_warning"\n', "guard.start_warning: expected a time, because outputs.horn"),
        ("", '[outputs.relay]\nkind = "heartbeat"\nwhen_stopped = "keep"\n', "outputs.relay.when_stopped: expected"),
    ],
)  # fmt: skip
def test_what_does_not_fit_is_refused(guard: str, more: str, said: str) -> None:
    with pytest.raises(tenuto.ProfileError) as caught:
        medlar(guard, more)
    assert said in str(caught.value)


def test_inputs_of_one_port_share_its_source() -> None:
    both = BUMPER.replace('"contact"]', '"contact", "volts"]')
    battery = '[inhibits.battery]\nsource_of = "bumper"\nreads = "volts"\non_from = 10.5\nspeed_share = 0.5\n'
    plan = medlar(more=both + battery).plan()
    assert [one.heard_from for one in plan.inputs] == ["bumper", "bumper"]
    pipeline = Pipeline(plan)
    tick = None
    for number, volts in enumerate([12.0] * 60 + [9.0] * 80, start=1):
        now = number * PERIOD
        frame = Frame(now, pad(float(number > 10), held=number > 5))
        tick = pipeline.step(frame, now, others={"bumper": Frame(now, {"contact": 1.0, "volts": volts})})
    assert tick is not None
    assert tick.guard.state is State.DRIVING
    assert tick.command.vx == pytest.approx(0.6)
    assert "battery inhibits: volts is 9, below 10.5: 50 % of the speed" in [notice.text for notice in tick.notices]


SECOND = 'hold_to_run_2 = "right_shoulder"\ndiscrepancy_time = "100 ms"'


@examples(60)
@given(st.lists(st.tuples(st.integers(1, 12), st.booleans(), st.booleans()), min_size=1, max_size=12))
def test_two_channels_must_agree(story: list[tuple[int, bool, bool]]) -> None:
    bench, since, stuck = Bench(medlar(SECOND)), 0, False
    for ticks, one, other in [(5, False, False), (5, True, True), *story, (12, False, False), (3, True, True)]:
        for _ in range(ticks):
            tick = bench.step(pad(held=one) | {"right_shoulder": float(other)})
            since = since + 1 if one is not other else 0
            stuck = (stuck and (one or other)) or since > 6  # 100 ms are five ticks after the first
            assert stuck == (tick.guard.state in (State.FAULT, State.STOPPING) and any(
                reason.code == "channels_disagree" and "disagree" in reason.text for reason in tick.guard.reasons
            )) or not stuck  # fmt: skip
            assert tick.guard.state is not State.DRIVING or (one and other)
    assert tick.guard.state is State.DRIVING  # both released, both pressed: it drives again


def test_either_channel_stops_and_one_that_is_stuck_is_a_fault() -> None:
    keys = 'emergency_stop = "north"\nemergency_stop_2 = "east"\nreset = "south"'
    rest = {"north": 0.0, "east": 0.0, "south": 0.0}
    for button in ("north", "east"):
        bench = Bench(medlar(keys))
        for values in (pad(), pad(held=True), pad(1.0, held=True)):
            bench.run(0.4, values | rest)
        assert bench.step(pad(1.0, held=True) | rest | {button: 1.0}).guard.state is State.EMERGENCY_STOP
        bench.run(0.4, pad() | rest | {button: 1.0})
        bench.run(0.1, pad() | rest)
        bench.run(0.1, pad() | rest | {"south": 1.0})
        bench.run(0.1, pad() | rest)
        assert bench.run(0.1, pad(held=True) | rest).guard.state is State.DRIVING


def test_of_three_positions_only_the_middle_one_permits() -> None:
    text = TEXT.replace('hold_to_run = "left_shoulder"', 'hold_to_run = "right_trigger"\npressed_through = 0.9')
    bench = Bench(parse_profile(text))

    def grip(position: float, ticks: int = 5) -> State:
        for _ in range(ticks):
            bench.step(pad() | {"right_trigger": 32767.0 * position})
        return bench.ticks[-1].guard.state

    assert (grip(0.0), grip(0.7)) == (State.NOT_ENABLED, State.DRIVING)
    assert grip(1.0) is State.NOT_ENABLED  # a cramped hand
    assert (grip(0.7, 30), grip(0.55, 30)) == (State.NOT_ENABLED, State.NOT_ENABLED)  # and a partial release
    assert (grip(0.0), grip(0.7)) == (State.NOT_ENABLED, State.DRIVING)


def test_a_drive_nobody_attends_to_is_told_then_stopped() -> None:
    bench = Bench(medlar('attention = "4 s"'))
    bench.drive(0.5)
    told = bench.run(3.2, pad(1.0, held=True))
    assert (told.guard.state, [notice.code for notice in told.notices]) == (State.DRIVING, ["attention"])
    bench.run(0.1, pad(0.9, held=True))
    assert bench.run(3.0, pad(0.9, held=True)).guard.state is State.DRIVING  # a control was moved
    stopped = bench.run(2.0, pad(0.9, held=True))
    assert (stopped.guard.state, stopped.command) == (State.FAULT, STANDSTILL)
    assert stopped.guard.reasons[0].code == "no_attention"
    bench.run(0.1, pad())
    assert bench.run(0.2, pad(held=True)).guard.state is State.DRIVING


def test_what_stops_it_is_seen_to_work_before_the_first_drive() -> None:
    bench = Bench(medlar('emergency_stop = "north"\nreset = "south"\ntest_at_start = ["emergency stop", "link"]'))
    rest = {"north": 0.0, "south": 0.0}

    def tried() -> list[str]:
        bench.run(0.1, pad() | rest)
        tick = bench.run(0.2, pad(held=True) | rest)
        assert (tick.guard.state is State.DRIVING) == (not tick.guard.reasons)
        return [reason.text for reason in tick.guard.reasons if reason.code == "not_tested"]

    assert len(tried()) == 2
    bench.run(0.5, None)  # the transmitter is off
    assert [text for text in tried() if "link" not in text] == tried() == [
        "test at start: press north, release it, then reset it"
    ]  # fmt: skip
    bench.run(0.1, pad() | rest | {"north": 1.0})
    bench.run(0.1, pad() | rest | {"south": 1.0})
    assert tried() == []
    assert bench.ticks[-1].guard.state is State.DRIVING


def test_a_heartbeat_changes_while_there_is_power_and_not_without() -> None:
    bench = Bench(medlar("released_category = 1", '[outputs.relay]\nkind = "heartbeat"\n'))
    bench.run(0.2, pad())
    assert {tick.outputs["relay"] for tick in bench.ticks} == {0.0}  # power comes with enabling here
    bench.drive(0.5)
    beats = [tick.outputs["relay"] for tick in bench.ticks if tick.power]
    assert len(beats) > 20
    assert all(a != b for a, b in pairwise(beats))
    assert bench.run(2.0, pad()).outputs["relay"] == 0.0
    assert bench.run(0.1, pad()).power is False


@pytest.mark.parametrize("stays", ["false", "true"])
def test_it_warns_before_it_moves(stays: str) -> None:
    horn = f'[outputs.horn]\nkind = "start_warning"\nwhile_driving = {stays}\n'
    bench = Bench(medlar('start_warning = "1 s"', horn))
    bench.run(0.2, pad())
    warned = bench.run(0.5, pad(held=True))
    assert (warned.guard.state, warned.outputs["horn"]) == (State.WAITING_FOR_REST, 1.0)
    assert warned.guard.reasons[0].text == "start warning: 0.5 s more; leave the sticks at rest"
    assert bench.run(0.1, pad()).outputs["horn"] == 0.0  # released: it begins again
    first = len(bench.ticks)
    bench.run(3.0, pad(held=True))
    states = [tick.guard.state for tick in bench.ticks[first:]]
    assert states.index(State.DRIVING) * PERIOD == pytest.approx(1.0, abs=2.0 * PERIOD)
    assert {tick.outputs["horn"] for tick in bench.ticks[first:][: states.index(State.DRIVING)]} == {1.0}
    driven = bench.run(1.0, pad(1.0, held=True))
    assert (driven.command.vx > 0.7, driven.outputs["horn"]) == (True, 1.0 if stays == "true" else 0.0)
    assert bench.run(2.0, pad()).outputs["horn"] == 0.0


def test_attention_counts_from_when_it_is_driven() -> None:
    horn = '[outputs.horn]\nkind = "start_warning"\n'
    bench = Bench(medlar('start_warning = "2 s"\nattention = "1 s"', horn))
    bench.run(0.2, pad())
    bench.run(2.1, pad(held=True))
    assert bench.run(0.8, pad(held=True)).guard.state is State.DRIVING
    assert bench.run(0.4, pad(held=True)).guard.reasons[0].code == "no_attention"


def test_a_link_that_cannot_be_lost_cannot_be_tested() -> None:
    text = shipped("medlar-keyboard.toml").read_text().replace("[guard]\n", '[guard]\ntest_at_start = ["link"]\n')
    with pytest.raises(tenuto.ProfileError, match=r"guard\.test_at_start: expected no link with keyboard"):
        tenuto.parse_profile(text)


class Sender(Hands):
    """Another machine with a driver."""

    def controls(self) -> tuple[ControlInfo, ...]:
        return FOLLOWED

    def poll(self, now: float) -> Frame:
        held = super().poll(now).values["left_shoulder"]
        rest = dict.fromkeys((info.name for info in FOLLOWED), 0.0)
        return Frame(now, rest | {"vx": 0.5 * (now > 0.3), "hold_to_run": held})


@pytest.mark.parametrize("with_reset", [False, True])
@pytest.mark.parametrize(("drive", "hands"), [(tenuto.drive, Hands), (tenuto.follow, Sender)])
def test_a_handle_stops_it_from_anywhere(drive: Any, hands: type[Hands], with_reset: bool) -> None:
    handle, notebook, seen = DriveHandle(), Notebook(), list[Tick]()

    def ask() -> None:
        handle.emergency_stop("gate")
        if with_reset:
            handle.reset()

    def watch(tick: Tick) -> str | None:
        seen.append(tick)
        if len(seen) == 60:
            asked = threading.Thread(target=ask)
            asked.start()
            asked.join()
        if len(seen) == 80:
            handle.end("that was all")
        return "nobody heard it" if len(seen) > 400 else None

    report = drive(MEDLAR, hands(), [notebook], clock=SimulatedClock(), on_tick=watch, handle=handle)
    assert seen[59].guard.state is State.DRIVING
    assert all(tick.guard.state is State.EMERGENCY_STOP for tick in seen[60:])
    assert "gate" in seen[60].guard.reasons[0].text
    assert report.ended == "that was all"
    assert notebook.stops[-1].command == STANDSTILL


def lines_of(path: Path) -> list[dict[str, Any]]:
    return [json.loads(line) for line in path.read_text().splitlines() if line.endswith("}")]


def test_a_record_has_a_line_for_every_change_and_goes_on_with_its_file(tmp_path: Path) -> None:
    record, log = tmp_path / "life.jsonl", tmp_path / "run.csv"
    record.write_text('{"time": 1.0, "what": "driving", "te')  # the power failed
    tenuto.replay(MEDLAR, shipped("orchard-row.csv"), [f"events:{record}", f"log:{log}"])
    lines = lines_of(record)
    states = load_log(log)["guard.state"].tolist()
    changes = [b for a, b in zip([None, *states], states, strict=False) if a != b]
    told = [line["what"] for line in lines if line["what"] in set(State)]
    assert [a for a, b in zip(told, [*told[1:], None], strict=True) if a != b] == changes
    assert (lines[0]["what"], lines[-1]["what"]) == ("begin", "end")
    assert "no good frame for 0.30 s" in next(line["text"] for line in lines if line["what"] == "stopping")
    sink, bench = EventLog(record), Bench()
    sink.start(MEDLAR.plan())
    sink.write(bench.step(pad()))
    sink.start(medlar('attention = "5 s"').plan())
    sink.write(bench.step(pad()))
    sink.close()
    assert lines_of(record)[-1] == {"time": 0.04, "what": "profile", "text": "guard.attention none → 5"}
    with pytest.raises(tenuto.SinkError, match="cannot write events there"):
        EventLog(tmp_path / "nowhere" / "life.jsonl")


@pytest.mark.live
def test_a_record_outlives_a_kill(tmp_path: Path) -> None:
    command = [sys.executable, "-m", "tenuto", "drive", "medlar.toml", "--source", "simulated:gamepad"]
    (tmp_path / "medlar.toml").write_text(TEXT)
    with subprocess.Popen([*command, "--to", "events:life.jsonl"], cwd=tmp_path, stdout=subprocess.DEVNULL) as driver:
        until = time.monotonic() + 60.0
        record = tmp_path / "life.jsonl"
        while not (record.exists() and '"not enabled"' in record.read_text()) and time.monotonic() < until:
            time.sleep(0.02)
        driver.send_signal(signal.SIGKILL)
    assert [line["what"] for line in lines_of(record)][:2] == ["begin", "not enabled"]


def test_a_hold_to_run_that_is_tied_down_does_not_drive_by_the_enabling_button() -> None:
    bench = Bench(medlar('enable = "north"'))
    button = {"north": 0.0}

    def press() -> State:
        bench.run(0.2, pad(held=True) | {"north": 1.0})
        return bench.run(0.2, pad(held=True) | button).guard.state

    bench.run(0.2, pad(held=True) | button)  # from the first frame on
    assert [press() for _ in range(3)] == [State.NOT_ENABLED] * 3
    assert all(tick.guard.state is not State.DRIVING for tick in bench.ticks)
    assert "north is not switched on" in bench.run(0.1, pad() | button).guard.reasons[0].text
    assert bench.run(0.2, pad(held=True) | button).guard.state is State.DRIVING  # released, and pressed again
    assert press() is State.NOT_ENABLED  # the button ends it, while hold-to-run stays on
    assert [press() for _ in range(3)] == [State.NOT_ENABLED] * 3
    bench.run(0.2, pad() | button)
    assert State.DRIVING in (bench.run(0.2, pad(held=True) | button).guard.state, press())


def test_what_is_let_go_of_on_the_way_down_is_no_release() -> None:
    bench = Bench(medlar('enable = "north"'))
    off, on = {"north": 0.0}, {"north": 1.0}
    for values in (pad() | off, pad(held=True) | on, pad(1.0, held=True) | off):
        bench.run(1.5, values)
    assert bench.ticks[-1].command.vx > 1.0
    bench.run(0.2, pad() | off)  # released, and held again while it still moves
    bench.run(2.0, pad(held=True) | off)
    assert bench.ticks[-1].command == STANDSTILL
    bench.run(0.2, pad(held=True) | on)
    assert bench.run(0.2, pad(held=True) | off).guard.state is State.NOT_ENABLED


@pytest.mark.parametrize("category", [1, 2])
def test_a_stop_that_does_not_end_takes_the_power(category: int, monkeypatch: pytest.MonkeyPatch) -> None:
    """A ramp that reduces nothing."""
    bench = Bench(medlar(f"released_category = {category}"))
    bench.drive(2.0)
    monkeypatch.setattr("tenuto.driving.pipeline.ramp_to_stop", lambda before, *_: before)
    monkeypatch.setattr(Pipeline, "_tick", Pipeline._tick.__wrapped__)  # type: ignore[attr-defined]
    bench.run(0.9, pad())
    assert bench.ticks[-1].command.vx > 1.0
    cut = bench.run(0.4, pad())
    assert (cut.command, cut.power) == (STANDSTILL, False)
    assert "stop_overdue" in [reason.code for tick in bench.ticks for reason in tick.guard.reasons]
    bench.run(0.2, pad())
    assert bench.run(0.2, pad(held=True)).guard.state is State.DRIVING


WHEELS = LINES.replace("contact", "speed")


@examples(60)
@given(
    st.integers(0, 20), st.floats(0.05, 0.5), st.sampled_from([1.0, -0.001]),
    st.sampled_from(["none", "sticks", "silent", "no number"]), st.integers(30, 150), st.integers(1, 60),
    st.lists(st.tuples(st.integers(1, 40), st.floats(-1.0, 1.0), st.integers(0, 5)), min_size=4, max_size=10),
)  # fmt: skip
def test_a_robot_that_does_what_it_was_not_told_loses_its_power(
    lag: int, tolerance: float, scale: float, fault: str, begins: int, lasts: int, story: list[tuple[int, float, int]]
) -> None:
    """A robot that follows late may drive; one that runs away, by an independent account of its commands, may not."""
    keys = f'scale = {scale}\ntolerance = {tolerance}\nwithin = {(lag + 2) * PERIOD}\ntimeout = "100 ms"\n'
    pipeline = Pipeline(medlar(more=f"[measured.wheels]\n{WHEELS}{keys}"))
    told, heard, stuck, number, powered, driven = [0.0] * 30, 0.0, 0.0, 0, True, 0
    for ticks, push, held in [(5, 0.0, 0), (30, 0.0, 1), *story]:
        for _ in range(ticks):
            number += 1
            now, wrong = number * PERIOD, fault != "none" and begins <= number < begins + lasts
            silent = wrong and fault in ("silent", "no number")
            stuck = stuck if wrong else told[-1 - lag]
            speed = (stuck if wrong else told[-1 - lag]) + (0.9 if number % 2 else -0.9) * tolerance
            frame = Frame(now, {"speed": speed / scale if not silent else math.nan})
            others = {} if silent and fault == "silent" else {"wheels": frame}
            tick = pipeline.step(Frame(now, pad(push, held=held > 0)), now, others=others)
            codes = {reason.code for reason in tick.guard.reasons}
            heard = now if not silent else heard if fault == "silent" else -math.inf
            if not min(speed - min(near := told[-lag - 3 :]), max(near) - speed) + tolerance >= -1e-9 and not silent:
                assert not powered or (not tick.power and tick.command == STANDSTILL and "speed_wrong" in codes)
            if now - heard > 0.1 + 1e-9:
                assert tick.guard.state is not State.DRIVING
            driven += tick.guard.state is State.DRIVING
            powered = tick.power
            told.append(tick.command.vx)
    if fault == "none":
        assert driven >= 25
        assert powered
