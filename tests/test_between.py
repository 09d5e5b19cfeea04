"""Everything that happened between two ticks counts: in any frame, whatever else is wrong with it."""

import ctypes
import math
import os
import random
import time
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

import tenuto
from helpers import Bench, examples, pad
from tenuto import Frame, Pipeline, Profile, Tick, testing
from tenuto.basics.frame import frames_in
from tenuto.clock import REAL
from tenuto.data import shipped
from tenuto.driving.guard import State
from tenuto.protocols.radio.sbus import encode_sbus
from tenuto.sim.gamepad import VirtualGamepad
from tenuto.sim.hands import Hands
from tenuto.sources.keyboard import Keyboard
from tenuto.sources.port import Piece

BOARD = Path(__file__).parents[1] / "examples/boards/medlar-board.toml"
LIFT = tenuto.load_profile(shipped("medlar-lift.toml"))
MEDLAR_TEXT = shipped("medlar.toml").read_text()
BUMPER = """
[inhibits.bumper]
reads = "contact"
source = { kind = "lines", port = "/dev/ttyACM0", columns = ["contact"] }

[measured.wheels]
reads = "speed"
tolerance = "0.3 m/s"
within = "300 ms"
source = { kind = "lines", port = "/dev/ttyACM1", columns = ["speed"] }
"""


def begun(profile: Profile, seed: int) -> tuple[Pipeline, Hands, float, Tick]:
    """Begin a drive as a careful driver does, with good contacts."""
    plan, dice = profile.plan(), random.Random(seed)
    pipeline, hands, now = Pipeline(plan), Hands(plan), 1.0
    tick = pipeline.step(None, now)
    for number in range(hands.begins + 20):
        now += plan.period
        hands.act("careful", dice, plan.period, number)
        fine = {one.name: Frame(now, {one.reads: one.on_from - (not one.closed)}) for one in plan.inhibits}
        tick = pipeline.step(Frame(now, hands.values()), now, others=fine)
        if tick.guard.state is State.DRIVING:
            break
    return pipeline, hands, now, tick


@examples(40)
@given(testing.any_profile(), st.integers(0, 10**6), st.data())
def test_a_stop_and_a_release_count_in_any_frame_of_any_profile(
    profile: Profile, seed: int, data: st.DataObject
) -> None:
    """Among any number of frames, first or last, and with any other number of the frame bad."""
    plan, guard = profile.plan(), profile.plan().guard
    stops = [name for name in (guard.stop, guard.emergency_stop, guard.emergency_stop_2) if name]
    holds = [name for name in (guard.hold_to_run, guard.hold_to_run_2) if name]
    assume(stops or holds)
    name = data.draw(st.sampled_from([*stops, *holds]))
    early = data.draw(st.booleans())
    if early and name in stops and name != guard.stop:  # an emergency stop counts in the very first tick too
        pipeline, hands, now = Pipeline(plan), Hands(plan), 1.0
    else:
        pipeline, hands, now, tick = begun(profile, seed)
        assume(tick.guard.state is State.DRIVING)
    control = next(one for one in plan.controls if one.name == name)
    values = hands.values()
    event: dict[str, Any] = values | control.raw_at(1.0 if name in stops else 0.0)
    others = [reads for reads in values if reads not in control.all_reads]
    spoiled = bool(data.draw(st.booleans()))
    if others and spoiled:
        bad: list[Any] = [math.nan, 1e12, None, "x", 10**400]
        event[data.draw(st.sampled_from(others))] = data.draw(st.sampled_from(bad))
    count, at = data.draw(st.integers(1, 5)), data.draw(st.integers(0, 4))
    times = [now + plan.period * (number + 1) / count for number in range(count)]
    sent = [Frame(time, event if number == at % count else values) for number, time in enumerate(times)]
    said = pipeline.step(sent[-1]._replace(earlier=tuple(sent[:-1])), times[-1]).guard.state
    assert said is not State.DRIVING
    if name in (guard.emergency_stop, guard.emergency_stop_2):
        assert said is State.EMERGENCY_STOP


@pytest.mark.parametrize("off", [False, True])
@pytest.mark.parametrize("kind", ["momentary", "positions"])
def test_a_lever_that_enables_is_off_in_a_bad_frame_too(kind: str, off: bool) -> None:
    """As of a transmitter whose receiver reports its failsafe: grace tolerates the link, and no release."""
    more = "positions = 2\n" if kind == "positions" else ""
    lever = f'[switches.arm]\nkind = "{kind}"\nreads = "channel_6"\n{more}'
    text = BOARD.read_text().replace('hold_to_run = "channel_5"', 'enable = "arm"\ngrace = "200 ms"\n#')
    bench = Bench(tenuto.parse_profile(text.replace("[style]", lever + "[style]")))

    def step(drive: float, arm: float, good: bool = True) -> Tick:
        bench.now += 0.02
        values = {"channel_1": 1500.0, "channel_2": 1500.0 + 512.0 * drive, "channel_6": 1500.0 + 512.0 * arm}
        return bench.pipeline.step(Frame(bench.now, values, good, "" if good else "failsafe"), bench.now)

    for drive, arm in ((0.0, -1.0), (0.0, 1.0), (1.0, 1.0)):
        for _ in range(20):
            tick = step(drive, arm)
    assert (tick.guard.state, tick.command.vx > 0.1) == (State.DRIVING, True)
    said = step(1.0, -1.0 if off else 1.0, good=False).guard
    assert said.state is (State.STOPPING if off else State.DRIVING)
    assert not off or "arm was switched off" in said.reasons[0].text


