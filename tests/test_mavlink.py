"""MAVLink: masks, frames and signs, commands with and without an answer, keys, and a drone whose program dies."""

import json
import math
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pymavlink.dialects.v20 import common as dialect

import tenuto
from brokers import free_port, wait_for
from helpers import Bench, Hands, examples, run
from tenuto import Tick, VelocityCommand
from tenuto.clock import MonotonicClock
from tenuto.data import shipped
from tenuto.driving.guard import State
from tenuto.protocols import mavlink
from tenuto.protocols.mavlink import (
    MavlinkLink,
    Member,
    channel_overrides,
    manual_sticks,
    sender,
    velocity_setpoint,
)
from tenuto.runtime.outlet import ThreadOutlet
from tenuto.sim.autopilot import _TAKES, Autopilot
from tenuto.sinks import open_as_said
from tenuto.sinks.function import FunctionSink
from tenuto.sinks.mavlink import MavlinkSink
from tenuto.sinks.orders import POWER_OFF, AutopilotCommand, Order, Orders, order_of, order_of_mode

pytestmark = pytest.mark.port

ROOT = Path(__file__).parents[1]
GUIDED = shipped("damson-guided.toml").read_text()
PAD = dict.fromkeys(
    ("left_y", "left_x", "right_y", "right_x", "left_shoulder", "start", "north", "south", "east", "back"), 0.0
)
HELD = PAD | {"left_shoulder": 1.0}
FULL = -32768.0
COMMANDS = {
    "arm": AutopilotCommand("MAV_CMD_COMPONENT_ARM_DISARM", {1: 1.0}),
    "take off": AutopilotCommand("MAV_CMD_NAV_TAKEOFF", {7: 2.0}, pause=9.0),
    "land": AutopilotCommand("MAV_CMD_NAV_LAND"),
}
speeds = st.floats(-5.0, 5.0, width=32)
# Another process with the standard's own parser, and without Tenuto.
READER = """
import json, sys
from pymavlink.dialects.v20 import common
mav = common.MAVLink(None)
for line in sys.stdin:
    print(json.dumps([message.to_dict() for message in mav.parse_buffer(bytes.fromhex(line))]))
"""


@pytest.mark.long
@examples(8)
@given(st.lists(st.builds(VelocityCommand, speeds, speeds, speeds, speeds), min_size=1, max_size=30))
def test_another_parser_reads_our_axes_in_its_own(commands: list[VelocityCommand]) -> None:
    link, to = MavlinkLink(Member(255, 190)), Member(7, 9)
    lines = [link.pack(velocity_setpoint(to, command, 12_345)).hex() for command in commands]
    lines += [link.pack(manual_sticks(to, command, 500, "right")).hex() for command in commands]
    lines += [link.pack(channel_overrides(to, [1000 + 100 * abs(command.vx)] * 9)).hex() for command in commands]
    said = subprocess.run(
        [sys.executable, "-c", READER], input="\n".join(lines), capture_output=True, text=True, check=True
    ).stdout
    read = [json.loads(line)[0] for line in said.splitlines()]
    count = len(commands)
    for command, velocity, sticks, channels in zip(
        commands, read[:count], read[count : 2 * count], read[2 * count :], strict=True
    ):
        # 1479: no position, no acceleration, no heading. 8: along the body, forward, right, down.
        assert (velocity["type_mask"], velocity["coordinate_frame"]) == (1479, 8)
        assert (velocity["target_system"], velocity["target_component"], velocity["time_boot_ms"]) == (7, 9, 12_345)
        found = (velocity["vx"], -velocity["vy"], -velocity["vz"], -velocity["yaw_rate"])
        assert found == pytest.approx(tuple(command))
        share = [1000 * min(max(value, -1.0), 1.0) for value in command]
        wanted = (share[0], -share[1], 500 + share[2] / 2, -share[3])
        assert [sticks[axis] for axis in "xyzr"] == pytest.approx(wanted, abs=0.51)
        assert [channels[f"chan{n}_raw"] for n in (1, 9)] == pytest.approx([1000 + 100 * abs(command.vx)] * 2, abs=0.51)
        assert (channels["chan10_raw"], sticks["target"]) == (0, 7)


