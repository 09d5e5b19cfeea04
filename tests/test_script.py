"""Motion from code: its path, refusals, fitting, and aborts by the driver."""

import json
import math
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import assume, example, given
from hypothesis import strategies as st

import tenuto
from helpers import MEDLAR, examples, run
from tenuto import State, Tick, VelocityCommand
from tenuto.data import shipped
from tenuto.driving.distance import Braking
from tenuto.driving.limits import Limits
from tenuto.driving.plan import DriverPlan, Plan
from tenuto.driving.telemetry import Telemetry
from tenuto.motion.course import STEP, Course, Rules, beyond, fitted
from tenuto.motion.script import (
    Chain,
    Circle,
    Hold,
    LinearRamp,
    Piece,
    Samples,
    Scaled,
    Sway,
    Together,
    figure_of_eight,
    square,
)
from tenuto.profile.script import load_script
from tenuto.sinks.base import Sink
from tenuto.sources.function import FunctionSource
from tenuto.sources.script import Performance, ScriptSource
from tenuto.styles.speeds import Speeds
from tenuto.vehicles.velocity import STANDSTILL

ROUND = shipped("round-the-tree.toml")
FAST = Speeds(forward=9.0, backward=9.0, turn=9.0, sideways=9.0, up=9.0, down=9.0)


def rules(acceleration: float = 0.8, turn: float = 3.0, slower: float = 1.0, **more: Any) -> Rules:
    """The limits of a robot without a vehicle; it decelerates ``slower`` times as fast as it accelerates."""
    limits = Limits(
        acceleration=acceleration, turn_acceleration=turn, deceleration=slower * acceleration,
        turn_deceleration=slower * turn, vertical_acceleration=0.5,
    )  # fmt: skip
    return Rules(speeds=more.pop("speeds", FAST), limits=limits, **more)


def ends(piece: Piece) -> tuple[float, ...]:
    return tuple(float(way[-1]) for way in Course(piece, rules(slower=0.4)).path)


@pytest.mark.long
def test_pieces_lead_where_geometry_says() -> None:
    assert ends(Hold(VelocityCommand(0.5, 0.1), 4.0)) == pytest.approx((2.0, 0.4, 0.0, 0.0), abs=0.01)
    assert ends(LinearRamp(STANDSTILL, VelocityCommand(1.0), 3.0)) == pytest.approx((1.5, 0.0, 0.0, 0.0), abs=0.01)
    assert ends(Sway("vz", 0.5, 2.0, 6.0)) == pytest.approx((0.0, 0.0, 0.0, 0.0), abs=0.01)
    assert ends(Circle(1.5, 0.5)) == pytest.approx((0.0, 0.0, 0.0, math.tau), abs=0.02)
    assert ends(Circle(1.0, 0.5, 0.5)) == pytest.approx((0.0, 2.0, 0.0, math.pi), abs=0.02)
    assert ends(Circle(1.0, 0.5, -0.25)) == pytest.approx((1.0, -1.0, 0.0, -math.pi / 2), abs=0.02)
    assert ends(Circle(1.0, 0.5, 0.5, "upright")) == pytest.approx((0.0, 0.0, 2.0, 0.0), abs=0.02)
    assert ends(Circle(1.0, 0.5, 0.25, "level")) == pytest.approx((1.0, 1.0, 0.0, 0.0), abs=0.02)
    assert ends(square(1.2, 0.4, 0.7)) == pytest.approx((0.0, 0.0, 0.0, math.tau), abs=0.03)
    assert ends(square(1.2, 0.4, None)) == pytest.approx((0.0, 0.0, 0.0, 0.0), abs=0.02)
    assert ends(figure_of_eight(1.0, 0.4)) == pytest.approx((0.0, 0.0, 0.0, 0.0), abs=0.02)
    eight = Course(figure_of_eight(1.0, 0.4), rules()).path
    assert (eight.y.max(), eight.y.min()) == (pytest.approx(2.0, abs=0.01), pytest.approx(-2.0, abs=0.01))
    both = Together((Hold(VelocityCommand(0.5), 4.0), Sway("yaw_rate", 0.3, 2.0, 2.0)))
    assert both.seconds == 4.0
    assert both.at(0.5) == pytest.approx(VelocityCommand(0.5, yaw_rate=0.3))
    assert both.at(3.0) == VelocityCommand(0.5)
    samples = Samples((0.0, 1.0, 3.0), (STANDSTILL, VelocityCommand(1.0), STANDSTILL))
    assert ends(samples)[0] == pytest.approx(1.5, abs=0.01)