@given(st.integers(1, 8), st.integers(0, 7), st.sampled_from(["bumper", "wheels"]), st.booleans())
def test_a_contact_and_a_measured_speed_count_in_any_frame(count: int, at: int, which: str, silent: bool) -> None:
    bench = Bench(tenuto.parse_profile(MEDLAR_TEXT + BUMPER))

    def step(values: dict[str, float], **frames: list[float]) -> Tick:
        bench.now += 0.02
        came = {}
        for name, numbers in frames.items():
            reads = {"bumper": "contact", "wheels": "speed"}[name]
            all_of = [Frame(bench.now - 0.001 * (len(numbers) - n), {reads: one}) for n, one in enumerate(numbers)]
            came[name] = all_of[-1]._replace(earlier=tuple(all_of[:-1]))
        return bench.pipeline.step(Frame(bench.now, values), bench.now, others=came)

    for held in (False, True):
        for _ in range(10):
            tick = step(pad(held=held), bumper=[1.0], wheels=[0.0])
    assert tick.guard.state is State.DRIVING
    usual = {"bumper": 1.0, "wheels": 0.0}[which]
    odd = math.nan if silent else {"bumper": 0.0, "wheels": 0.7}[which]
    numbers = [odd if number == at % count else usual for number in range(count)]
    others = {"bumper": [1.0], "wheels": [0.0]} | {which: numbers}
    assert step(pad(held=True), **others).guard.state is State.FAULT
    assert step(pad(held=True), bumper=[1.0], wheels=[0.0]).power is (which == "bumper" or silent)


def test_a_release_and_a_press_between_two_ticks_stop_and_permit_a_new_start() -> None:
    bench = Bench()
    bench.drive(0.5)
    let_go = Frame(bench.now + 0.01, pad(1.0))
    assert bench.step(pad(1.0, held=True), earlier=(let_go,)).guard.state is State.STOPPING
    assert bench.run(2.0, pad(held=True)).guard.state is State.NOT_ENABLED
    # Standing, it is a release and a press like any other.
    assert bench.step(pad(held=True), earlier=((bench.now + 0.01, pad()),)).guard.state is State.NOT_ENABLED
    assert bench.run(0.1, pad(held=True)).guard.state is State.DRIVING
    # In a frame that is bad otherwise it stops, but it is not the release that a start needs.
    bad = (bench.now + 0.01, pad() | {"left_y": math.nan})
    assert bench.step(pad(held=True), earlier=(bad,)).guard.state is State.FAULT
    for _ in range(100):
        bad = (bench.now + 0.01, pad() | {"left_y": math.nan})
        assert bench.step(pad(held=True), earlier=(bad,)).guard.state is not State.DRIVING
    assert bench.run(1.0, pad(held=True)).guard.state is not State.DRIVING


@pytest.mark.parametrize("time", [math.nan, math.inf, 10**400, "noon", None], ids=list("abcde"))
def test_a_frame_without_a_time_is_a_fault_that_no_grace_tolerates(time: Any) -> None:
    bench = Bench(tenuto.parse_profile(MEDLAR_TEXT.replace("[guard]", '[guard]\ngrace = "500 ms"')))
    bench.drive(0.5)
    tick = bench.pipeline.step(Frame(time, pad(1.0, held=True)), bench.now + 0.02)
    assert (tick.guard.state, tick.guard.reasons[0].code) == (State.STOPPING, "frame_time")


@given(st.sampled_from([10**400, -(10**400), math.nan, None, "x", True, b"", 1e308]), st.integers(0, 3))
def test_whatever_a_number_is_a_step_returns_and_does_not_drive_by_it(odd: Any, where: int) -> None:
    bench = Bench(tenuto.parse_profile(MEDLAR_TEXT + BUMPER))
    frame = Frame(1.0, pad() | {"left_y": odd} if where == 0 else pad())
    frame = frame._replace(time=odd) if where == 1 else frame
    others = {"bumper": Frame(1.0, {"contact": odd}), "wheels": Frame(odd, {"speed": odd})} if where == 2 else {}
    tick = bench.pipeline.step(frame, odd if where == 3 else 1.0, others=others)
    assert tick.guard.state in (State.FAULT, State.NOT_ENABLED)


