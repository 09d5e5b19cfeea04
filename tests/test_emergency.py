"""The guard's table, its emergency stop and stop categories, other ways to enable, and the robot's own watchdog."""

import math
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import MEDLAR, PERIOD, Bench, Hands, Notebook, pad
from tenuto import Frame, State, Tick
from tenuto.basics.frame import Signal
from tenuto.basics.layouts import ControlInfo
from tenuto.calibration import Calibration, ControlCalibration
from tenuto.data import shipped
from tenuto.driving.guard import TABLE, Event
from tenuto.driving.watchdog import CommandWatchdog
from tenuto.sim import simulated_robot
from tenuto.vehicles.units import METRIC
from tenuto.vehicles.velocity import STANDSTILL

TEXT = shipped("medlar.toml").read_text()
BUTTONS = {"north": 0.0, "south": 0.0, "west": 0.0}
HELD, AHEAD = pad(held=True) | BUTTONS, pad(1.0, held=True) | BUTTONS


def medlar(guard: str, more: str = "") -> Bench:
    return Bench(tenuto.parse_profile(TEXT.replace("[guard]\n", f"[guard]\n{guard}\n") + more))


def driving(guard: str, more: str = "") -> Bench:
    bench = medlar(guard, more)
    bench.run(0.1, pad() | BUTTONS)
    bench.run(0.1, HELD)
    assert bench.run(2.0, AHEAD).command.vx > 1.0
    return bench


def codes(tick: Tick) -> list[str]:
    return [reason.code for reason in tick.guard.reasons]


def test_the_docs_have_the_table_of_the_code() -> None:
    text = (Path(__file__).parents[1] / "docs/guard.md").read_text().split("\n## Conditions for a start")[0]
    rows = [tuple(cell.strip() for cell in line.strip("|").split("|")) for line in text.splitlines() if line[:1] == "|"]
    assert [row[:3] for row in rows[2:]] == [
        (str(state), str(event), str(row.after)) for (state, event), row in TABLE.items()
    ]
    # After any event, driving begins only with sticks at rest, and only in the state after hold-to-run.
    into = [(state, event) for (state, event), row in TABLE.items() if row.after is State.DRIVING]
    assert into == [(State.WAITING_FOR_REST, Event.RESTED)]
    assert all((state, Event.EMERGENCY) in TABLE for state in State)


EMERGENCY = 'emergency_stop = "north"\nreset = "south"'


@pytest.mark.parametrize("category", [0, 1])
def test_the_emergency_stop_wins_is_latched_and_wants_reset_and_a_fresh_enable(category: int) -> None:
    bench = driving(f"{EMERGENCY}\nemergency_category = {category}")
    before = bench.ticks[-1].command.vx
    tick = bench.step(AHEAD | {"north": 1.0})
    assert (tick.guard.state, codes(tick)) == (State.EMERGENCY_STOP, ["emergency_stop"])
    assert tick.command.vx == (0.0 if category == 0 else pytest.approx(before - 1.5 * PERIOD))
    assert tick.power == (category == 1)
    tick = bench.run(2.0, AHEAD)
    assert (tick.guard.state, tick.command, tick.power) == (State.EMERGENCY_STOP, STANDSTILL, False)
    assert bench.run(0.2, AHEAD | {"north": 1.0, "south": 1.0}).guard.state is State.EMERGENCY_STOP  # still pushed
    bench.run(0.2, AHEAD)
    tick = bench.run(0.2, AHEAD | {"south": 1.0})
    assert (tick.guard.state, codes(tick)) == (State.NOT_ENABLED, ["hold_not_released", "not_at_rest"])
    assert bench.run(1.0, AHEAD).command == STANDSTILL  # a reset permits a start; it never causes one
    bench.run(0.1, pad() | BUTTONS)
    bench.run(0.1, HELD)
    tick = bench.run(1.0, AHEAD)
    assert tick.command.vx > 0.5
    assert tick.power


