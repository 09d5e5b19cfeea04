"""The guard: no motion without permission, and every fault ends in standstill with a reason."""

import math
from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from helpers import CART, MEDLAR, PERIOD, Bench, examples, pad
from tenuto import Frame, State, Tick
from tenuto.basics.frame import Signal
from tenuto.vehicles.velocity import STANDSTILL

PLAN = MEDLAR.plan()


def codes(tick: Tick) -> list[str]:
    return [reason.code for reason in tick.guard.reasons]


def test_nothing_moves_until_held_and_seen_at_rest() -> None:
    bench = Bench()
    assert codes(bench.step(None)) == ["no_frame"]
    assert codes(bench.run(0.1, pad(0.9))) == ["hold_not_pressed", "not_at_rest"]
    tick = bench.run(0.5, pad(0.9, held=True))
    assert (tick.guard.state, codes(tick)) == (State.WAITING_FOR_REST, ["not_at_rest"])
    assert "drive is at +0.90" in tick.guard.reasons[0].text
    assert all(tick.command == STANDSTILL for tick in bench.ticks)
    assert bench.run(0.1, pad(held=True)).guard == (State.DRIVING, ())
    assert bench.run(0.5, pad(0.9, held=True)).command.vx > 0.3


def test_a_control_held_from_the_start_does_not_count_as_pressed() -> None:
    bench = Bench()
    assert codes(bench.run(1.0, pad(held=True))) == ["hold_not_released"]
    bench.run(0.1, pad())
    assert bench.run(0.1, pad(held=True)).guard.state is State.DRIVING


def test_letting_go_stops_at_the_stopping_deceleration_and_wants_a_fresh_press() -> None:
    bench = Bench()
    speed = bench.drive(3.0).command.vx
    assert speed == pytest.approx(1.2)
    bench.run(0.04, pad(1.0))
    tick = bench.run(0.2, pad(1.0, held=True))  # pressed again too early: no effect
    assert codes(tick) == ["hold_released"]
    assert tick.command.vx == pytest.approx(speed - 1.5 * 0.24)
    assert codes(bench.run(2.0, pad(1.0, held=True))) == ["hold_not_released", "not_at_rest"]
    assert bench.ticks[-1].command == STANDSTILL


def test_a_quiet_link_stops_in_time_and_its_return_starts_nothing() -> None:
    bench = Bench()
    bench.drive(3.0)
    quiet_from = bench.now
    bench.run(1.2, None)
    stop = next(tick for tick in bench.ticks if "link_quiet" in codes(tick))
    stood = next(tick for tick in bench.ticks if tick.time > stop.time and tick.command == STANDSTILL)
    assert 0.3 < stop.time - quiet_from <= 0.3 + PERIOD + 1e-9
    assert stood.time - quiet_from <= 0.3 + 1.2 / 1.5 + 2 * PERIOD
    tick = bench.run(2.0, pad(1.0, held=True))
    assert (tick.guard.state, tick.command) == (State.FAULT, STANDSTILL)
    assert codes(tick) == ["link_quiet", "hold_not_released", "not_at_rest"]
    bench.run(0.5, pad(held=True))  # centred, but not released: still nothing
    assert bench.run(0.5, pad(1.0, held=True)).command == STANDSTILL
    assert bench.drive(0.5).command.vx > 0.2  # released, centred, pressed


FAULTS: dict[str, dict[str, Any]] = {
    "value_not_finite": {"values": pad(1.0, held=True) | {"left_y": math.nan}},
    "value_out_of_range": {"values": pad(1.0, held=True) | {"left_y": 99999.0}},
    "control_missing": {"values": {"right_x": 0.0, "left_shoulder": 1.0}},
    "link_bad": {"link_good": False},
    "frame_time": {"time": 1e6},
    "time_backwards": {"dt": -10.0},
    "time_backwards: a frame overtaken by another": {"time": 3.0},
    "loop_stalled": {"dt": 0.5},
}


@pytest.mark.parametrize("fault", FAULTS)
def test_each_fault_is_a_stop_with_its_reason_and_can_be_left(fault: str) -> None:
    bench = Bench()
    speed = bench.drive(3.0).command.vx
    pushed = pad(1.0, held=True)
    tick = bench.step(**({"values": pushed} | FAULTS[fault]))
    assert fault.split(":")[0] in codes(tick)
    assert tick.guard.state is State.STOPPING
    assert tick.command.vx <= speed - 1.5 * PERIOD + 1e-9
    assert bench.run(3.0, pushed).command == STANDSTILL
    assert bench.ticks[-1].guard.state is State.FAULT
    assert bench.drive(1.0).command.vx > 0.5


