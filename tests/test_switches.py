"""Switches, selections and actions: tables of inputs and events, and a state machine with bouncing contacts."""

from itertools import pairwise
from typing import Any

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule

from helpers import Bench, examples
from tenuto import ProfileError, State, Tick, load_profile, parse_profile
from tenuto.calibration import Calibration, ControlCalibration
from tenuto.data import shipped
from tenuto.profile.checks.advice import advise
from tenuto.switches.base import SwitchPlan
from tenuto.switches.cycle import CyclePlan
from tenuto.switches.double import DoublePlan
from tenuto.switches.gesture import GesturePlan
from tenuto.switches.held import HeldPlan
from tenuto.switches.latch import LatchPlan
from tenuto.switches.momentary import MomentaryPlan
from tenuto.switches.positions import PositionsPlan
from tenuto.vehicles.velocity import STANDSTILL

DT = 0.02


def play(plan: SwitchPlan, text: str) -> str:
    """Return the position after each character of 100 ms: a digit is tenths of the travel, # pressed."""
    switch = plan.make()
    said = ""
    for number, character in enumerate(text):
        value = {"#": 1.0, ".": 0.0, "-": -1.0, "<": -0.5}.get(character)
        for step in range(5):
            switch.step({"b": int(character) / 10 if value is None else value}, number * 0.1 + step * DT)
        said += str(switch.position)
    return said


PLANS: dict[str, tuple[Any, dict[str, Any]]] = {
    "momentary": (MomentaryPlan, {}), "latch": (LatchPlan, {}), "cycle": (CyclePlan, {"count": 3}),
    "held": (HeldPlan, {"time": 0.5}), "double": (DoublePlan, {"time": 0.5}),
}  # fmt: skip


def contact(kind: str, **more: Any) -> SwitchPlan:
    plan, usual = PLANS[kind]
    made: SwitchPlan = plan(**{"name": "s", "reads": "b", **usual, **more})
    return made


@pytest.mark.parametrize(
    ("plan", "pressed", "position"),
    [
        (contact("momentary"), "..##..#.", "00110010"),
        (contact("momentary"), "##..#..", "0000100"),  # held at start-up: nothing until it was released
        (contact("momentary", at_start=True), "##..", "1100"),
        (contact("momentary"), ".5757533", "00111100"),  # hysteresis: on above 0.6, off below 0.4
        (contact("latch"), ".#..##..#.", "0111000011"),
        (contact("cycle", count=3), ".#.#.#.#", "01122001"),
        (contact("held", time=0.25), "..#.####.", "000000010"),
        (contact("double", time=0.35), ".#.#..#....#.#.#.", "00010000000001000"),
        (PositionsPlan(name="s", reads="b", count=3, thresholds=(-0.5, 0.5), hysteresis=0.1), "-.#-..9", "0120112"),
        (PositionsPlan(name="s", reads="b", count=3, thresholds=(-0.5, 0.5), hysteresis=0.1), ".<.5.77", "1111122"),
        (GesturePlan(name="s", time=0.25, sticks=(("b", "low", False),)), "..-----.-.", "0000111000"),
        (GesturePlan(name="s", time=0.25, sticks=(("b", "low", True),)), "....#..#....", "000000000011"),
    ],
)
def test_what_each_kind_of_switch_makes_of_a_press(plan: SwitchPlan, pressed: str, position: str) -> None:
    assert play(plan, pressed) == position


class Bouncing(RuleBasedStateMachine):
    """One button with a bouncing contact, and four switches that read it; against an independent account."""

    @initialize(pressed=st.booleans())
    def begin(self, pressed: bool) -> None:
        kinds = ("momentary", "latch", "cycle", "held")
        self.switches = {kind: contact(kind).make() for kind in kinds}
        self.time, self.presses, self.fired = 0.0, 0, dict.fromkeys(kinds, 0)
        self.down, self.awake, self.held_for = pressed, not pressed, 0.0
        self.settle()

    def feed(self, down: bool) -> None:
        self.time += 0.005
        for kind, switch in self.switches.items():
            switch.step({"b": float(down)}, self.time)
            self.fired[kind] += switch.pressed

    def settle(self, seconds: float = 0.06) -> None:
        for _ in range(round(seconds / 0.005)):
            self.feed(self.down)

    @rule(bounces=st.lists(st.integers(1, 5), max_size=6))
    def change(self, bounces: list[int]) -> None:
        """Press or release; the contact opens and closes several times, each time for less than the debounce time."""
        for number, steps in enumerate(bounces):
            for _ in range(steps):
                self.feed(self.down ^ (number % 2 == 0))
        self.down = not self.down
        self.settle()
        self.presses += self.down and self.awake
        self.awake = self.awake or not self.down
        self.held_for = 0.0

    @rule()
    def wait(self) -> None:
        self.settle(1.0)
        self.held_for = 1.0

    @invariant()
    def as_a_plain_account_says(self) -> None:
        if not hasattr(self, "switches"):
            return
        on = self.down and self.awake
        positions = {kind: switch.position for kind, switch in self.switches.items()}
        assert positions["momentary"] == on
        assert positions["latch"] == self.presses % 2
        assert positions["cycle"] == self.presses % 3
        assert positions["held"] == (on and self.held_for > 0.5)
        assert self.fired["momentary"] == self.presses  # once per press, with any bounces


