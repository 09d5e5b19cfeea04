"""Motion from code: where it leads, what is refused, how it is made to fit, and who may break it off."""

import json
import math
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import tenuto
from helpers import MEDLAR, run
from tenuto import State, Tick, VelocityCommand
from tenuto.data import shipped
from tenuto.driving.limits import Limits
from tenuto.driving.plan import DriverPlan
from tenuto.motion.script import (
    Chain,
    Circle,
    Course,
    Hold,
    LinearRamp,
    Piece,
    Samples,
    Scaled,
    Sway,
    Together,
    figure_of_eight,
    fitted,
    square,
)  # fmt: skip
from tenuto.profile.script import load_script
from tenuto.sources.function import FunctionSource
from tenuto.sources.script import ScriptSource
from tenuto.styles.speeds import Speeds
from tenuto.vehicles.velocity import STANDSTILL

ROUND = shipped("round-the-tree.toml")
SHARP = (1e6, 1e6)  # no rounding off: then a circle is a circle


def ends(piece: Piece, *limits: float) -> tuple[float, ...]:
    course = Course(piece, *(limits or SHARP))
    return tuple(float(way[-1]) for way in (course.x, course.y, course.z, course.heading))


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
    eight = Course(figure_of_eight(1.0, 0.4), *SHARP)
    assert (eight.y.max(), eight.y.min()) == (pytest.approx(2.0, abs=0.01), pytest.approx(-2.0, abs=0.01))
    both = Together((Hold(VelocityCommand(0.5), 4.0), Sway("yaw_rate", 0.3, 2.0, 2.0)))
    assert both.seconds == 4.0
    assert both.at(0.5) == pytest.approx(VelocityCommand(0.5, yaw_rate=0.3))
    assert both.at(3.0) == VelocityCommand(0.5)
    samples = Samples((0.0, 1.0, 3.0), (STANDSTILL, VelocityCommand(1.0), STANDSTILL))
    assert ends(samples)[0] == pytest.approx(1.5, abs=0.01)


flat = st.just(0.0)
pieces = st.one_of(
    st.builds(Hold, st.builds(VelocityCommand, st.floats(-0.5, 0.5), flat, flat, st.floats(-1, 1)), st.floats(0.1, 5)),
    st.builds(Circle, st.floats(0.3, 2.0), st.floats(0.1, 0.6), st.floats(0.1, 1.5)),
    st.builds(Sway, st.just("yaw_rate"), st.floats(0.1, 1.0), st.floats(0.5, 3.0), st.floats(0.5, 5.0)),
)


@pytest.mark.long
@settings(max_examples=20)
@given(st.lists(pieces, min_size=1, max_size=4), st.floats(0.005, 0.1), st.integers(0, 9))
def test_how_often_it_is_asked_changes_no_distance(many: list[Piece], dt: float, seed: int) -> None:
    course = Course(Chain(tuple(many)), 0.8, 3.0)
    assert course.velocities[-1] == pytest.approx(0.0)
    steps = np.diff(course.velocities, axis=0) / 0.005
    assert (np.abs(steps).max(axis=0) <= np.array([0.8, 0.8, 0.8, 3.0]) + 1e-6).all()
    dice = np.random.default_rng(seed)
    moments = np.cumsum(dice.uniform(0.2 * dt, 1.8 * dt, math.ceil(course.seconds / dt * 2)))
    asked = np.array([course.at(float(moment)) for moment in moments])
    way = float(np.trapezoid(asked[:, 0], moments))
    whole = float(np.trapezoid(course.velocities[:, 0], course.times))
    # Between two questions the velocity changes by at most 0.8·1.8·dt, and half of that is what can be missed.
    assert way == pytest.approx(whole, abs=0.01 + course.seconds * 0.8 * (1.8 * dt) ** 2 + 0.6 * 1.8 * dt)