class Flight:
    """A pad, a pipeline, a sink and an autopilot, in steps of 20 ms, as fast as possible."""

    def __init__(
        self, text: str = GUIDED, key: bytes | None = None, loss: float = 0.0, delay: float = 0.0, **options: object
    ) -> None:
        self.profile = tenuto.parse_profile(text)
        self.autopilot = Autopilot(self.profile, key=key, loss=loss, delay=delay)
        options.setdefault("commands", COMMANDS)
        self.sink = MavlinkSink(f"127.0.0.1:{self.autopilot.address[1]}", **options)  # type: ignore[arg-type]
        self.clock = tenuto.SimulatedClock()
        self.sink.clock = self.clock
        self.sink.start(self.profile.plan())
        self.bench = Bench(self.profile)

    def run(self, seconds: float, values: dict[str, float]) -> Tick:
        for _ in range(round(seconds / 0.02)):
            self.clock.sleep_until(self.bench.now + 0.02)
            self.sink.write(self.bench.step(values))
            self.autopilot.step(0.02)
        return self.bench.ticks[-1]

    def take_off(self) -> None:
        self.run(0.2, PAD)
        self.run(0.2, HELD)
        self.run(0.2, HELD | {"start": 1.0})
        self.run(0.2, HELD)
        self.run(0.2, HELD | {"north": 1.0})
        assert self.autopilot.doing == "taking off"
        self.run(4.0, HELD)
        assert self.autopilot.doing == "flying"

    def close(self) -> None:
        self.sink.close()
        self.autopilot.close()


@pytest.fixture
def flight(request: pytest.FixtureRequest) -> Iterator[Flight]:
    made = Flight(**getattr(request, "param", {}))
    yield made
    made.close()


# In the order and signs of its channels: roll right, nose up, throttle, turn right.
PULSES = (
    GUIDED
    + """
[actuators.others]
form = "pulse"
[actuators.sideways]
full = 1.0
reverse = true
[actuators.forward]
full = 1.5
reverse = true
[actuators.climb]
full = 0.8
[actuators.yaw_rate]
full = 1.0472
reverse = true
"""
)
CHANNELS = {"sends": "channels", "channels": ("sideways", "forward", "climb", "yaw_rate")}


@pytest.mark.parametrize(
    "flight",
    [{}, {"sends": "sticks", "middle": 500}, {"text": PULSES, **CHANNELS}],
    ids=["velocity", "sticks", "channels"],
    indirect=True,
)
def test_it_flies_where_the_sticks_point(flight: Flight) -> None:
    robot, steady = flight.autopilot.robot, {"right_y": FULL, "right_x": FULL / 2, "left_y": FULL, "left_x": FULL / 3}
    flight.take_off()
    for stick, value in steady.items():  # forward, left, up, turn left
        before = robot.now
        tick = flight.run(1.5, HELD | {stick: value})
        assert tick.guard.state is State.DRIVING
        moved = {"right_y": robot.now.x - before.x, "right_x": robot.now.y - before.y, "left_y": robot.now.z - before.z,
                 "left_x": robot.now.heading - before.heading}  # fmt: skip
        asked = dict(zip(("right_y", "right_x", "left_y", "left_x"), tick.command, strict=True))[stick]
        now = dict(zip(steady, (robot.now.vx, robot.now.vy, robot.now.vz, robot.now.yaw_rate), strict=True))
        assert now[stick] == pytest.approx(asked, rel=0.1)
        assert moved[stick] > 0.1
        flight.run(4.0, HELD)
        assert robot.standing