TestBouncing = Bouncing.TestCase
TestBouncing.settings = settings(examples(60), stateful_step_count=20)

LIFT, DAMSON = load_profile(shipped("medlar-lift.toml")), load_profile(shipped("damson.toml"))
REST = {
    name: 0.0 for name in ("left_y", "left_x", "left_shoulder", "east", "west", "north", "right_shoulder", "back",
    "right_stick", "left_stick", "start",
    "right_trigger", "left_trigger", "dpad_up", "dpad_down", "dpad_left", "dpad_right")
}  # fmt: skip
HELD = REST | {"left_shoulder": 1.0}
AHEAD = HELD | {"left_y": -32768.0}


def driving(values: dict[str, float] = HELD) -> Bench:
    bench = Bench(LIFT)
    bench.run(0.2, REST)
    bench.run(0.2, HELD)
    assert bench.run(0.1, values).guard.state is State.DRIVING
    return bench


def press(bench: Bench, name: str, values: dict[str, float] = HELD, full: float = 1.0) -> Tick:
    bench.run(0.1, values | {name: full})
    return bench.run(0.1, values)


def test_a_mode_changes_speeds_without_a_jump_and_levels_go_in_steps() -> None:
    bench = driving()
    assert bench.run(3.0, AHEAD).command.vx == pytest.approx(0.25)  # slow, at half of all speeds
    for _ in range(5):
        tick = press(bench, "dpad_up", AHEAD)
    assert tick.chosen.level == 1.0
    assert bench.run(2.0, AHEAD).command.vx == pytest.approx(0.5)
    tick = press(bench, "west", AHEAD)
    assert (tick.chosen.mode, tick.chosen.rates) == ("brisk", "full")
    assert bench.run(3.0, AHEAD).command.vx == pytest.approx(1.2)
    press(bench, "west", AHEAD)
    assert bench.run(3.0, AHEAD).command.vx == pytest.approx(0.5)
    speeds = [tick.command.vx for tick in bench.ticks]
    changes = [(b - a) / DT for a, b in pairwise(speeds)]
    assert max(changes) <= 0.8 + 1e-9
    assert min(changes) >= -1.0 - 1e-9
    assert max(abs(b - a) / DT for a, b in pairwise(changes) if b > a > 0) <= 3.0 + 1e-6


def test_outputs_are_under_the_guard_and_nothing_that_was_on_starts_by_itself() -> None:
    def outputs(tick: Tick) -> tuple[float, ...]:
        return tuple(tick.outputs[name] for name in ("lift", "gripper", "lamp", "reversing_beeper"))

    up = HELD | {"right_trigger": 32767.0}
    bench = driving(HELD)
    assert outputs(bench.run(0.1, HELD)) == (0.06, 0, 0, 0)
    assert outputs(bench.run(0.1, up)) == (0.8, 0, 0, 0)
    assert outputs(bench.run(0.1, up | {"left_trigger": 32767.0})) == (0.06, 0, 0, 0)
    assert outputs(bench.run(0.1, HELD | {"left_trigger": 32767.0})) == (-0.4, 0, 0, 0)
    bench.run(0.1, HELD)
    assert outputs(press(bench, "right_shoulder")) == (0.06, 1, 0, 0)
    assert outputs(bench.run(0.3, HELD | {"left_y": 32767.0})) == (0.06, 1, 0, 1)
    # Hold-to-run is released: the lift holds, the gripper keeps its crate; a press has no effect, now or later.
    assert outputs(bench.run(1.0, up | {"left_shoulder": 0.0})) == (0.06, 1, 0, 0)
    assert outputs(press(bench, "right_shoulder", REST)) == (0.06, 1, 0, 0)
    bench.run(0.1, REST | {"right_trigger": 32767.0})
    tick = bench.run(0.3, up)
    assert (tick.guard.state, outputs(tick)) == (State.DRIVING, (0.06, 1, 0, 0))
    assert [notice.code for notice in tick.notices] == ["output_waits", "output_waits"]
    bench.run(0.1, HELD)
    assert outputs(bench.run(0.1, up)) == (0.8, 1, 0, 0)
    assert outputs(press(bench, "right_shoulder"))[1] == 1  # the demand equals the level: now it follows
    assert outputs(press(bench, "right_shoulder"))[1] == 0
    press(bench, "west")
    assert outputs(bench.run(0.1, up))[0] == 0.06  # brisk is without the lift
    assert bench.pipeline.halt(bench.now).outputs["lift"] == 0.06