def events_of(pad: VirtualGamepad, pressed: bool) -> Callable[[], None]:
    """Return what puts a press of the shoulder button into SDL's queue, as a device does between two readings."""
    import sdl2

    event = sdl2.SDL_Event()
    event.type = sdl2.SDL_CONTROLLERBUTTONDOWN if pressed else sdl2.SDL_CONTROLLERBUTTONUP
    event.cbutton.which = sdl2.SDL_JoystickInstanceID(pad._joystick)
    event.cbutton.button, event.cbutton.state = sdl2.SDL_CONTROLLER_BUTTON_LEFTSHOULDER, int(pressed)
    return lambda: sdl2.SDL_PushEvent(ctypes.byref(event))


def test_a_gamepad_reports_what_was_pressed_between_two_readings() -> None:
    with VirtualGamepad() as virtual, tenuto.open_source("gamepad") as source:
        source.poll(0.0)
        source.poll(0.02)
        for pressed in (True, False, True, False):
            events_of(virtual, pressed)()
        frame = source.poll(0.04)
        assert frame is not None
        assert [one.values["left_shoulder"] for one in frames_in(frame)] == [1.0, 0.0, 1.0, 0.0]
        assert source.poll(0.06) == frame._replace(time=0.06, earlier=())


@pytest.mark.parametrize("keys", ["x r", "\r \r"])
def test_a_keyboard_reports_every_key_between_two_readings(keys: str) -> None:
    master, slave = os.openpty()
    keyboard = Keyboard(slave)
    try:
        os.write(master, b"\r")
        keyboard.poll(0.0)
        os.write(master, keys.encode())
        frame = keyboard.poll(0.02)
        assert frame is not None
        states = [(one.values["enable"], one.values["emergency"]) for one in frames_in(frame)]
        assert (0.0, 1.0) in states or (0.0, 0.0) in states
    finally:
        keyboard.close()
        os.close(master)
        os.close(slave)


def test_what_a_receiver_sends_in_failsafe_is_read() -> None:
    """A failsafe that puts the emergency stop on is one, as docs/guard.md says; also if the link is back at once."""
    master, slave = os.openpty()
    try:
        with tenuto.open_source(f"sbus:{os.ttyname(slave)}") as source:
            good, failsafe = [1500.0] * 16, [1500.0] * 6 + [2000.0] + [1500.0] * 9
            for lost in (False, False, False, True, False, False):
                os.write(master, encode_sbus(failsafe if lost else good, failsafe=lost))
            seen, until = list[tuple[bool, int]](), time.monotonic() + 20.0
            while seen[-2:] != [(True, 1500)] * 2 or (False, 2000) not in seen:
                frame = source.poll(0.0)
                came = frames_in(frame) if frame is not None else ()
                seen += [(one.link_good, round(one.values["channel_7"])) for one in came]
                assert all(one.time <= after.time for one, after in pairwise(came))
                assert time.monotonic() < until, seen
    finally:
        os.close(master)
        os.close(slave)


def test_frames_that_waited_in_a_buffer_keep_their_order(monkeypatch: pytest.MonkeyPatch) -> None:
    """Six frames arrive, and three more a millisecond later: faster than the line can send them."""
    master, slave = os.openpty()
    try:
        with tenuto.open_source(f"sbus:{os.ttyname(slave)}") as source:
            data = encode_sbus([1500.0] * 16) * 3
            begun = REAL.now() - 1.0
            came = [Piece(begun, data + data), Piece(begun + 0.001, data)]
            monkeypatch.setattr(source, "_port", SimpleNamespace(pieces=lambda now: came, byte_time=1.2e-4, problem=""))
            frame = source.poll(REAL.now())
            assert frame is not None
            times = [one.time for one in frames_in(frame)]
            assert len(times) >= 4
            assert times == sorted(times)
            monkeypatch.undo()
    finally:
        os.close(master)
        os.close(slave)


@pytest.mark.parametrize("how", ["emergency stop", "fault", "release"])
@pytest.mark.parametrize("kind", ["momentary", "latch", "held", "positions"])
def test_after_every_stop_each_enabling_control_must_have_been_off(kind: str, how: str) -> None:
    """Of hold-to-run and a switch that stays on, releasing the one alone does not start the robot again."""
    text = MEDLAR_TEXT.replace('hold_to_run = "left_shoulder"', 'hold_to_run = "left_shoulder"\nenable = "run"')
    more = 'time = "500 ms"\n' if kind == "held" else ""
    profile = tenuto.parse_profile(f'{text}\n[switches.run]\nkind = "{kind}"\nreads = "right_trigger"\n{more}')
    plan = profile.plan()
    pipeline, hands, now, tick = begun(profile, 1)
    assert tick.guard.state is State.DRIVING
    held = hands.values()
    if how == "emergency stop":
        pipeline.emergency_stop("of a test")
    for number in range(300):
        now += plan.period
        let_go = (how == "release" and number < 10) or 150 < number < 200
        values = held | {"left_shoulder": 0.0} if let_go else held
        if number == 100:
            pipeline.reset()
        odd = {"left_y": math.nan} if how == "fault" and number == 0 else {}
        tick = pipeline.step(Frame(now, {**values, **odd}), now)
        assert tick.guard.state is not State.DRIVING
