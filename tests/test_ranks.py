"""Several drivers: who drives, taking over and handing over; and the speed limit of distance sensors."""

import math
import subprocess
import sys
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import examples
from tenuto import Frame, Pipeline, State, Tick, VelocityCommand
from tenuto.analysis.logs import ticks_of
from tenuto.analysis.report import facts, path_of
from tenuto.data import shipped
from tenuto.driving.cues import Cues
from tenuto.driving.distance import TOWARDS, speed_to_stop_within
from tenuto.sim.hands import Hands
from tenuto.sources.recording import write_recording
from tenuto.vehicles.velocity import STANDSTILL

ROOT = Path(__file__).parents[1]
LESSON = tenuto.load_profile(shipped("medlar-lesson.toml"))
ALONE = tenuto.parse_profile(
    shipped("medlar-lesson.toml").read_text().replace('given_by = "north"', 'given_by = "north"\nalone = true')
)
PERMITTED = tenuto.parse_profile(
    shipped("medlar-lesson.toml")
    .read_text()
    .replace('given_by = "north"', 'given_by = "north"\npermit = "right_trigger"\nalone = true')
)
Held = dict[str, Any]
SOLO: Held = {"held": True}


class Lesson:
    """An instructor, a learner, a computer that follows the row, and a sensor in front."""

    def __init__(self, profile: tenuto.Profile = LESSON) -> None:
        self.pipeline = Pipeline(profile)
        plan = self.pipeline.plan
        self.instructor, self.learner = Hands(plan), Hands(plan)
        self.now = 0.0
        self.ticks: list[Tick] = []
        self.frames: dict[str, list[Frame]] = {}
        self.front: float | None = 5000.0
        self.planner: tuple[float, float] | None = None

    def step(self, instructor: Held | None, learner: Held | None = None) -> Tick:
        """One tick with the controls of each driver (held, pressed, drive, steer), or None for silence."""
        self.now += 0.02
        frames = {}
        if learner is not None:
            frames["learner"] = Frame(self.now, self.learner.put(**(dict[str, Any](held=False) | learner)))
        if self.planner is not None:
            frames["row_follower"] = Frame(self.now, {"vx": self.planner[0], "yaw_rate": self.planner[1]})
        if self.front is not None:
            frames["front"] = Frame(self.now, {"front": self.front})
        own = Frame(self.now, self.instructor.put(**{"held": False, **instructor})) if instructor is not None else None
        self.ticks.append(self.pipeline.step(own, self.now, others=frames))
        for name, frame in {"": own, **frames}.items():
            self.frames.setdefault(name, []).extend([] if frame is None else [frame])
        return self.ticks[-1]

    def run(self, ticks: int, instructor: Held | None, learner: Held | None = None) -> Tick:
        return [self.step(instructor, learner) for _ in range(ticks)][-1]

    def enable(self) -> Tick:
        self.run(5, {}, {})
        return self.run(5, SOLO, SOLO)

    def give(self) -> Tick:
        """The instructor enables, and hands over to the learner."""
        self.enable()
        self.run(10, SOLO | {"pressed": "north"}, SOLO)
        return self.run(3, SOLO, SOLO)


def test_a_lesson_is_replayed_from_the_recordings_of_all(tmp_path: Path) -> None:
    lesson = Lesson()
    lesson.planner = (0.5, 0.1)
    lesson.give()
    lesson.run(100, SOLO, SOLO | {"drive": 1.0})
    lesson.run(50, SOLO | {"drive": 0.5}, SOLO | {"drive": 1.0})
    for name, frames in lesson.frames.items():
        write_recording(tmp_path / f"{name}.csv", frames)
    again = tenuto.replay(
        LESSON, tmp_path / ".csv", others={name: tmp_path / f"{name}.csv" for name in lesson.frames if name}
    )
    assert {tick.driver for tick in again} == {"instructor", "learner"}
    for before, after in zip(lesson.ticks[5:-2], again[5:], strict=False):  # it ends with its recording
        assert (after.driver, after.guard.state) == (before.driver, before.guard.state)
        assert after.command == pytest.approx(before.command, abs=0.02)