flat = st.just(0.0)
pieces = st.one_of(
    st.builds(Hold, st.builds(VelocityCommand, st.floats(-0.5, 0.5), flat, flat, st.floats(-1, 1)), st.floats(0.1, 2)),
    st.builds(Circle, st.floats(0.3, 2.0), st.floats(0.3, 0.6), st.floats(0.1, 1.2)),
    st.builds(Sway, st.just("yaw_rate"), st.floats(0.1, 1.0), st.floats(0.5, 3.0), st.floats(0.5, 3.0)),
)


@pytest.mark.long
@examples(10)
@given(st.lists(pieces, min_size=1, max_size=4), st.floats(0.3, 2.0), st.floats(0.5, 4.0), st.floats(0.3, 1.0))
def test_a_path_is_kept_whatever_the_accelerations(
    many: list[Piece], acceleration: float, turn: float, slower: float
) -> None:
    motion = Chain(tuple(many))
    course = Course(motion, rules(acceleration, turn, slower, chassis=MEDLAR.plan().chassis))
    change = np.abs(np.diff(course.velocities, axis=0)).max(axis=0) / STEP
    assert (change <= np.array([acceleration, acceleration, 1.0, turn]) + 1e-6).all()
    assert np.array_equal(course.velocities[[0, -1]], np.zeros((2, 4)))
    # The path, computed in ten thousand small steps from the written velocities, and from the demand.
    poses = []
    for velocity, seconds in ((motion.at, motion.seconds), (course.at, course.seconds)):
        moments = (np.arange(10_000) + 0.5) * seconds / 10_000
        vx, vy, _, rate = np.array([velocity(float(moment)) for moment in moments]).T * seconds / 10_000
        heading = np.cumsum(rate) - rate / 2.0
        x, y = vx * np.cos(heading) - vy * np.sin(heading), vx * np.sin(heading) + vy * np.cos(heading)
        poses.append((float(x.sum()), float(y.sum()), float(rate.sum())))
    assert poses[1] == pytest.approx(poses[0], abs=0.02)
    assert course.strays <= 0.02 + 0.01 * course.size
    assert course.seconds >= motion.seconds


@pytest.mark.long
@examples(6)
@given(st.lists(pieces, min_size=1, max_size=2), st.floats(0.3, 2.0))
def test_what_is_made_to_fit_fits_and_keeps_its_shape(many: list[Piece], within: float) -> None:
    motion, slow = Chain(tuple(many)), Speeds(forward=0.3, backward=0.2, turn=0.5)
    keeps = rules(speeds=slow, braking=Braking(0.5, 2.0, 1.0))
    scaled, course = fitted(motion, keeps, within)
    assert course.problems(within) == []
    assert course.bent <= 0.05
    assert course.excursion <= within
    assert max(course.top_speeds.vx, 0.0) <= 0.3 + 1e-9
    small, large = Course(Scaled(motion, 0.5), rules()), Course(motion, rules())
    assert small.excursion == pytest.approx(0.5 * large.excursion, abs=0.02)
    assert small.path.heading[-1] == pytest.approx(large.path.heading[-1], abs=0.02)
    assert scaled.seconds >= motion.seconds - 1e-9


def hands(touched_at: float, released_at: float = 99.0) -> FunctionSource:
    def numbers(now: float) -> dict[str, float]:
        touched = -12000.0 if touched_at < now < touched_at + 0.5 else 983.0
        return {"left_y": touched, "right_x": 983.0, "left_shoulder": float(0.3 < now < released_at)}

    return FunctionSource("hands", ("left_y", "right_x", "left_shoulder"), numbers)