def test_one_stick_in_its_corner_asks_no_more_than_an_end() -> None:
    one_stick = MEDLAR.model_copy(update={"style": replace(MEDLAR.style, sticks=1)})  # type: ignore[call-arg]
    for profile, forward, turn in ((MEDLAR, 1.0, 1.0), (one_stick, 0.5, 0.5)):
        bench = Bench(profile)
        tick = bench.drive(3.0, forward=1.0, left=1.0)
        assert (tick.intent.forward, tick.intent.turn) == (forward, turn)
        # Full speed and full turn together exceed the wheels: slower, on the demanded arc.
        asked, goes = tick.demand, tick.command
        assert goes.vx / goes.yaw_rate == pytest.approx(asked.vx / asked.yaw_rate)
        fastest = max(tick.actuators.values())
        assert fastest == pytest.approx(min(CART.max_wheel_speed, max(CART.actuators(asked).values())))
    backwards = Bench()
    tick = backwards.drive(3.0, forward=-1.0, left=1.0)
    assert tick.command == pytest.approx((-0.5, 0.0, 0.0, math.pi / 2))  # the stick to the left turns left, backing too


def test_the_end_is_a_ramp_and_halt_is_at_once() -> None:
    bench = Bench()
    bench.drive(2.0)
    bench.pipeline.end("enough for today")
    assert bench.step(pad(1.0, held=True)).guard.reasons == (("ended", "enough for today"),)
    last = bench.pipeline.halt(bench.now)
    assert (last.command, last.guard.reasons) == (STANDSTILL, (("ended", "enough for today"),))
    bench.now += PERIOD
    assert bench.drive(2.0).command == STANDSTILL


sticks = st.sampled_from([0.0, 0.0, 0.01, 0.5, 1.0, -1.0])
segment = st.one_of(
    st.tuples(st.just("sticks"), st.integers(1, 40), sticks, sticks, st.booleans()),
    st.tuples(st.just("enable"), st.integers(1, 30), sticks, sticks, st.just(True)),
    st.tuples(st.just("silence"), st.integers(1, 40)),
    st.tuples(st.just("value"), st.sampled_from([math.nan, math.inf, -math.inf, 1e9, None])),
    st.tuples(st.just("bad link"), st.integers(1, 3)),
    st.tuples(st.just("clock"), st.sampled_from([-5.0, -0.01, 0.0, 0.15, 0.19, 3.0, math.nan])),
    st.tuples(st.just("late frame"), st.sampled_from([-1.0, -0.2, 0.5, math.nan])),
)


def play(bench: Bench, parts: list[tuple[Any, ...]]) -> list[tuple[Frame | None, Tick]]:
    """Convert segments to steps, and return each frame with its tick."""
    values = pad(held=False)
    for kind, *rest in parts:
        if kind in ("sticks", "enable"):
            if kind == "enable":
                bench.run(0.04, pad())
                bench.run(0.04, pad(held=True))
            values = pad(*rest[1:])
            bench.run(rest[0] * PERIOD, values)
        elif kind == "silence":
            bench.run(rest[0] * PERIOD, None)
        elif kind == "value":
            bench.step(values | {"left_y": rest[0]})
        elif kind == "bad link":
            bench.step(values, link_good=False)
        elif kind == "late frame":
            bench.step(values, time=bench.now + rest[0])
        else:
            before = bench.now
            bench.step(values, dt=rest[0])
            bench.now = before if math.isnan(bench.now) else bench.now
    return [(tick.frame if tick.new_frame else None, tick) for tick in bench.ticks]


def acceptable(frame: Frame | None, tick: Tick) -> bool:
    """Return, independently of the pipeline, whether a frame is good."""
    if frame is None or not frame.link_good or not frame.time <= tick.time + PERIOD:
        return False
    return all(isinstance(v, float) and abs(v) < 45800 for v in frame.values.values())