def test_a_program_may_call_the_emergency_stop_before_anything_was_enabled() -> None:
    bench = medlar("")
    bench.pipeline.emergency_stop("smoke in the shed")
    for held in (False, True, False, True):
        tick = bench.run(0.1, pad(held=held))
    assert tick.guard.reasons[0].text == "emergency stop: smoke in the shed; reset it to go on"
    bench.run(0.5, None)  # a fault on top of it changes nothing
    assert bench.ticks[-1].guard.state is State.EMERGENCY_STOP
    bench.pipeline.reset()
    bench.run(0.1, pad(held=True))
    assert bench.ticks[-1].command == STANDSTILL
    assert bench.drive(1.0).command.vx > 0.5


@pytest.mark.parametrize(
    ("category", "speed", "power"), [(0, 0.0, [False, False]), (1, 1.17, [True, False]), (2, 1.17, [True, True])]
)
def test_stop_categories_of_letting_go_and_of_faults(category: int, speed: float, power: list[bool]) -> None:
    for key, values in (("released", pad(1.0)), ("fault", {})):
        bench = driving(f"{key}_category = {category}", '[actuators.wheels]\nform = "pulse"\n')
        tick = bench.step(values | BUTTONS)
        assert tick.command.vx == pytest.approx(speed, abs=1e-6)
        assert [tick.power, bench.run(2.0, values | BUTTONS).power] == power
        assert bench.ticks[-1].wire["left_wheel.pulse"] == (1500.0 if power[1] else 0.0)
        assert bench.ticks[-1].command == STANDSTILL


def test_enabling_by_a_switch_alone_and_besides_hold_to_run() -> None:
    for held in (True, False):  # hold-to-run too, or the switch alone
        text = TEXT.replace(
            'hold_to_run = "left_shoulder"', 'enable = "west"' + ('\nhold_to_run = "left_shoulder"' * held)
        )
        bench = Bench(tenuto.parse_profile(text))
        rest, ahead = pad(held=held) | BUTTONS, pad(1.0, held=held) | BUTTONS
        bench.run(0.2, rest)
        tick = bench.run(0.5, ahead)
        assert tick.command == STANDSTILL
        assert ("press west to drive" in tick.guard.reasons[0].text) == (not held)
        bench.run(0.2, rest)
        if held:
            bench.run(0.1, pad() | BUTTONS)
        bench.run(0.1, rest | {"west": 1.0})
        assert bench.run(1.0, ahead).command.vx > 0.5
        bench.run(1.5, None)  # the link goes quiet: a stop needs a fresh enable
        assert bench.run(1.0, ahead).command == STANDSTILL
        bench.run(0.2, pad() | BUTTONS)
        assert bench.run(0.5, rest).guard.state is State.NOT_ENABLED
        bench.run(0.1, rest | {"west": 1.0})
        bench.run(0.1, rest)
        assert bench.run(1.0, ahead).command.vx > 0.5
        bench.run(0.1, ahead | {"west": 1.0})  # pressed again, it stops
        assert bench.run(2.0, ahead).command == STANDSTILL


def test_a_link_that_settles_a_mode_that_may_not_start_and_a_weak_radio() -> None:
    bench = medlar('link_good_for = "1 s"')
    bench.run(0.3, pad())
    tick = bench.run(0.3, pad(held=True))
    assert tick.guard.reasons[-1].text.startswith("the link has been good for 0.")
    assert bench.run(0.6, pad(held=True)).guard.state is State.DRIVING
    bench.run(1.0, None)
    bench.run(0.2, pad())
    assert codes(bench.run(0.5, pad(held=True)))[-1] == "link_settling"  # a lost link has to settle again
    lift = shipped("medlar-lift.toml").read_text().replace("fallback = true", "fallback = true\nmay_start = false")
    shed = Bench(tenuto.parse_profile(lift))
    rest = {name: 0.0 for control in shed.pipeline.plan.controls for name in control.all_reads}
    shed.run(0.2, rest)
    tick = shed.run(0.2, rest | {"left_shoulder": 1.0})
    assert codes(tick)[-1] == "mode_may_not_start"
    shed.run(0.2, rest | {"left_shoulder": 1.0, "west": 1.0})
    assert shed.ticks[-1].guard.state is State.DRIVING  # in the other mode it may start
    weak = driving("least_quality = 60")
    tick = weak.step(AHEAD, signal=Signal(40.0, -95.0, 2.0))
    assert tick.guard.reasons[0].text == "only 40 % of the radio's frames arrive (least_quality 60 %)"