def perform(driver: tenuto.Source, plan: Plan, course: Course, *, until: float) -> tuple[list[Tick], ScriptSource]:
    """Drive a course like `tenuto script --go`, in simulated time."""
    plan = replace(plan, below=(DriverPlan(name="script", at_once=True),))
    motion, ticks = ScriptSource("round", course), list[Tick]()
    performance = Performance(motion, "script")

    def watch(tick: Tick) -> str | None:
        ticks.append(tick)
        ended.append(performance(tick) or "")
        return "time is up" if tick.time > until else None

    ended: list[str] = []
    tenuto.drive(plan, driver, others={"script": motion}, clock=tenuto.SimulatedClock(), on_tick=watch)
    return ticks, motion


def gone(ticks: list[Tick]) -> np.ndarray:
    """Return the path of commands, (tick, 3): x, y, heading."""
    x, y, heading, found = 0.0, 0.0, 0.0, []
    for tick in ticks:
        vx, vy, _, rate = (tick.dt * axis for axis in tick.command)
        middle = heading + rate / 2.0
        x, y = x + vx * math.cos(middle) - vy * math.sin(middle), y + vx * math.sin(middle) + vy * math.cos(middle)
        heading += rate
        found.append((x, y, heading))
    return np.array(found)


@pytest.mark.long
def test_it_goes_where_the_preview_said() -> None:
    course = Course(load_script(ROUND)[1], Rules.of(MEDLAR.plan()))
    ticks, motion = perform(hands(99.0), MEDLAR.plan(), course, until=course.seconds + 4.0)
    assert motion.begun is not None
    x, y, _, heading = (float(way[-1]) for way in course.path)
    assert gone(ticks)[-1] == pytest.approx((x, y, heading), abs=0.02)


VEHICLES = {
    "cart": "kind = 'differential'\ntrack = 0.5\nwheel_radius = 0.1\nmax_wheel_speed = 20.0",
    "car": "kind = 'car'\nwheelbase = 0.6\ntrack = 0.5\nwheel_radius = 0.1\nmax_wheel_speed = 20.0\n"
    "max_steering = 0.6\nsteering_rate = 1.0",
    "mecanum": "kind = 'mecanum'\ntrack = 0.5\nwheelbase = 0.4\nwheel_radius = 0.1\nmax_wheel_speed = 20.0",
}
PROFILE = """
format = 1
name = "Any"
loop = {{ rate = 50.0 }}
source = {{ kind = "gamepad" }}
controls.drive = {{ reads = "left_y" }}
controls.steer = {{ reads = "right_x" }}
style = {{ kind = "arcade", forward = "drive", turn = "steer" }}
speeds = {{ forward = 1.0, backward = 1.0, turn = 2.0 }}
limits = {{ acceleration = {up}, deceleration = {down}, turn_acceleration = {turn}{jerk} }}
guard = {{ hold_to_run = "left_shoulder", link_timeout = "300 ms", stop_deceleration = {stop} }}
[chassis]
{vehicle}
"""


@pytest.mark.long
# The sticks rest off their middle, without a dead zone, which drives nothing before the script begins.
@example("car", [Circle(1.8825506485488255, 0.5, 1.0)], 2.0, 1.0, 0.5, ", jerk = 2.0", 1.0, 1.0)
@examples(8)
@given(
    st.sampled_from(sorted(VEHICLES)), st.lists(pieces, min_size=1, max_size=3), st.floats(0.4, 2.0),
    st.floats(0.4, 2.0), st.floats(0.5, 4.0), st.sampled_from(["", ", jerk = 2.0"]), st.floats(0.4, 2.0),
    st.floats(0.1, 1.0),
)  # fmt: skip
def test_no_robot_gets_further_than_its_preview(
    vehicle: str, many: list[Piece], up: float, down: float, turn: float, jerk: str, stop: float, let_go: float
) -> None:
    text = PROFILE.format(up=up, down=down, turn=turn, jerk=jerk, stop=stop, vehicle=VEHICLES[vehicle])
    plan = tenuto.parse_profile(text).plan()
    course = Course(Chain(tuple(many)), Rules.of(plan))
    assume(not beyond(course, plan.chassis))  # a car does not turn on the spot: the command refuses that
    whole, motion = perform(hands(999.0), plan, course, until=course.seconds + 3.0)
    assert motion.begun is not None
    # A frame between two ticks is used a tick later; no path deviates by more than that.
    here, there = gone(whole)[:, :2], course.path.places[:, :2]
    away = max(float(np.linalg.norm(there - place, axis=1).min()) for place in here[::5])
    assert away <= 0.01 + 0.005 * course.size
    assert np.hypot(*here.T).max() <= course.excursion + 0.03
    released, _ = perform(hands(999.0, 1.0 + let_go * course.seconds), plan, course, until=course.seconds + 3.0)
    assert np.hypot(*gone(released)[:, :2].T).max() <= course.excursion + 0.03