def test_actions_fire_once_a_press_and_are_refused_with_a_reason() -> None:
    def fired(bench: Bench) -> list[str]:
        return [action for tick in bench.ticks for action in tick.actions]

    bench = driving()
    for _ in range(2):
        press(bench, "left_stick")
    assert fired(bench) == ["horn", "horn"]
    press(bench, "right_stick")
    press(bench, "right_stick")
    assert fired(bench)[2:] == ["mark the spot"]
    assert "mark the spot" in [row["actions"] for row in (tick.as_row() for tick in bench.ticks)]


def damson(**sticks: float) -> dict[str, float]:
    values = {f"channel_{number}": 1500.0 for number in range(1, 17)}
    values |= dict.fromkeys(("channel_5", "channel_6", "channel_7", "channel_8"), 988.0)
    return values | sticks


def test_damson_on_its_three_positions() -> None:
    fly = {"channel_6": 2012.0}
    bench = Bench(DAMSON)
    # The switch is at its last position from the start, which selects nothing.
    bench.run(0.2, damson(channel_5=2012.0))
    tick = bench.run(0.2, damson(channel_5=2012.0, **fly))
    assert (tick.guard.state, tick.chosen.mode, tick.chosen.rates) == (State.DRIVING, "steady", "low")
    tick = bench.run(2.0, damson(channel_5=2012.0, channel_1=988.0, channel_3=2012.0, **fly))
    assert tick.command == pytest.approx((0.0, 0.5, 0.4, 0.0), abs=1e-6)  # left and up, at half rates
    tick = bench.run(3.0, damson(channel_5=1500.0, channel_1=988.0, channel_3=2012.0, **fly))
    assert tick.chosen.mode == "cruise"
    assert tick.command.vy == pytest.approx(3.0)
    # The next mode changes the meaning of the right stick: no motion until the sticks were released.
    away = damson(channel_5=2012.0, channel_1=988.0, channel_3=2012.0, **fly)
    tick = bench.run(3.0, away)
    assert (tick.chosen.mode, tick.command) == ("along_row", STANDSTILL)
    assert tick.notices[0].text == "mode along_row: the sticks have a new meaning; release climb"
    bench.run(0.1, damson(channel_5=2012.0, **fly))
    tick = bench.run(3.0, away)
    assert tick.command == pytest.approx((0.0, 0.0, 0.8, 0.0))  # no sideways motion any more
    changes = [abs(b.command.vy - a.command.vy) for a, b in pairwise(bench.ticks)]
    assert max(changes) <= 1.5 * DT + 1e-9


def test_damson_takes_off_after_a_second_while_it_may_and_not_before() -> None:
    bench = Bench(DAMSON)
    bench.run(0.2, damson(channel_7=2012.0))  # on at start-up
    bench.run(2.0, damson(channel_7=2012.0, channel_6=2012.0))
    assert [tick.actions for tick in bench.ticks if tick.actions] == []
    bench.run(0.2, damson(channel_6=2012.0))
    bench.run(0.8, damson(channel_6=2012.0, channel_7=2012.0))
    assert not any(tick.actions for tick in bench.ticks)
    bench.run(0.5, damson(channel_6=2012.0, channel_7=2012.0))
    assert [tick.actions for tick in bench.ticks if tick.actions] == [("take off",)]
    bench.run(2.0, damson())
    tick = next(
        tick for tick in (bench.step(damson(channel_8=2012.0)) for _ in range(10)) if tick.notices
    )  # fmt: skip
    assert tick.notices[0].text == "land is refused: the robot is not being driven"
    inward = damson(channel_3=988.0, channel_4=2012.0, channel_2=988.0, channel_1=988.0)
    bench.run(0.5, inward)
    bench.run(0.1, None)  # silence is not a gesture
    bench.run(0.8, inward)
    assert [tick.actions for tick in bench.ticks if tick.actions][1:] == [("set the home point",)]


def test_trims_move_in_steps_within_their_limits_and_are_told() -> None:
    bench = driving()
    for _ in range(3):
        tick = press(bench, "dpad_left")
    assert bench.pipeline.trims == {"steer": 0.015}
    assert tick.shaped["steer"] == pytest.approx(0.015)
    for _ in range(40):
        press(bench, "dpad_right")
    assert bench.pipeline.trims == {"steer": -0.1}
    again = Bench(LIFT.calibrated(None, {"steer": 0.07}))
    assert again.run(0.2, REST).chosen.trims == {"steer": 0.07}