def test_no_setpoint_hovers_and_no_station_lands(flight: Flight) -> None:
    flight.take_off()
    flight.run(2.0, HELD | {"right_y": FULL})
    autopilot = flight.autopilot
    for _ in range(100):
        autopilot.step(0.02)
    assert (autopilot.doing, abs(autopilot.robot.now.vx) < 0.05) == ("flying", True)
    flight.run(0.1, HELD | {"right_y": FULL})  # after a silence a standstill must come first
    assert abs(autopilot.robot.now.vx) < 0.05
    for _ in range(600):
        autopilot.step(0.02)
    assert (autopilot.doing, autopilot.armed, autopilot.robot.now.z) == ("on the ground", False, 0.0)
    flight.sink.write(flight.bench.ticks[-1])
    assert 'it says "' in flight.sink.problem


def test_a_command_that_is_denied_or_not_answered_is_told(flight: Flight) -> None:
    flight.run(0.2, PAD)
    flight.run(0.2, HELD)
    flight.run(0.2, HELD | {"north": 1.0})  # not armed
    assert flight.sink.problem.endswith('"take off": denied')
    flight.autopilot.close()
    values = HELD | {"start": 1.0}
    told = []
    for _ in range(200):
        flight.sink.write(flight.bench.step(values))
        told.append(flight.sink.problem)
    assert any(text.endswith('no answer to "arm", which was sent 3 times') for text in told)
    assert "s from system 1" in told[-1]


EMERGENCY = GUIDED.replace("[guard]", '[guard]\nemergency_stop = "east"\nreset = "back"\nemergency_category = 0')


@pytest.mark.parametrize("flight", [{"text": EMERGENCY}], indirect=True)
def test_without_power_it_is_disarmed_in_flight(flight: Flight) -> None:
    flight.take_off()
    flight.run(0.06, HELD | {"east": 1.0})
    assert not flight.autopilot.armed


@pytest.mark.parametrize("flight", [{"text": EMERGENCY}], indirect=True)
def test_the_power_off_is_asked_for_until_it_is_answered(flight: Flight) -> None:
    flight.run(0.4, HELD)
    hears = flight.autopilot
    place = hears.address
    hears.close()  # no autopilot
    off = HELD | {"east": 1.0}
    for _ in range(200):
        flight.sink.write(flight.bench.step(off))
    assert flight.sink.problem  # and it repeats the request:
    with Autopilot(flight.profile, f"{place[0]}:{place[1]}") as again:
        again.armed = True
        for _ in range(60):
            flight.sink.write(flight.bench.step(off))
            again.step(0.02)
        assert not again.armed


@pytest.mark.parametrize("flight", [{"text": EMERGENCY}], indirect=True)
def test_an_answer_to_arming_is_no_answer_to_the_power_off(flight: Flight, monkeypatch: pytest.MonkeyPatch) -> None:
    """Both have one number: only the heartbeat shows whether it is armed, and the command is repeated until it does."""
    flight.run(0.4, HELD)
    pilot, number = flight.autopilot, 0

    def late(pilot: Autopilot, message: Any) -> None:  # it accepts, and does nothing: an old answer, or a lie
        if number < 200:
            pilot._send(dialect.MAVLink_command_ack_message(400, 0, 0, 0, *sender(message)))
        else:
            pilot._take_command(message)

    monkeypatch.setitem(_TAKES, "COMMAND_LONG", late)
    pilot.armed = True
    off, told = HELD | {"east": 1.0}, set[str]()
    for number in range(300):  # noqa: B007 - the autopilot reads it
        flight.sink.write(flight.bench.step(off))
        pilot.step(0.02)
        told.add(flight.sink.problem)
    assert not pilot.armed
    assert any("still armed, and it should be off" in text for text in told), told