@pytest.mark.long
def test_what_the_ramps_bend_is_said_and_made_to_fit() -> None:
    """A jerk limit averages the command over 2·2/2 = 2 s: corners are cut, and a square is no longer a square."""
    text = PROFILE.format(up=2.0, down=2.0, turn=4.0, jerk=", jerk = 2.0", stop=2.0, vehicle=VEHICLES["cart"])
    keeps, motion = Rules.of(tenuto.parse_profile(text).plan()), square(1.0, 0.8, 1.5)
    bent = Course(motion, keeps)
    assert bent.bent > 0.1
    assert "strays" in str(bent.bends()[0])
    assert bent.bends()[0].time < 0.8, "in the first side, whose beginning is bent already"
    _, slow = fitted(motion, keeps)
    assert slow.strays <= 0.05 * 1.0
    car = PROFILE.format(up=2.0, down=2.0, turn=4.0, jerk="", stop=2.0, vehicle=VEHICLES["car"])
    with pytest.raises(ValueError, match="and a slower pace does not help: this vehicle cannot drive it"):
        fitted(motion, Rules.of(tenuto.parse_profile(car).plan()))  # its corners are turns on the spot
    # Seen from outside: the robot passes each corner of a square of 1 m.
    for corner in ((1.0, 0.0), (1.0, 1.0), (0.0, 1.0), (0.0, 0.0)):
        assert np.linalg.norm(slow.path.places[:, :2] - corner, axis=1).min() <= 0.05


@pytest.mark.long
@pytest.mark.parametrize(("driver", "state"), [(hands(10.0), State.DRIVING), (hands(99.0, 10.0), State.NOT_ENABLED)])
def test_a_hand_ends_it_at_once_and_for_good(driver: FunctionSource, state: State) -> None:
    course = Course(load_script(ROUND)[1], Rules.of(MEDLAR.plan()))
    ticks, _ = perform(driver, MEDLAR.plan(), course, until=20.0)
    before = next(tick for tick in ticks if tick.time > 9.9)
    after = next(tick for tick in ticks if tick.time > 10.04)
    assert (before.driver, before.guard.state) == ("script", State.DRIVING)
    assert after.driver == "driver" or after.guard.state is State.STOPPING
    late = [tick for tick in ticks if tick.time > 14.0]
    assert {(tick.guard.state, tick.driver) for tick in late} == {(state, "driver")}
    assert all(tick.command == STANDSTILL for tick in late)


@examples(12)
@given(st.lists(st.tuples(st.floats(0.0, 6.0), st.sampled_from([True, False, None, "silent"])), max_size=6))
def test_it_begins_when_the_far_end_follows_and_ends_when_it_does_not(changes: list[tuple[float, Any]]) -> None:
    """A far end reports ten times a second whatever it likes; a script that is complete was followed from its start."""
    turns = sorted([(0.0, None), *changes, (6.0, True)], key=lambda turn: turn[0])
    told, sent = list[tuple[float, Any]](), list[tuple[float, VelocityCommand]]()

    class Robot(Sink):
        name, says = "robot", frozenset({"follows", "state"})

        def write(self, tick: Tick) -> None:
            now = [follows for since, follows in turns if since <= tick.time][-1]
            if now != "silent" and (not told or tick.time - told[-1][0] >= 0.1):
                told.append((tick.time, now))
            sent.append((tick.time, tick.command))

        def stop(self, tick: Tick) -> None:
            sent.append((tick.time, tick.command))

        @property
        def telemetry(self) -> Telemetry:
            return Telemetry(told[-1][0], self.says, follows=told[-1][1]) if told else Telemetry(says=self.says)

    course = Course(Hold(VelocityCommand(0.4), 2.0), Rules.of(MEDLAR.plan()))
    motion = ScriptSource("ahead", course)
    performance = Performance(motion, "script")
    plan = replace(MEDLAR.plan(), below=(DriverPlan(name="script", at_once=True),))
    report = tenuto.drive(
        plan, hands(99.0), [Robot()], others={"script": motion}, clock=tenuto.SimulatedClock(),
        on_tick=lambda tick: performance(tick) or ("time is up" if tick.time > 12.0 else None),
    )  # fmt: skip
    assert motion.begun is not None, report.ended
    before = [follows for time, follows in told if time < motion.begun]
    assert before[-1] is True, "it had reported that it follows"
    stands = next((time for time, follows in told if time > motion.begun and follows is not True), math.inf)
    moved = [time for time, command in sent if command != STANDSTILL]
    assert performance.complete == (report.ended == "the script is complete")
    assert not (performance.complete and stands < motion.begun + course.seconds - 0.1)
    if stands < motion.begun + course.seconds - 0.1:
        assert "because the robot does not follow it: robot" in report.ended
        assert max(moved) <= stands + 0.1 + 1.0  # it stops at 0.4 m/s
    assert min(moved) >= motion.begun