@examples(150)
@given(st.lists(segment, min_size=1, max_size=12))
def test_no_order_of_faults_moves_or_breaks_anything(parts: list[tuple[Any, ...]]) -> None:
    steps = play(Bench(), parts)
    before = steps[0][1]
    released = pressed_at_rest = False
    for frame, tick in steps:
        command, driving = tick.command, tick.guard.state is State.DRIVING
        # Finite, and within the limits of speed, wheel and change.
        assert -0.5 - 1e-9 <= command.vx <= 1.2 + 1e-9
        assert abs(command.yaw_rate) <= math.pi / 2 + 1e-9
        assert max(map(abs, tick.actuators.values())) <= CART.max_wheel_speed * (1 + 1e-9)
        change, _, _, turn_change = (abs(a - b) for a, b in zip(command, before.command, strict=True))
        assert change <= (0.8 if driving else 1.5) * tick.dt + 1e-9
        assert turn_change <= (math.pi if driving else math.tau) * tick.dt + 1e-9
        # Without permission it only becomes slower, with a reason.
        assert driving == (not tick.guard.reasons)
        if not driving:
            assert abs(command.vx) <= abs(before.command.vx)
            assert tick.target == STANDSTILL
            assert command == STANDSTILL or tick.guard.state is State.STOPPING
        # Permission: since the last motion, a release was seen, then a hold with the sticks at rest.
        if before.guard.state is State.DRIVING or before.command != STANDSTILL:
            released = pressed_at_rest = before.guard.state is State.DRIVING
        if frame is not None and acceptable(frame, tick):
            held = frame.values["left_shoulder"] == 1.0
            at_rest = all(abs(frame.values[name] - 983.0) <= 0.08 * 31500 for name in ("left_y", "right_x"))
            released = released or not held
            pressed_at_rest = pressed_at_rest or (released and held and at_rest)
        if driving:
            assert released
            assert pressed_at_rest
        before = tick


def test_silence_still_sends_an_emergency_stop() -> None:
    silent = MEDLAR.model_copy(update={"guard": MEDLAR.guard.model_copy(update={"on_link_loss": "silent"})})
    bench = Bench(silent)
    bench.drive(1.0)
    assert not bench.run(1.0, None).send
    bench.pipeline.emergency_stop("a gate opened")
    tick = bench.run(0.1, None)
    assert (tick.send, tick.command, tick.guard.state) == (True, STANDSTILL, State.EMERGENCY_STOP)


@pytest.mark.parametrize("category", [0, 1])
def test_power_comes_back_by_enabling_only(category: int) -> None:
    changes = {"released_category": category, "emergency_stop": "north", "reset": "south"}
    profile = MEDLAR.model_copy(update={"guard": MEDLAR.guard.model_copy(update=changes)})
    buttons = {"north": 0.0, "south": 0.0}
    bench = Bench(profile)
    bench.run(0.1, pad() | buttons)
    bench.run(0.1, pad(held=True) | buttons)
    assert bench.run(1.0, pad(0.5, held=True) | buttons).power
    assert not bench.run(2.0, pad() | buttons).power
    bench.step(pad() | buttons, link_good=False)  # a fault whose own category leaves the power on
    assert not bench.run(0.5, pad() | buttons).power
    bench.run(0.2, pad() | buttons | {"north": 1.0})
    bench.run(0.2, pad() | buttons)
    assert not bench.run(0.2, pad() | buttons | {"south": 1.0}).power
    assert not bench.pipeline.successor(profile.plan()).step(None, bench.now + 1.0).power
    assert not bench.run(0.2, pad() | buttons).power
    assert bench.run(0.2, pad(held=True) | buttons).power


ABSURD = st.one_of(
    st.floats(), st.none(), st.text(max_size=3), st.integers(-(10**400), 10**400), st.booleans(), st.just([1.0])
)  # fmt: skip


@given(
    st.dictionaries(st.sampled_from(["left_y", "right_x", "left_shoulder", "else"]), ABSURD),
    st.floats() | st.none() | st.text(max_size=2), st.floats(), st.floats(), st.booleans(),
)  # fmt: skip
def test_nothing_that_a_device_can_say_raises_or_moves_it(
    values: dict[str, Any], time: Any, now: float, quality: float, driving: bool
) -> None:
    weak = MEDLAR.model_copy(update={"guard": MEDLAR.guard.model_copy(update={"least_quality": 50.0})})
    bench = Bench(weak)
    if driving:
        bench.drive(0.5)
    before = bench.ticks[-1].command.vx if driving else 0.0
    signal = Signal(quality, -50.0, 5.0)
    tick = bench.pipeline.step(Frame(time, values, signal=signal), bench.now + PERIOD if driving else now)
    assert abs(tick.command.vx) <= abs(before) + 1e-9 or set(pad()) <= set(values)
    for frame in (Frame(bench.now + 0.1, values), Frame(bench.now + 0.1, pad(), signal=signal)):
        tick = bench.pipeline.step(frame, bench.now + 0.1)
        assert all(map(math.isfinite, tick.command))
    if math.isnan(quality):
        assert tick.guard.state is not State.DRIVING