PROBLEMS = [
    ("fallback = true\n", "", "modes: expected fallback = true in exactly one mode, found none"),
    ('rates = "full"', 'rates = "ful"', 'modes.brisk.rates: expected a set of rates under [rates], found "ful" (did'),
    ('order = ["slow", "brisk"]', 'order = ["slow", "bris"]', "choose.mode.order: expected names under [modes], found"),
    ('reads = "west"', 'reads = "vest"', "switches.mode_button.reads: expected a control of the gamepad or one of"),
    ('press = "left_stick"', 'press = "drive"', "actions.horn.press: expected a control that does not drive"),
    (
        'reads = "west"',
        'reads = "west"\non_above = 1.0',
        "mode_button.on_above: expected a position below 1, or it is never",
    ),
    ('kind = "double"', 'kind = "double"\ndebounce = 0.2', "mark_button.time: expected a time of at least three times"),
    ("steps = [0.25", "steps = [0.75", "levels.steps: expected shares above 0, rising, up to 1"),
    ("[0.4, 0.12], [0.8, 0.5]", "[0.4, 0.6], [0.8, 0.5]", "the curve falls from [0.4, 0.6] to [0.8, 0.5]"),
    (
        'kind = "double"',
        'kind = "dubble"',
        "switches.mark_button.kind: expected one of cycle, double, gesture, held,",
    ),
    ("expo = [0.4, 0.6]", "expo = [0.4, 6]", "controls.drive.expo: expected a number from 0 (straight) to 1"),
    ("dead_zone = 0.06", "dead_zone = 0.9", "sticks.left.dead_zone: expected dead zones and growth of less than 1"),
    (
        'limits = { acceleration = "0.8 m/s^2" }',
        'limits = { acceleration = "0.8 m" }',
        "modes.brisk.limits.acceleration",
    ),
]


def test_a_button_that_would_never_be_released_is_an_error_of_check() -> None:
    text = shipped("medlar-lift.toml").read_text().replace('reads = "west"', 'reads = "west"\noff_below = 0.0')
    profile = parse_profile(text)
    said = [str(finding) for finding in advise(profile) if finding.is_error]
    assert said == ["switches.mode_button.off_below: west rests at 0, which is not below 0: it is never released "
                    "(choose a position above 0)"]  # fmt: skip


@pytest.mark.parametrize(("old", "new", "said"), PROBLEMS)
def test_what_is_wrong_with_switches_and_modes_is_said(old: str, new: str, said: str) -> None:
    text = shipped("medlar-lift.toml").read_text()
    assert old in text
    with pytest.raises(Exception, match="profile: ") as caught:
        parse_profile(text.replace(old, new, 1))
    assert said in str(caught.value)


def test_two_positions_at_one_place_are_refused() -> None:
    text = shipped("medlar.toml").read_text() + '[switches.knob]\nkind = "positions"\nreads = "left_trigger"\n'
    for at, said in (("[1000, 1500, 1500]", "found 1500 twice"), ("[900, 1500]\npositions = 3", "as many as in at")):
        with pytest.raises(ProfileError, match=said):
            parse_profile(f"{text}at = {at}\n")
    for places in ([0.0, 255.0, 300.0], [-7.0, 0.0]):
        # Beyond an end of its travel the reading is that of the end.
        travel = Calibration("pad", "gamepad", {"left_trigger": ControlCalibration("end", 0.0, 255.0)})
        found = [one for one in advise(parse_profile(f"{text}at = {places}\n"), travel) if one.is_error]
        assert [one.where for one in found] == ["switches.knob.at"], places
        assert "choose raw numbers from 0 to 255" in found[0].hint


def test_a_switch_with_positions_is_read_as_it_was_measured() -> None:
    measured = ControlCalibration("switch", 900.0, 2100.0, positions=(900.0, 1000.0, 2100.0))
    calibration = Calibration("radio", "radio", {"channel_5": measured})
    bench = Bench(DAMSON.calibrated(calibration))
    bench.run(0.2, damson(channel_5=900.0))
    # Evenly over its travel, 1000 would still be the first position.
    assert bench.run(0.2, damson(channel_5=1000.0)).chosen.mode == "cruise"
    assert bench.run(0.2, damson(channel_5=2100.0)).chosen.mode == "along_row"
    assert Bench(DAMSON).run(0.2, damson(channel_5=1000.0)).chosen.mode == "steady"