def test_numbers_that_stand_still_where_they_never_do() -> None:
    profile = tenuto.parse_profile(TEXT)
    noisy = ControlCalibration("middle", -30454.0, 30454.0, 983.0, noise=120.0, dead_zone=0.03)
    dice = np.random.default_rng(4)
    for measured in (True, False):
        calibration = Calibration("", "pad", {"left_y": noisy, "right_x": noisy}) if measured else None
        bench = Bench(profile.calibrated(calibration))

        def alive(values: dict[str, float]) -> dict[str, float]:
            return values | {name: values[name] + round(dice.normal(0, 120)) for name in ("left_y", "right_x")}

        for held, forward, steps in ((False, 0.0, 5), (True, 0.0, 5), (True, 0.9, 150)):
            for _ in range(steps):
                tick = bench.step(alive(pad(forward, held=held)))
        assert tick.command.vx > 0.8
        at_its_end = pad(1.0, held=True) | {"left_y": -30454.0, "right_x": 30454.0}
        assert bench.run(3.0, at_its_end).guard.state is State.DRIVING  # at its end any stick is still
        frozen = alive(pad(0.9, held=True))
        assert bench.run(1.98, frozen).guard.state is State.DRIVING
        tick = bench.run(0.1, frozen)
        assert (tick.guard.state is State.STOPPING) == measured
        if measured:
            assert tick.guard.reasons[0].text.startswith("left_y, right_x have not changed by a single step for 2.")


def fly(text: str) -> tuple[Bench, dict[str, float]]:
    bench = Bench(tenuto.parse_profile(text))
    rest = {f"channel_{number}": 1500.0 for number in range(1, 10)} | dict.fromkeys(("channel_5", "channel_6"), 988.0)
    bench.run(0.2, rest)
    bench.run(0.2, rest | {"channel_6": 2012.0})
    up = rest | {"channel_6": 2012.0, "channel_2": 2012.0, "channel_3": 2012.0}
    assert bench.run(2.0, up).command.vz > 0.3
    return bench, up


def test_an_aircraft_nobody_hears_descends_for_its_time_and_no_longer() -> None:
    bench, up = fly(shipped("damson.toml").read_text())
    tick = bench.run(2.0, None)
    assert (tick.guard.state, codes(tick)) == (State.STOPPING, ["link_quiet"])
    assert tick.command == pytest.approx((0.0, 0.0, -0.3, 0.0), abs=1e-6)
    assert tick.target == STANDSTILL
    assert bench.run(28.0, None).command.vz == pytest.approx(-0.3)
    assert bench.run(3.0, None).command == STANDSTILL
    assert bench.ticks[-1].guard.state is State.FAULT
    # Hovering counts too. A driver who is heard again stops it, but flies only after a re-enable.
    bench, up = fly(shipped("damson.toml").read_text())
    bench.run(1.5, up | {"channel_2": 1500.0, "channel_3": 1500.0})
    assert bench.ticks[-1].command == STANDSTILL
    assert bench.run(2.0, None).command.vz == pytest.approx(-0.3)
    tick = bench.run(1.0, up)
    assert (tick.command, tick.guard.state) == (STANDSTILL, State.FAULT)
    # A computer that was suspended for an hour does not begin a descent when it wakes: the far end stopped long ago.
    bench, up = fly(shipped("damson.toml").read_text())
    assert bench.step(up, dt=3600.0).command == STANDSTILL
    # It has not flown yet: then there is no descent.
    new = Bench(tenuto.parse_profile(shipped("damson.toml").read_text()))
    new.run(0.2, up | {"channel_6": 988.0})
    assert new.run(3.0, None).command == STANDSTILL