def test_sticks_alone_are_compared_and_swept_where_a_profile_has_drivers_and_sensors(tmp_path: Path) -> None:
    lesson, file = Lesson(), str(tmp_path / "instructor.csv")
    lesson.front = 900.0
    lesson.enable()
    lesson.run(100, SOLO | {"drive": 1.0}, SOLO)
    write_recording(file, lesson.frames[""])
    with pytest.raises(tenuto.SourceError, match=r'pass others=\{"learner": …\}'):
        tenuto.replay(LESSON, file)
    plain = LESSON.model_copy(update={"drivers": {}, "distances": {}})
    both = tenuto.compare(file, LESSON, plain.plan()).figures.set_index("figure")["difference"].dropna()
    assert len(both) >= 8
    assert not both.any()
    swept = tenuto.sweep(LESSON, file, {"speeds.forward": [0.5, 1.0]}, progress=False)
    assert swept["top_speed"].tolist() == pytest.approx([0.5, 1.0]), "the sensor would have slowed it down"
    with pytest.raises(tenuto.TenutoError, match=r"distances\.front\.keep changes nothing here"):
        tenuto.sweep(LESSON, file, {"distances.front.keep": [0.2, 0.4]})


@pytest.mark.parametrize("form", ["csv", "jsonl", "parquet", "mcap"])
def test_a_log_of_a_lesson_has_one_heading_whoever_drives(form: str, tmp_path: Path) -> None:
    """A learner has neither the hand-over switch nor the permit: the instructor's are shown."""
    lesson = Lesson()
    lesson.planner = (0.5, 0.1)
    lesson.give()
    lesson.run(50, SOLO, SOLO | {"drive": 1.0})
    lesson.run(5, SOLO | {"drive": 0.5}, SOLO)
    lesson.run(20, SOLO, SOLO)
    lesson.run(50, SOLO | {"pressed": "right_trigger"}, SOLO)
    file = tmp_path / f"lesson.{form}"
    with tenuto.open_sink(f"log:{file}") as log:
        for tick in lesson.ticks:
            log.write(tick)
    assert [path.name for path in tmp_path.iterdir()] == [file.name]
    table = tenuto.load_log(file)
    assert set(table["driver"]) == {"instructor", "learner", "row_follower"}
    plan = LESSON.plan()
    told = {fact.name: fact.value for fact in facts(table, plan, path_of(table, plan).robot.path)}
    drove = [tick for tick in lesson.ticks if tick.guard.state is State.DRIVING]
    for name in ("instructor", "learner", "row_follower"):
        seconds = sum(tick.dt for tick in drove if tick.driver == name)
        assert told.get(f"driven by {name}", 0.0) == pytest.approx(seconds, abs=1e-6), name
    for tick, read in zip(lesson.ticks, ticks_of(table), strict=True):
        own = tick.hands["learner" if tick.driver == "learner" else "instructor"].positions
        assert read.positions == pytest.approx({**tick.hands["instructor"].positions, **own}, abs=1e-6)
        assert read.driver == tick.driver
        assert read.command == pytest.approx(tick.command, abs=1e-6)
        assert read.explain(LESSON).answer == tick.explain(LESSON).answer
    assert table.loc[table["driver"] == "row_follower", "position.right_trigger"].min() == 1.0