@pytest.mark.parametrize("flight", [{}], indirect=True)
def test_a_take_off_that_is_asked_for_before_driving_is_not_broken_off(flight: Flight) -> None:
    text = GUIDED.replace('press = "north"', 'press = "north"\nwhen = "any time"')
    flight.bench = Bench(tenuto.parse_profile(text))
    flight.autopilot.armed = True
    flight.run(0.4, PAD)
    flight.run(0.2, PAD | {"north": 1.0})
    assert flight.autopilot.doing == "taking off"
    flight.run(2.5, PAD)
    assert flight.autopilot.robot.now.z > 1.0
    flight.run(0.1, HELD | {"left_y": FULL})  # driving then aborts it
    flight.run(0.1, HELD)


def test_what_is_no_number_may_stand_where_the_standard_has_a_meaning_for_it() -> None:
    key, profile = "sinks.autopilot.commands.take off.parameters", tenuto.parse_profile(GUIDED)
    options = profile.with_(**{key: {"4": math.nan, "7": 2.0}}).sinks["autopilot"]
    assert math.isnan(options.commands["take off"].parameters["4"])  # type: ignore[attr-defined]
    for wrong in ({"7": math.nan}, {"4": math.inf}):
        with pytest.raises(tenuto.ProfileError, match="expected a number, or nan for the heading and place"):
            profile.with_(**{key: wrong})


def test_an_autopilot_that_is_started_again_from_another_port_is_spoken_to(flight: Flight) -> None:
    port = free_port(socket.SOCK_DGRAM)
    bench, sink = Bench(flight.profile), tenuto.open_sink(f"mavlink::{port}")
    with sink:
        sink.start(flight.profile.plan())
        for again in range(2):
            with Autopilot(flight.profile, speaks_to=f"127.0.0.1:{port}") as autopilot:
                for _ in range(100 + 250 * again):
                    sink.write(bench.step(PAD))
                    autopilot.step(0.02)
                assert autopilot.good > 20, "spoken to" + again * " again"


def test_a_sink_that_is_said_on_the_command_line_keeps_the_commands_of_the_profile(flight: Flight) -> None:
    place = f"mavlink:127.0.0.1:{flight.autopilot.address[1]}"
    flight.sink.close()
    (sink,) = open_as_said([place], flight.profile)
    assert isinstance(sink, MavlinkSink)
    flight.sink = sink
    sink.start(flight.profile.plan())
    for values in (PAD, HELD, HELD | {"start": 1.0}):
        flight.run(0.2, values)
    assert flight.autopilot.armed


MODES = {
    "text": GUIDED[: GUIDED.index("[sinks")] + '[switches.flight]\nkind = "cycle"\nreads = "east"\npositions = 2\n',
    "modes": {"hold": 3, "guided": 4}, "mode": "guided", "mode_switch": "flight", "mode_order": ("hold", "guided"),
}  # fmt: skip


@pytest.mark.parametrize("flight", [MODES], indirect=True)
def test_an_autopilot_in_another_mode_does_not_follow_and_a_switch_asks_for_the_mode(flight: Flight) -> None:
    pilot, sink = flight.autopilot, flight.sink
    pilot.takes_in, pilot.mode, pilot.refuses = 4, 3, frozenset((dialect.MAV_CMD_DO_SET_MODE,))
    flight.run(1.5, PAD)
    said = sink.telemetry
    assert (said.follows, said.mode, said.armed, said.flying) == (False, "hold", False, False)
    assert said.reasons == ("it is not armed", "its mode is hold, and it takes our commands in guided")
    flight.run(1.0, HELD)
    flight.run(0.2, HELD | {"start": 1.0, "east": 1.0})  # the switch selects guided, and is refused
    flight.run(1.0, HELD)
    assert '"mode guided": temporarily rejected' in sink.problem
    pilot.refuses = frozenset()
    flight.run(7.0, HELD)  # it is repeated until the heartbeat confirms it
    assert (pilot.mode, pilot.armed, sink.telemetry.mode, sink.problem) == (4, True, "guided", "")
    assert sink.telemetry.follows
    sink.only_looks = True  # as in preflight: neither a switch nor a stop sends a request
    flight.run(1.0, HELD | {"east": 1.0})
    sink.write(flight.bench.ticks[-1]._replace(power=False))
    flight.run(1.0, HELD)
    assert (pilot.mode, pilot.armed) == (4, True)
    sink.only_looks = False
    pilot.mode = 3  # another station changed the mode: it is left alone
    flight.run(3.0, HELD)
    assert (pilot.mode, sink.telemetry.follows) == (3, False)