def test_going_silent_hands_over_at_once() -> None:
    text = shipped("damson.toml").read_text()
    lines = [line for line in text.splitlines() if not line.startswith("descend_")]
    bench, up = fly("\n".join(lines).replace('"descend"', '"silent"'))
    assert all(tick.send for tick in bench.ticks)
    bench.run(0.6, None)
    assert not bench.ticks[-1].send
    assert bench.ticks[-1].command == STANDSTILL
    assert not bench.run(2.0, up).send  # heard again: the autopilot still has it
    assert bench.ticks[-1].guard.state is not State.DRIVING
    with pytest.raises(tenuto.ProfileError, match="expected a speed at which this vehicle can sink"):
        tenuto.parse_profile(text.replace('max_climb = "2 m/s"', 'max_climb = "2 m/s"\nmax_sink = "0.1 m/s"'))
    with pytest.raises(tenuto.ProfileError, match=r"expected nothing, found 30\.0"):
        tenuto.parse_profile(text.replace('"descend"', '"stop"'))


WRONG: list[tuple[dict[str, str], str]] = [
    ({'hold_to_run = "left_shoulder"': ""}, "guard.hold_to_run: expected a control that must be held to drive"),
    (
        {"[guard]\n": '[guard]\nemergency_stop = "north"\n'},
        "guard.reset: expected a switch, or a control that is pressed",
    ),
    (
        {"[guard]\n": '[guard]\nemergency_stop = "left_shoulder"\nreset = "south"\n'},
        "guard.emergency_stop: expected another",
    ),
    ({"[guard]\n": "[guard]\nemergency_category = 2\n"}, "guard.emergency_category: expected a stop category: 0 or 1"),
]


@pytest.mark.long
def test_every_state_has_its_line_and_its_band_in_the_figure(tmp_path: Path) -> None:
    from tenuto.cli.status import _line
    from tenuto.figures.drive import drive_figure

    bench = driving(EMERGENCY)
    bench.run(0.2, AHEAD | {"north": 1.0})
    bench.run(0.2, {})
    tick = bench.ticks[-1]
    assert "emergency stop: emergency stop: north is on" in _line(tick, METRIC).plain
    for state in State:
        assert str(state) in _line(tick._replace(guard=tick.guard._replace(state=state)), METRIC).plain
    table = pd.DataFrame([one.as_row() for one in bench.ticks])
    robot = simulated_robot(bench.pipeline.plan.chassis)
    robot.advance(table["time"].max())
    figure = drive_figure(table, robot.path, ("drive",))
    assert any("stop: emergency stop" in text.get_text() for text in figure.axes[0].texts)


@pytest.mark.parametrize(("changes", "said"), WRONG)
def test_a_guard_that_does_not_hold_together_is_refused(changes: dict[str, str], said: str) -> None:
    text = TEXT
    for old, new in changes.items():
        text = text.replace(old, new, 1)
    with pytest.raises(tenuto.ProfileError) as caught:
        tenuto.parse_profile(text)
    assert said in str(caught.value)


events = st.lists(st.tuples(st.floats(0.001, 0.5), st.sampled_from(["moving", "standstill", "look"])), max_size=40)


@given(events)
def test_the_watchdog_against_a_plain_account(story: list[tuple[float, str]]) -> None:
    watchdog, now, until, trusted = CommandWatchdog(), 0.0, -math.inf, False
    for dt, what in story:
        now += dt
        if now > until:
            trusted = False  # after a silence the next command must be standstill
        if what == "look":
            assert watchdog.may_move(now) == trusted
        else:
            trusted = trusted or what == "standstill"
            watchdog.feed(now, 0.2, what == "standstill")
            until = now + 0.2
            assert watchdog.may_move(now) == trusted
    assert not watchdog.may_move(math.nan)