def test_a_lesson() -> None:
    lesson = Lesson()
    assert lesson.enable().driver == "instructor"
    assert lesson.run(20, SOLO, SOLO | {"drive": 1.0}).command == STANDSTILL  # it was not handed over
    refused = lesson.run(3, SOLO | {"pressed": "north"}, SOLO | {"drive": 1.0})
    assert refused.driver == "instructor"
    told = [notice.text for tick in lesson.ticks for notice in tick.notices]
    assert any("learner cannot take over: drive is at +1.00, not at rest" in text for text in told)
    lesson.run(3, SOLO, SOLO)
    assert lesson.give().driver == "learner"
    assert lesson.run(100, SOLO, SOLO | {"drive": 1.0}).command.vx == pytest.approx(0.6)  # half of 1.2 m/s
    taken = lesson.step(SOLO | {"drive": 0.5}, SOLO | {"drive": 1.0})
    assert (taken.driver, taken.guard.state) == ("instructor", State.DRIVING)
    assert 0.55 < taken.command.vx < 0.6 + 0.8 * 0.02 + 1e-9  # at once, and without a jump
    assert lesson.run(10, SOLO, SOLO | {"drive": 1.0}).driver == "instructor"  # a release does not hand back
    assert lesson.run(200, SOLO, SOLO | {"drive": 1.0}).command == STANDSTILL


@pytest.mark.parametrize(
    ("instructor", "learner", "said"),
    [
        ({}, SOLO, "left_shoulder of instructor was released"),
        (SOLO, {}, "left_shoulder of learner was released"),
        (None, SOLO, "no good frame for"),
        (SOLO, SOLO | {"pressed": "east"}, "emergency stop: east is on"),
    ],
)
def test_whoever_must_hold_or_be_heard_can_stop_it(instructor: Held | None, learner: Held | None, said: str) -> None:
    lesson = Lesson()
    lesson.give()
    assert lesson.run(50, SOLO, SOLO | {"drive": 1.0}).command.vx > 0.3
    pushed = learner if learner is None else learner | {"drive": 1.0}
    lesson.run(60, instructor, pushed)
    assert any(said in reason.text for tick in lesson.ticks for reason in tick.guard.reasons)
    assert lesson.ticks[-1].command == STANDSTILL
    assert lesson.run(50, SOLO, SOLO | {"drive": 1.0}).command == STANDSTILL
    if "emergency" in said:
        lesson.run(5, {"pressed": "start"}, {})
    assert lesson.enable().driver == "instructor"  # after a stop it must be handed over again
    assert lesson.run(50, SOLO, SOLO | {"drive": 1.0}).command == STANDSTILL


@pytest.mark.parametrize("who", ["learner", "row_follower"])
def test_silence_below_takes_the_robot_from_nobody_who_holds_and_is_heard(who: str) -> None:
    lesson = Lesson()
    if who == "learner":
        lesson.give()
        lesson.run(60, SOLO, SOLO | {"drive": 1.0})
        tick = lesson.run(40, SOLO, None)
    else:
        permit = SOLO | {"pressed": "right_trigger"}
        lesson.planner = (1.0, 0.0)
        lesson.run(20, permit)
        lesson.enable()
        lesson.run(60, permit)
        lesson.planner = None
        tick = lesson.run(40, permit)
    assert max(tick.command.vx for tick in lesson.ticks) > 0.2
    assert (tick.driver, tick.guard.state) == ("instructor", State.DRIVING)
    assert {one.guard.state for one in lesson.ticks[-40:]} == {State.DRIVING}
    assert lesson.run(60, SOLO, None).command == STANDSTILL  # a stick at rest demands nothing
    assert lesson.run(60, SOLO | {"drive": 1.0}, None).command.vx > 0.2
    assert lesson.run(60, None, None).guard.state is State.FAULT  # and now no driver is heard