def test_a_mode_that_is_refused_for_ever_holds_up_no_landing_and_no_power_off() -> None:
    orders = Orders()
    land = order_of("land", COMMANDS["land"])
    orders.add(order_of_mode("guided", 4))
    assert orders.due(0.0) == (order_of_mode("guided", 4), 0)
    orders.answered(dialect.MAV_CMD_DO_SET_MODE, dialect.MAV_RESULT_DENIED, 0.1)
    orders.add(land)
    assert orders.due(0.2) == (land, 0)
    orders.add(Order(POWER_OFF, *mavlink.POWER_OFF, armed=False, lasts=True))
    found = orders.due(0.3)
    assert found is not None
    assert found[0].name == POWER_OFF
    orders.seen(False, 3, 1.0)
    assert orders.due(1.1) == (land, 0)
    orders.answered(land.number, dialect.MAV_RESULT_ACCEPTED, 1.2)
    assert orders.due(1.3) == (order_of_mode("guided", 4), 0), "and the mode is asked for again"


def test_messages_of_no_dialect_are_no_loss_and_no_sign_of_life(flight: Flight) -> None:
    """Autopilots have their own dialects: an unknown message each time, in the same sequence of numbers."""
    plain = flight.autopilot._speak

    def speaks_a_dialect() -> None:
        plain()
        for _ in range(3):
            data = bytearray(flight.autopilot.link.pack(dialect.MAVLink_heartbeat_message(2, 0, 0, 0, 3, 3)))
            data[7:10] = (60_001).to_bytes(3, "little")
            flight.autopilot._from_it.put(bytes(data), 0.0)

    flight.autopilot._speak = speaks_a_dialect  # type: ignore[method-assign]
    flight.run(3.0, PAD)
    assert flight.sink.telemetry.loss == 0.0
    flight.autopilot.speaks = False  # not even to acknowledge
    flight.run(0.1, PAD)
    heard = flight.sink.telemetry.time
    flight.autopilot.link.pack(dialect.MAVLink_heartbeat_message(2, 0, 0, 0, 3, 3))
    for _ in range(50):
        data = bytearray(flight.autopilot.link.pack(dialect.MAVLink_heartbeat_message(2, 0, 0, 0, 3, 3)))
        data[7:10] = (60_001).to_bytes(3, "little")
        flight.autopilot._udp.send(bytes(data))
        flight.run(0.1, PAD)
    assert flight.sink.telemetry.time == pytest.approx(heard, abs=1e-9)


def test_it_says_how_it_flies(flight: Flight) -> None:
    flight.take_off()
    flight.run(2.0, HELD | {"right_y": FULL, "left_x": FULL / 2})
    here, said = flight.autopilot.robot.now, flight.sink.telemetry
    assert (said.x, said.y, said.height) == pytest.approx((here.x, here.y, here.z), abs=0.2)
    turned = math.remainder(said.heading - here.heading, math.tau)
    assert abs(turned) < 0.1
    assert (said.vx, said.vy, said.yaw_rate) == pytest.approx((here.vx, here.vy, here.yaw_rate), abs=0.1)
    assert (said.voltage, said.charge) == pytest.approx((12.4, 0.94), abs=0.01)
    assert said.flying
    assert said.armed
    assert 0.0 < said.round_trip < 0.1
    assert said.loss == pytest.approx(0.0)
    flight.autopilot.speaks = False
    flight.run(4.0, HELD)
    late = flight.sink.telemetry
    assert (late.armed, late.mode, late.follows) == (None, "", None), "what is old says nothing"
    assert math.isnan(late.x + late.heading)