def test_a_robot_whose_commands_stop_coming_stands_by_itself() -> None:
    robot = simulated_robot(MEDLAR.plan().chassis)
    moving: dict[str, Any] = {"left_wheel": 8.0, "right_wheel": 8.0}
    for _ in range(100):
        robot.command(moving, valid_for=0.2)
        robot.advance(0.02)
    assert robot.now.vx > 0.8
    robot.advance(2.0)
    assert robot.standing
    robot.command(moving, valid_for=0.2)  # the wire is repaired
    assert robot.advance(0.1).vx < 1e-3
    robot.command(dict.fromkeys(moving, 0.0), valid_for=0.2)
    robot.command(moving, valid_for=0.2)
    assert robot.advance(0.15).vx > 0.2


def test_a_reset_counts_only_at_standstill_and_never_against_a_stop_of_the_same_tick() -> None:
    bench = driving(f"{EMERGENCY}\nemergency_category = 1")
    bench.step(AHEAD | {"north": 1.0})
    for values in (AHEAD, AHEAD | {"south": 1.0}, AHEAD, pad() | BUTTONS, HELD, AHEAD):  # reset, release, press, push
        tick = bench.run(0.1, values)
        assert (tick.guard.state, tick.command.vx > 0.1) == (State.EMERGENCY_STOP, True)
    bench.run(1.0, pad() | BUTTONS)
    assert bench.run(0.1, pad() | BUTTONS).guard.state is State.EMERGENCY_STOP  # too early: it does not count
    for first, second in (("emergency_stop", "reset"), ("reset", "emergency_stop")):
        for name in (first, second):
            getattr(bench.pipeline, name)(*(["somebody called"] if name == "emergency_stop" else []))
        assert bench.step(pad() | BUTTONS).guard.state is State.EMERGENCY_STOP
        assert bench.step(pad() | BUTTONS).guard.state is State.EMERGENCY_STOP
    assert bench.run(0.1, pad() | BUTTONS | {"south": 1.0}).guard.state is State.NOT_ENABLED


@given(st.lists(st.tuples(st.floats(-2.0, 2.0), st.booleans(), st.booleans()), min_size=1, max_size=30))
def test_a_watchdog_whose_clock_went_back_wants_a_standstill(steps: list[tuple[float, bool, bool]]) -> None:
    watchdog, now, back = CommandWatchdog(), 10.0, False
    watchdog.feed(now, 1.0, standstill=True)
    for change, feeds, still in steps:
        back, now = back or now + change < now, now + change
        if feeds:
            watchdog.feed(now, 1.0, standstill=still)
            back = back and not still
        moves = watchdog.may_move(now)
        assert not (back and moves)


def test_an_enabling_switch_that_stays_permits_while_it_is_on() -> None:
    text = TEXT.replace('hold_to_run = "left_shoulder"', 'enable = "run"')
    three = '\n[switches.run]\nkind = "positions"\nreads = "right_trigger"\npositions = 3\n'
    bench = Bench(tenuto.parse_profile(text + three))

    def at(place: float, forward: float = 0.0) -> dict[str, float]:
        return pad(forward) | BUTTONS | {"right_trigger": place * 32767.0}

    bench.run(0.2, at(1.0))
    assert bench.run(0.3, at(0.5)).guard.state is State.NOT_ENABLED  # on from the start, only moved
    bench.run(0.2, at(0.0))
    bench.run(0.2, at(0.5))
    assert bench.run(1.0, at(0.5, 1.0)).command.vx > 0.5
    assert bench.run(0.3, at(1.0, 1.0)).guard.state is State.DRIVING  # the other position is on too
    assert bench.run(0.1, at(0.0, 1.0)).guard.state is State.STOPPING  # moved back it is a release
    bench.run(2.0, at(0.0))
    bench.run(0.2, at(1.0))
    assert bench.run(0.5, at(1.0, 1.0)).guard.state is State.DRIVING
    bench.run(2.0, None)  # after a stop it must be moved back first
    assert bench.run(1.0, at(1.0)).guard.state is State.FAULT
    assert bench.run(0.5, at(0.5)).guard.state is State.FAULT