@pytest.mark.long
def test_the_command_shows_it_first_and_refuses_what_does_not_fit(tmp_path: Path) -> None:
    medlar, tree = str(shipped("medlar.toml")), str(ROUND)
    shown = run("script", tree, medlar, "--within", "4", "--figure", "round.png", "--json", cwd=tmp_path)
    assert shown.returncode == 0, shown.stderr
    assert json.loads(shown.stdout)["excursion"] == pytest.approx(3.02, abs=0.02)
    assert (tmp_path / "round.png").stat().st_size > 20_000
    far = run("script", tree, medlar, "--within", "2", "--go", cwd=tmp_path)
    assert far.returncode == 1
    # Half a metre ahead, then 1.09 rad of a circle of 1.5 m at 0.5 m/s: sin 1.09 - 3 cos 1.09 = -0.5.
    assert (
        "it goes 3.01 m away, stops included, and must stay within 2.00 m, at 5.4 s, in steps.1 (circle) and steps.2"
        in far.stderr
    )
    gone = run("script", tree, medlar, "--go", "--source", "simulated:gamepad", "--to", "log:run.csv", cwd=tmp_path)
    assert "the script was ended early: a driver took over" in gone.stdout, gone.stderr
    assert (tmp_path / "run.csv.profile.toml").read_text() == shipped("medlar.toml").read_text()
    fit = run("script", tree, medlar, "--within", "2", "--fit", "--json", cwd=tmp_path)
    assert fit.returncode == 0, fit.stderr
    assert json.loads(fit.stdout)["excursion"] < 2.0
    text = ROUND.read_text()
    (tmp_path / "way.csv").write_text("time,vx,yaw_rate\n0,0,0\n2,9,0\n4,0,0\n")
    for old, new, said in (
        ('radius = "1.5 m"', 'radius = "1.5 s"', "steps.1.radius: expected a length"),
        ('kind = "sway"', 'kind = "swya"', 'did you mean "sway"?'),
        ('turn_speed = "12 deg/s"', 'speed = "1 m/s"', "steps.2.turn_speed: expected a turning speed"),
        ('kind = "hold"\nseconds = "1 s"', 'kind = "file"\nfile = "none.csv"', "none.csv"),
        ('kind = "hold"\nseconds = "1 s"', 'kind = "file"\nfile = "way.csv"', "forward: 3.79 m/s, the profile"),
        ('vx = "0.5 m/s"', 'vz = "0.5 m/s"', "up: 0.43 m/s, the profile allows 0.00, at 0.1 s, in steps.0 (ramp)"),
        ('vx = "0.5 m/s"', 'vy = "0.5 m/s"', "this vehicle cannot do sideways as demanded"),
        ('seconds = "1 s"', 'seconds = "4000 s"', "and may last 3600 s"),
    ):
        assert old in text
        (tmp_path / "mine.toml").write_text(text.replace(old, new))
        wrong = run("script", "mine.toml", medlar, cwd=tmp_path)
        assert (wrong.returncode, said in wrong.stderr) == (1, True), wrong.stderr