@pytest.mark.parametrize(
    "flight", [{"frame": name} for name in ("body_ned", "body_offset_ned", "body_frd", "local_ned")], indirect=True
)
def test_it_goes_ahead_of_its_nose_in_every_frame(flight: Flight) -> None:
    flight.take_off()
    flight.run(2.0, HELD | {"left_x": FULL})  # two thirds of a circle, or so, to the left
    flight.run(1.0, HELD)
    before = flight.autopilot.robot.now
    assert abs(before.heading) > 1.0
    flight.run(3.0, HELD | {"right_y": FULL})
    here = flight.autopilot.robot.now
    way = math.atan2(here.y - before.y, here.x - before.x)
    assert abs(math.remainder(way - before.heading, math.tau)) < 0.1
    assert math.hypot(here.x - before.x, here.y - before.y) > 2.0


@pytest.mark.parametrize("flight", [{"loss": 0.33, "delay": 0.06}], indirect=True)
def test_over_a_link_that_loses_a_third_and_is_slow_it_is_still_flown_and_its_figures_are_known(flight: Flight) -> None:
    flight.run(0.2, PAD)
    flight.run(0.2, HELD)
    flight.run(2.0, HELD | {"start": 1.0})  # requested up to three times
    assert flight.autopilot.armed
    flight.run(0.2, HELD)
    flight.run(6.0, HELD | {"north": 1.0})
    assert flight.autopilot.doing == "flying"
    flight.run(5.0, HELD | {"right_y": FULL})
    telemetry = flight.sink.telemetry
    assert telemetry.vx > 1.0
    assert telemetry.loss == pytest.approx(0.33, abs=0.1)
    assert telemetry.round_trip == pytest.approx(0.12, abs=0.05)  # the resolution is one step


def test_without_a_key_another_one_who_speaks_takes_nothing_and_is_told(flight: Flight) -> None:
    port = free_port(socket.SOCK_DGRAM)
    bench, sink = Bench(flight.profile), tenuto.open_sink(f"mavlink::{port}")
    barred = tenuto.open_sink(f"mavlink::{free_port(socket.SOCK_DGRAM)},only=192.0.2.1")
    first = Autopilot(flight.profile, speaks_to=f"127.0.0.1:{port}")
    second = Autopilot(flight.profile, speaks_to=f"127.0.0.1:{port}")
    assert isinstance(barred, MavlinkSink)
    other = Autopilot(flight.profile, speaks_to=f"127.0.0.1:{barred._port._udp.address[1]}")  # type: ignore[union-attr]
    with sink, barred, first, second, other:
        for one in (sink, barred):
            one.start(flight.profile.plan())
        for step in range(150):
            sink.write(bench.step(PAD))
            barred.write(bench.ticks[-1])
            first.step(0.02)
            other.step(0.02)
            if step > 20:
                second.step(0.02)
        assert (first.good > 40, second.good, other.good) == (True, 0, 0)
        _, number = second.address
        assert f"another sender uses system 1, from 127.0.0.1:{number}: use a key" in sink.problem
        assert barred.telemetry.time == -math.inf, "who is not the one host is not heard"


def test_half_a_datagram_costs_no_more_than_itself() -> None:
    link, out = MavlinkLink(Member(255, 190)), MavlinkLink(Member(1, 1))
    whole = [out.pack(dialect.MAVLink_heartbeat_message(2, 0, 0, 0, 3, 3)) for _ in range(30)]
    heard = [link.feed(data[: 14 if number == 3 else None], whole=True) for number, data in enumerate(whole)]
    assert [len(messages) for messages in heard] == [number != 3 for number in range(30)]


def test_what_it_says_reaches_the_terminal_as_text(flight: Flight) -> None:
    flight.run(0.1, PAD)
    flight.autopilot._tell(4, "low \x1b[2J\x07battery\n")
    flight.run(0.1, PAD)
    assert flight.sink.problem.endswith('it says "low �[2J�battery�"')