@pytest.mark.long
@settings(max_examples=10)
@given(st.lists(pieces, min_size=1, max_size=3), st.floats(0.3, 2.0))
def test_what_is_made_to_fit_fits_and_keeps_its_shape(many: list[Piece], within: float) -> None:
    speeds, limits, motion = (
        Speeds(forward=0.3, backward=0.2, turn=0.5),
        Limits(acceleration=0.8, turn_acceleration=3.0),
        Chain(tuple(many)),
    )
    scaled, course = fitted(motion, speeds, limits, within)
    assert course.problems(speeds, limits, within) == []
    assert course.excursion <= within
    assert max(course.top_speeds.vx, 0.0) <= 0.3 + 1e-9
    small, large = Course(Scaled(motion, 0.5), *SHARP), Course(motion, *SHARP)
    assert small.excursion == pytest.approx(0.5 * large.excursion, abs=0.01)
    assert small.heading[-1] == pytest.approx(large.heading[-1], abs=0.01)
    assert scaled.seconds >= motion.seconds - 1e-9


def hands(touched_at: float, released_at: float = 99.0) -> FunctionSource:
    def numbers(now: float) -> dict[str, float]:
        touched = -12000.0 if touched_at < now < touched_at + 0.5 else 983.0
        return {"left_y": touched, "right_x": 983.0, "left_shoulder": float(0.3 < now < released_at)}

    return FunctionSource("hands", ("left_y", "right_x", "left_shoulder"), numbers)


def perform(driver: FunctionSource) -> tuple[list[Tick], ScriptSource]:
    """Round the tree, as `tenuto script --go` does it, in simulated time."""
    from dataclasses import replace

    course = Course(load_script(ROUND)[1], 0.8, math.radians(180))
    plan = replace(MEDLAR.plan(), below=(DriverPlan(name="script", at_once=True),))
    motion, ticks = ScriptSource("round", course), list[Tick]()

    def watch(tick: Tick) -> str | None:
        ticks.append(tick)
        if motion.begun is None and tick.driver == "script" and tick.guard.state is State.DRIVING:
            motion.begin(tick.time)
        return "done" if tick.time > 48.0 else None

    tenuto.drive(plan, driver, others={"script": motion}, clock=tenuto.SimulatedClock(), on_tick=watch)
    return ticks, motion


@pytest.mark.long
def test_it_goes_where_the_preview_said() -> None:
    ticks, motion = perform(hands(99.0))
    course = Course(load_script(ROUND)[1], 0.8, math.radians(180))
    assert motion.begun is not None
    x = y = heading = 0.0
    for tick in ticks:
        x += tick.command.vx * tick.dt * math.cos(heading)
        y += tick.command.vx * tick.dt * math.sin(heading)
        heading += tick.command.yaw_rate * tick.dt
    assert (x, y) == pytest.approx((course.x[-1], course.y[-1]), abs=0.08)
    assert heading == pytest.approx(course.heading[-1], abs=0.03)


@pytest.mark.parametrize(("driver", "state"), [(hands(10.0), State.DRIVING), (hands(99.0, 10.0), State.NOT_ENABLED)])
def test_a_hand_ends_it_at_once_and_for_good(driver: FunctionSource, state: State) -> None:
    ticks, _ = perform(driver)
    before = next(tick for tick in ticks if tick.time > 9.9)
    after = next(tick for tick in ticks if tick.time > 10.04)
    assert (before.driver, before.guard.state) == ("script", State.DRIVING)
    assert after.driver == "driver" or after.guard.state is State.STOPPING
    late = [tick for tick in ticks if tick.time > 14.0 and tick.time < 47.9]
    assert {(tick.guard.state, tick.driver) for tick in late} == {(state, "driver")}
    assert all(tick.command == STANDSTILL for tick in late)


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
    assert "it gets 3.02 m away, and is to stay within 2.00 m, at 5.3 s, in steps.1 (circle) and steps.2" in far.stderr
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
        ('kind = "hold"\nseconds = "1 s"', 'kind = "file"\nfile = "way.csv"', "forward: 2.72 m/s, the profile"),
        ('vx = "0.5 m/s"', 'vz = "0.5 m/s"', "up: 0.50 m/s, the profile allows 0.00, at 0.0 s, in steps.0 (ramp)"),
        ('vx = "0.5 m/s"', 'vy = "0.5 m/s"', "this vehicle cannot do sideways as the script asks"),
        ('seconds = "1 s"', 'seconds = "4000 s"', "and may last 3600 s"),
    ):
        assert old in text
        (tmp_path / "mine.toml").write_text(text.replace(old, new))
        wrong = run("script", "mine.toml", medlar, cwd=tmp_path)
        assert (wrong.returncode, said in wrong.stderr) == (1, True), wrong.stderr