def test_a_planner_drives_only_while_it_may() -> None:
    lesson = Lesson()
    lesson.planner = (3.0, 3.0)
    permit = SOLO | {"pressed": "right_trigger"}
    assert lesson.run(20, permit).command == STANDSTILL
    lesson.enable()
    assert lesson.run(50, SOLO).command == STANDSTILL
    tick = lesson.run(150, permit)
    assert tick.driver == "row_follower"
    # On the demanded arc, with no axis beyond its share of the speeds.
    assert tick.command.vx == pytest.approx(tick.command.yaw_rate)
    assert tick.command.yaw_rate == pytest.approx(0.6 * min(1.2, math.radians(90)))
    assert lesson.step(SOLO).driver == "instructor"  # the permit is off
    assert lesson.run(100, SOLO).command == STANDSTILL
    lesson.run(50, permit)
    assert lesson.step(permit | {"steer": 0.5}).driver == "instructor"  # a hand on a stick
    assert lesson.run(10, permit).driver == "instructor"  # and it is not handed back by itself
    lesson.run(3, SOLO)
    assert lesson.run(50, permit).command.vx > 0.3
    lesson.planner = (math.nan, 0.0)
    tick = lesson.step(permit)
    assert tick.guard.state is State.STOPPING
    assert tick.guard.reasons[0].text == "row_follower: vx is nan, which is not a velocity"


def test_one_who_may_drive_alone_enables_alone() -> None:
    lesson = Lesson(ALONE)
    lesson.run(5, None, {})
    lesson.run(5, None, SOLO)
    assert lesson.run(50, None, SOLO | {"drive": 1.0}).driver == "learner"
    assert lesson.ticks[-1].command.vx > 0.3
    lesson.run(5, {}, SOLO | {"drive": 1.0})
    taken = lesson.run(2, {"drive": -1.0}, SOLO | {"drive": 1.0})
    assert (taken.driver, taken.guard.state) == ("instructor", State.STOPPING)  # the driver who took over does not hold
    assert lesson.run(50, {"drive": -1.0}, SOLO | {"drive": 1.0}).command == STANDSTILL
    jammed = Lesson(ALONE)
    jammed.run(5, {}, None)
    assert jammed.run(50, {}, SOLO).guard.state is State.NOT_ENABLED  # its button was down all the time


def test_one_who_needs_a_permit_does_not_drive_without_it() -> None:
    """For every way of enabling, also while the first in rank, with the permit, was never heard."""
    permit = {"pressed": "right_trigger"}
    lesson = Lesson(PERMITTED)
    lesson.run(5, None, {})
    tick = lesson.run(50, None, SOLO)
    assert tick.guard.state is State.NOT_ENABLED
    assert lesson.run(50, SOLO | {"drive": 1.0}, SOLO | {"drive": 1.0}).command == STANDSTILL  # a jammed radio
    lesson.run(5, {}, {})
    tick = lesson.run(5, {}, SOLO)
    assert (tick.driver, tick.guard.state) == ("learner", State.NOT_ENABLED)
    assert "learner may not drive: right_trigger of instructor is off" in [reason.text for reason in tick.guard.reasons]
    lesson.run(5, permit, {})
    lesson.run(5, permit, SOLO)
    assert lesson.run(50, permit, SOLO | {"drive": 1.0}).command.vx > 0.3
    assert lesson.run(2, {}, SOLO | {"drive": 1.0}).guard.state is State.STOPPING  # the instructor does not hold
    lesson = Lesson(PERMITTED)
    lesson.run(5, permit, {})
    lesson.run(5, permit, SOLO)
    assert lesson.run(9, permit, SOLO | {"drive": 1.0}).guard.state is State.DRIVING
    tick = lesson.run(50, None, SOLO | {"drive": 1.0})  # the state of the permit is unknown
    assert (tick.guard.state, tick.guard.reasons[0].code) == (State.FAULT, "link_quiet")


@pytest.mark.parametrize("heard_before", [False, True])
def test_one_above_who_comes_on_with_a_jammed_stick_stops_the_robot(heard_before: bool) -> None:
    lesson = Lesson(ALONE)
    lesson.run(5, {} if heard_before else None, {})
    lesson.run(5, None, SOLO)
    assert lesson.run(50, None, SOLO | {"drive": 1.0}).command.vx > 0.3
    jammed = SOLO | {"drive": -1.0}
    tick = lesson.step(jammed, SOLO | {"drive": 1.0})
    assert (tick.driver, tick.guard.state) == ("instructor", State.STOPPING)
    assert tick.guard.reasons[0].text == "instructor came on with drive away from rest: release it, then press again"
    assert lesson.run(100, jammed, SOLO | {"drive": 1.0}).command == STANDSTILL
    assert all(tick.command.vx >= 0.0 for tick in lesson.ticks)
    lesson.run(5, {}, {})
    lesson.run(5, SOLO, {})
    assert lesson.run(50, SOLO | {"drive": -1.0}, {}).command.vx < -0.3