def test_it_waits_for_an_autopilot_that_speaks_first() -> None:
    profile, port = tenuto.parse_profile(GUIDED), free_port(socket.SOCK_DGRAM)
    bench, sink = Bench(profile), tenuto.open_sink(f"mavlink::{port}")
    with sink, Autopilot(profile, speaks_to=f"127.0.0.1:{port}") as autopilot:
        sink.start(profile.plan())
        for _ in range(100):
            sink.write(bench.step(PAD))
            autopilot.step(0.02)
        assert autopilot.good > 20
        assert not sink.problem


KEY = bytes(range(32))


def test_only_the_right_key_moves_anything(tmp_path: Path) -> None:
    file = tmp_path / "orchard.key"
    file.write_text(KEY.hex())
    with pytest.raises(tenuto.SinkError, match="other users can read it"):
        MavlinkSink("127.0.0.1:1", key=str(file))
    file.chmod(0o600)
    good = Flight(key=KEY)
    good.run(0.4, PAD)  # this one does not sign
    assert (good.autopilot.good, good.autopilot.link.bad > 10) == (0, True)
    good.close()
    assert run("key", "other.key", cwd=tmp_path).returncode == 0
    assert run("key", "other.key", cwd=tmp_path).returncode == 1  # an existing one is never overwritten
    for name, moves in (("orchard.key", True), ("other.key", False)):
        profile = tenuto.parse_profile(GUIDED)
        with Autopilot(profile, key=KEY) as autopilot:
            sink = MavlinkSink(f"127.0.0.1:{autopilot.address[1]}", key=str(tmp_path / name))
            sink.start(profile.plan())
            for tick in [Bench(profile).run(0.1, PAD)] * 5:
                sink.write(tick)
                autopilot.step(0.02)
            assert (autopilot.good > 0) is moves
            sink.close()


def flown_at(path: Path) -> float:
    try:
        return float(pd.read_csv(path).vx.max())
    except (OSError, pd.errors.EmptyDataError, AttributeError):
        return 0.0


def height_at(path: Path) -> float:
    return float(pd.read_csv(path, on_bad_lines="skip").z.iloc[-2])


@pytest.mark.live
def test_a_killed_driver_lets_the_drone_down(tmp_path: Path) -> None:
    """The driver and the autopilot are processes of their own, by the shipped commands."""
    place = f"127.0.0.1:{free_port(socket.SOCK_DGRAM)}"
    (tmp_path / "mine.toml").write_text(
        GUIDED.replace("127.0.0.1:14550", place).replace("7 = 2.0", "7 = 1.0") + '[loop]\nstall_timeout = "2 s"\n'
    )
    command = [sys.executable, "-m", "tenuto", "robot", "mine.toml", "--mavlink", place, "--log", "flight.csv"]
    code = (ROOT / "examples/drone_over_mavlink.py").read_text()
    flown = code[: code.index("path, clock = ")] + (
        'profile = tenuto.load_profile("mine.toml")\n'
        "with tenuto.open_sinks(profile)[0] as sink:\n"
        '    tenuto.drive(profile, FunctionSource("pad", PAD, pad), [sink], on_tick=tell)\n'
    )
    log = tmp_path / "flight.csv"
    with subprocess.Popen(command, cwd=tmp_path, stdout=subprocess.PIPE, text=True) as robot:
        try:
            assert robot.stdout is not None
            robot.stdout.readline()
            for _ in range(3):  # on a machine that stalls for seconds the flight ends correctly
                with subprocess.Popen([sys.executable, "-c", flown], cwd=tmp_path) as driver:
                    wait_for(lambda: flown_at(log) > 1.3 or driver.poll() is not None, 120.0)
                    driver.kill()
                if flew := flown_at(log) > 1.3:
                    break
            assert flew
            time.sleep(0.5)
            killed = pd.read_csv(log).iloc[-1]
            assert wait_for(lambda: height_at(log) == 0.0, 60.0)
            time.sleep(0.5)  # and it stands still
            robot.send_signal(signal.SIGINT)
            said = robot.stdout.read()
        finally:
            robot.kill()
    path = pd.read_csv(log)
    assert 1.25 < path.vx.max() < 1.6  # it did fly
    after = path[path.time > killed.time + 1.5]
    assert math.hypot(after.x.iloc[-1] - killed.x, after.y.iloc[-1] - killed.y) < 1.5
    assert after.vx.abs().max() < 0.1
    assert after.z.iloc[-1] == 0.0
    assert "on the ground, not armed" in said