def test_a_press_that_began_before_a_stop_or_while_something_is_missing_enables_nothing() -> None:
    enable = TEXT.replace('hold_to_run = "left_shoulder"', 'enable = "west"')
    west = {"west": 1.0}
    bench = Bench(tenuto.parse_profile(enable.replace("[guard]\n", '[guard]\nlink_good_for = "1 s"\n')))
    bench.run(0.3, pad() | BUTTONS)
    bench.run(0.2, pad() | BUTTONS | west)  # too early: the link settles
    assert bench.run(3.0, pad() | BUTTONS).guard.state is State.NOT_ENABLED
    bench.run(0.2, pad() | BUTTONS | west)
    assert bench.run(1.0, pad(1.0) | BUTTONS).command.vx > 0.5
    bench.step(pad(1.0) | BUTTONS | west)  # the press was meant as a stop; a fault comes first
    bench.step({"left_y": math.nan} | BUTTONS)
    assert bench.run(0.5, pad() | BUTTONS | west).guard.state is not State.DRIVING
    assert bench.run(2.0, pad() | BUTTONS).guard.state is State.NOT_ENABLED
    bench.run(0.2, pad() | BUTTONS | west)
    assert bench.run(0.2, pad() | BUTTONS).guard.state is State.DRIVING


@pytest.mark.parametrize(
    "bad", [{"link_good": False}, {"time": 1e6}, {"values": {"left_y": math.nan}}, {"values": {"right_x": "?"}}]
)
def test_an_emergency_stop_is_read_from_a_frame_that_is_bad_in_another_way(bad: dict[str, Any]) -> None:
    bench = driving(EMERGENCY)
    pressed = pad(1.0, held=True) | BUTTONS | {"north": 1.0}
    tick = bench.step(pressed | bad.get("values", {}), **{key: said for key, said in bad.items() if key != "values"})
    assert (tick.guard.state, tick.command) == (State.EMERGENCY_STOP, STANDSTILL)
    assert bench.run(1.0, pad() | BUTTONS).guard.state is State.EMERGENCY_STOP


def test_an_emergency_stop_of_another_driver_is_heard_after_a_source_has_failed() -> None:
    class Other(Hands):
        name = "learner"

        def controls(self) -> tuple[Any, ...]:
            return tuple(
                ControlInfo(name, 0, 1, 0) for name in (*pad(), "east", "north", "south", "start", "right_shoulder")
            )

        def poll(self, now: float) -> Frame:
            return Frame(now, pad() | {"north": float(now > 1.6), "south": 0.0})

    text = TEXT.replace("[guard]\n", f"[guard]\n{EMERGENCY}\n") + "\n[drivers.learner]\nalone = true\n"
    profile, notebook = tenuto.parse_profile(text), Notebook()

    class First(Hands):
        def controls(self) -> tuple[Any, ...]:
            return tuple(ControlInfo(name, 0, 1, 0) for name in (*pad(), "north", "south"))

        def poll(self, now: float) -> Frame:
            return Frame(now, {**super().poll(now).values, "north": 0.0, "south": 0.0})

    clock = tenuto.SimulatedClock()
    with pytest.raises(OSError, match="the cable broke"):
        tenuto.drive(profile, First(1.5), [notebook], others={"learner": Other()}, clock=clock)
    assert notebook.ticks[-1].guard.state is State.EMERGENCY_STOP