hands = st.one_of(
    st.none(),
    st.fixed_dictionaries(
        {
            "held": st.sampled_from([True, True, False]),
            "pressed": st.sampled_from([None, "north", "right_shoulder", *["right_trigger"] * 2, "east", "start"]),
            "drive": st.sampled_from([0.0, 0.0, 1.0, -1.0]),
            "steer": st.sampled_from([0.0, 0.0, 1.0]),
        }
    ),
)


@pytest.mark.long
@examples(40)
@given(
    st.lists(st.tuples(st.integers(1, 30), hands, hands), min_size=3, max_size=12),
    st.sampled_from([LESSON, ALONE, PERMITTED]),
    st.booleans(),
)
def test_no_hands_break_an_invariant(
    story: list[tuple[int, Held | None, Held | None]], profile: tenuto.Profile, given_first: bool
) -> None:
    lesson, alone = Lesson(profile), profile is not LESSON
    lesson.planner = (0.5, 0.2)
    if given_first:
        lesson.give()
    for ticks, instructor, learner in story:  # conftest watches every tick
        lesson.run(ticks, instructor, learner)
    for before, tick in pairwise(lesson.ticks):
        held = tick.hands["instructor"].held or (alone and tick.driver == "learner")
        assert held or tick.guard.state is not State.DRIVING
        top = tick.hands["instructor"]
        if tick.guard.state is State.DRIVING and before.guard.state is State.DRIVING and top.fresh:
            moved = any(abs(top.positions[name]) > 0.08 for name in ("drive", "steer"))
            assert tick.driver == "instructor" or not moved
    still = lesson.run(150, SOLO, SOLO)
    assert still.command == STANDSTILL or still.driver == "row_follower"


@given(st.floats(0.0, 10.0), st.floats(0.1, 5.0), st.floats(0.0, 1.0))
def test_the_speed_is_one_from_which_it_stops_in_time(distance: float, deceleration: float, reaction: float) -> None:
    speed = speed_to_stop_within(distance, deceleration, reaction)
    assert speed * reaction + speed**2 / (2 * deceleration) == pytest.approx(distance, abs=1e-9)


def test_it_slows_down_for_what_is_in_front_and_stops_short_of_it() -> None:
    lesson, wall, x = Lesson(), 4.0, 0.0
    lesson.enable()
    cues, felt = Cues(), []
    for _ in range(600):
        lesson.front = max(wall - x, 0.0) * 1000.0
        tick = lesson.step(SOLO | {"drive": 1.0}, {})
        x += tick.command.vx * 0.02
        felt += [cue.name for cue in [cues.step(tick)] if cue is not None]
    assert 0.4 - 0.01 <= wall - x < 0.45  # it keeps 0.4 m, and reaches that distance
    assert felt.count("near") > 3
    assert any("front: 0.5" in notice.text for tick in lesson.ticks for notice in tick.notices)
    assert lesson.run(50, SOLO | {"drive": -1.0}).command.vx == pytest.approx(-0.5)  # backing away is free
    lesson.front = None
    silent = lesson.run(100, SOLO | {"drive": 1.0})
    assert silent.command == STANDSTILL
    assert silent.notices[0].text == "front is silent: not forward until it is heard"
    turning = lesson.run(50, SOLO | {"steer": 1.0}).command
    assert turning == pytest.approx(VelocityCommand(yaw_rate=math.radians(90)))