@pytest.mark.live
def test_an_action_is_not_lost_between_two_setpoints_and_never_comes_late() -> None:
    text = GUIDED[: GUIDED.index("[sinks")]
    patient = tenuto.parse_profile(text + '[loop]\nstall_timeout = "2 s"\n')
    seen: list[Tick] = []

    class Pad(Hands):
        def controls(self) -> tuple[tenuto.basics.layouts.ControlInfo, ...]:
            return tuple(tenuto.basics.layouts.ControlInfo(name, 0, 1, 0) for name in PAD)

        def poll(self, now: float) -> tenuto.Frame:
            values = PAD | {"left_shoulder": float(now > 0.1), "start": float(0.5 < now < 0.8)}
            return tenuto.Frame(now, values)

    tenuto.drive(
        patient, Pad(), [FunctionSink("seldom", seen.append, rate=4.0)], clock=tenuto.SimulatedClock(),
        on_tick=lambda tick: "done" if tick.time > 1.6 else None,
    )  # fmt: skip
    assert [tick.actions for tick in seen if tick.actions] == [("arm",)]
    # A sink that hung for longer gets no "arm" when it continues.
    hung, free = list[Tick](), threading.Event()

    def slow(tick: Tick) -> None:
        hung.append(tick)
        if len(hung) == 1:
            free.wait()

    outlet = ThreadOutlet(FunctionSink("hung", slow), MonotonicClock())
    outlet.start(patient.plan())
    outlet.give(seen[0])
    assert wait_for(lambda: len(hung) == 1)
    for late in range(20):
        outlet.give(seen[0]._replace(time=1.0 + 0.1 * late, valid_for=0.5, actions=("arm",) if late == 0 else ()))
    free.set()
    assert wait_for(lambda: len(hung) == 2)
    assert hung[1].actions == ()
    outlet.stop(seen[-1])
    outlet.wait(2.0)


def test_settings_that_would_surprise_are_refused() -> None:
    plan = tenuto.parse_profile(GUIDED).plan()
    with MavlinkSink("127.0.0.1:9", sends="sticks") as sink, pytest.raises(tenuto.SinkError, match="middle = 500"):
        sink.start(plan)
    with MavlinkSink("127.0.0.1:9", sends="channels") as sink, pytest.raises(tenuto.SinkError, match="no pulses"):
        sink.start(plan)
    with pytest.raises(tenuto.SinkError, match="MAV_CMD_FETCH is not a MAVLink command"):
        MavlinkSink("127.0.0.1:9", commands={"fetch": AutopilotCommand("MAV_CMD_FETCH")})
    with pytest.raises(tenuto.SinkError, match="expected an address like"):
        tenuto.open_sink("mavlink:here:there")
    for old, new, said in (
        ("commands.land]", "commands.fly]", 'sinks.autopilot.commands."fly": expected an action of the profile: arm'),
        ("7 = 2.0", "8 = 2.0", "expected numbers 1 to 7"),
        ('address = "127.0.0.1:14550"', "", "sinks.autopilot.address: expected an address"),
    ):
        with pytest.raises(tenuto.ProfileError) as caught:
            tenuto.parse_profile(GUIDED.replace(old, new))
        assert said in str(caught.value)