CHASSIS = {
    "differential": 'wheel_radius = "0.1 m"\ntrack = "0.6 m"',
    "mecanum": 'wheel_radius = "0.1 m"\ntrack = "0.6 m"\nwheelbase = "0.4 m"',
    "car": 'wheelbase = 0.8\ntrack = 0.5\nwheel_radius = 0.1\nmax_steering = "35 deg"\nsteering_rate = "90 deg/s"',
    "modules": 'wheel_radius = "0.1 m"\nmodules.a = { x = 0.3, y = 0.2 }\nmodules.b = { x = -0.3, y = -0.2 }',
}
TWO_STICKS = 'kind = "arcade"\nforward = "drive"\nturn = "steer"\nsticks = 2'
WALLED = """
format = 1
name = "Medlar, by a wall"
[source]
kind = "gamepad"
[controls]
drive = { reads = "left_y" }
steer = { reads = "right_x" }
side = { reads = "left_x" }
[style]
{style}
[speeds]
forward = 1.5
backward = 1.0
turn = 2.0
{more}
[limits]
acceleration = {acceleration}
deceleration = {deceleration}
turn_acceleration = {turn}
{jerk}
[switches.gentle]
reads = "west"
kind = "momentary"
[modes.soft]
limits = { deceleration = {soft} }
[modes.quick]
fallback = true
[choose.mode]
switch = "gentle"
order = ["quick", "soft"]
[guard]
hold_to_run = "left_shoulder"
link_timeout = 0.3
stop_deceleration = {stop}
stop_turn_deceleration = {stop_turn}
[loop]
rate = {rate}
[distances.wall]
source = { kind = "lines", port = "/dev/ttyACM1", columns = ["wall"] }
reads = "wall"
towards = "{towards}"
keep = 0.5
{reach}
[chassis]
kind = "{kind}"
{chassis}
"""


# A vehicle whose turn is limited by its steering rate has no jerk limit for the turn.
JERKS = {"car": ["", "jerk = 0.8"], "modules": [""]}


@st.composite
def walled(draw: st.DrawFn) -> tenuto.Profile:
    """Draw a profile of a robot with a distance sensor, with everything that affects its deceleration."""
    kind = draw(st.sampled_from(list(CHASSIS)))
    sideways = kind in ("mecanum", "modules")
    rate = st.floats(0.3, 4.0).map(lambda value: round(value, 2))
    style = 'kind = "any_direction"\nforward = "drive"\nsideways = "side"\nturn = "steer"'
    values = {
        "kind": kind, "chassis": CHASSIS[kind], "style": style if sideways else TWO_STICKS,
        "more": "sideways = 1.0" if sideways else "",
        "jerk": draw(st.sampled_from(JERKS.get(kind, ["", "jerk = 0.8", "jerk = 3.0\nturn_jerk = 1.0"]))),
        "reach": draw(st.sampled_from(["", "reach = 1.2"])), "rate": draw(st.sampled_from([20, 50])),
        "towards": draw(st.sampled_from(["forward", "backward", *(["left", "right"] if sideways else [])])),
        **{name: draw(rate) for name in ("acceleration", "deceleration", "turn", "soft", "stop", "stop_turn")},
    }  # fmt: skip
    text = WALLED
    for name, value in values.items():
        text = text.replace("{" + name + "}", str(value))
    return tenuto.parse_profile(text)


towards = st.sampled_from([1.0, 1.0, 1.0, 1.0, 0.3, 0.0])
pushes = st.sampled_from([0.0, 0.0, 1.0, -1.0])
holds = st.sampled_from([*[True] * 9, False])
moves = st.lists(st.tuples(st.integers(20, 120), towards, pushes, pushes, st.booleans(), holds), min_size=1, max_size=6)


@pytest.mark.long
@examples(60)
@given(walled(), moves, st.floats(1.5, 4.0), st.integers(1, 10))
def test_it_stays_as_far_away_as_it_says(profile: tenuto.Profile, story: list[Any], wall: float, each: int) -> None:
    """For everything that affects its deceleration; the wall is along the sensor's axis, and measured sometimes."""
    pipeline, plan = Pipeline(profile), profile.plan()
    axis, sign = TOWARDS[plan.distances[0].towards]
    hands, now, nearest = Hands(plan), 0.0, wall
    for ticks, ahead, across, turn, gentle, held in [(5, 0, 0, 0, 0, False), (5, 0, 0, 0, 0, True), *story]:
        drive, side = (sign * ahead, across) if axis == 0 else (across, sign * ahead)
        values = hands.put(held=held, pressed="west" if gentle else None, drive=drive, steer=turn, side=side)
        for _ in range(ticks):
            now += plan.period
            seen = {} if round(now / plan.period) % each else {"wall": Frame(now, {"wall": max(wall, 0.0)})}
            command = pipeline.step(Frame(now, values), now, others=seen).command
            wall -= sign * command[axis] * plan.period
            nearest = min(nearest, wall)
    assert nearest >= 0.5 - 1e-6


def test_what_is_wrong_with_the_other_drivers_is_said() -> None:
    text = shipped("medlar-lesson.toml").read_text()
    for old, new, said in (
        ('given_by = "north"', "", "drivers.learner.given_by: expected a switch, or a control that is pressed"),
        ('permit = "right_trigger"', 'permit = "right_triger"', 'found "right_triger" (did you mean "right_trigger"?)'),
        ('columns = ["vx", "yaw_rate"]', 'columns = ["speed"]', "row_follower.source.columns: expected some of vx"),
        ('columns = ["front"]', 'columns = ["back"]', 'distances.front.reads: expected one of the columns back'),
        ('[drivers.learner.source]\nkind = "gamepad"', '[drivers.learner.source]\nkind = "crsf"\nport = "x"',
         "say which of its controls it is: [drivers.learner.controls.NAME] with reads"),
        ('driver = "instructor"', 'driver = "learner"', "drivers.learner: expected a name that no other driver"),
    ):  # fmt: skip
        assert old in text
        with pytest.raises(tenuto.ProfileError) as caught:
            tenuto.parse_profile(text.replace(old, new))
        assert said in str(caught.value)


@pytest.mark.long
def test_the_example_of_a_lesson() -> None:
    done = subprocess.run([sys.executable, "examples/lesson.py"], cwd=ROOT, capture_output=True, text=True, check=True)
    lines = [line.split() for line in done.stdout.splitlines()]
    drove = [line[4] for line in lines if line[5:6] == ["driving"]]
    assert drove == ["instructor", "learner", "instructor", "row_follower", "row_follower", "instructor"]
    assert "0.48 m/s  row_follower driving      front" in done.stdout
    assert done.stdout.splitlines()[-2].endswith("left_shoulder is not held")


def test_a_hand_above_counts_however_weak_its_link_is() -> None:
    text = shipped("medlar-lesson.toml").read_text().replace("[guard]", "[guard]\nleast_frame_rate = 20")
    lesson = Lesson(tenuto.parse_profile(text.replace('given_by = "north"', 'given_by = "north"\nalone = true')))
    lesson.run(5, {}, {})
    lesson.run(10, None, {})
    lesson.run(100, None, SOLO)
    for _ in range(20):  # the instructor's radio: one frame in ten arrives
        lesson.run(9, None, SOLO | {"drive": 1.0})
        driven = lesson.step({}, SOLO | {"drive": 1.0})
    assert (driven.driver, driven.guard.state) == ("learner", State.DRIVING)
    stopped = lesson.step({"drive": -1.0}, SOLO | {"drive": 1.0})
    assert (stopped.driver, stopped.guard.state) == ("instructor", State.STOPPING)
    assert stopped.guard.reasons[0].text.endswith("good frames in the last second (least_frame_rate 20 Hz)")


def test_a_bad_frame_does_not_take_the_hand_above_away() -> None:
    lesson = Lesson(ALONE)
    lesson.run(5, {}, {})
    lesson.run(5, {"drive": 1.0}, {})
    tick = lesson.step({"drive": math.nan}, SOLO)  # the instructor's hold-to-run is held; one frame is invalid
    assert tick.guard.state is not State.DRIVING
    assert lesson.run(100, None, SOLO).guard.state is State.DRIVING  # the instructor's pad is off


WEAK = """
format = 1
name = "two hands, one of them behind a bad link"
source = { kind = "gamepad" }
controls.drive.reads = "left_y"
controls.steer.reads = "right_x"
style = { kind = "arcade", forward = "drive", turn = "steer" }
speeds = { forward = 1.0, turn = 1.0 }
limits = { acceleration = 1.0 }
drivers.learner = { source.kind = "gamepad", given_by = "back", alone = true, link_timeout = 1.0 }
guard = { enable = "south", link_timeout = 1.0, least_frame_rate = 7.0, stop_deceleration = 1.0 }
chassis = { kind = "differential", track = 0.6, wheel_radius = 0.1 }
"""


@pytest.mark.parametrize(("away", "drives"), [(-30000.0, False), (0.0, True)])
def test_a_hand_above_is_seen_through_a_link_that_loses_much(away: float, drives: bool) -> None:
    pipeline, states = tenuto.Pipeline(tenuto.parse_profile(WEAK)), []
    rest = dict.fromkeys(("left_y", "right_x", "south", "back"), 0.0)
    for number in range(1, 40):
        now = 0.05 * number
        heard = now < 0.32 or now > 1.08  # too seldom for a drive, and often enough to be seen
        first = tenuto.Frame(now, rest | {"left_y": away if now > 1.08 else 0.0}) if heard else None
        second = tenuto.Frame(now, rest | {"south": float(1.12 < now < 1.3)})
        states.append(pipeline.step(first, now, others={"learner": second}).guard.state)
    assert (State.DRIVING in states[:30]) is drives


def test_a_driver_whose_enabling_a_stop_has_ended_does_not_get_the_robot() -> None:
    """The learner enables, the robot is stopped, and the learner is not heard again: the newest frame is of before."""
    text = shipped("medlar-lesson.toml").read_text().replace('hold_to_run = "left_shoulder"', 'enable = "run"')
    text = text.replace('link_timeout = "300 ms"', 'link_timeout = "3 s"')
    lesson = Lesson(tenuto.parse_profile(text + '[switches.run]\nkind = "momentary"\nreads = "left_shoulder"\n'))

    def press(name: str, learner: Held | None) -> Tick:
        lesson.run(5, {"pressed": name}, learner)
        return lesson.run(5, {}, None if learner is None else {})

    lesson.run(5, {}, {})
    press("left_shoulder", {"pressed": "left_shoulder"})
    assert press("north", {}).driver == "learner", "who has enabled gets it"
    for name in ("east", "start", "left_shoulder"):
        tick = press(name, None)
    assert (tick.guard.state, tick.driver) == (State.DRIVING, "instructor")
    tick = press("north", None)
    assert (tick.guard.state, tick.driver) == (State.DRIVING, "instructor")
    assert any("not pressed again since the last stop" in one.text for each in lesson.ticks for one in each.notices)


def test_a_driver_whose_permit_is_withdrawn_has_released_nothing() -> None:
    lesson = Lesson(PERMITTED)
    lesson.run(10, {"pressed": "right_trigger"}, {})
    lesson.run(10, {"pressed": "right_trigger"}, SOLO)
    assert lesson.run(50, {"pressed": "right_trigger"}, SOLO | {"drive": 1.0}).driver == "learner"
    assert lesson.ticks[-1].command.vx > 0.3
    tick = lesson.run(5, {}, SOLO | {"drive": 1.0})
    (why,) = tick.guard.reasons
    assert why.text == (
        "right_trigger of instructor is off, and learner may not drive without it; "
        "left_shoulder of instructor is not held"
    )
