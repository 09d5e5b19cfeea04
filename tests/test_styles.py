"""Styles, mirrored in every quadrant; numbers on the wire; simulated robots; the drives of the four robots."""

import json
import math
from itertools import pairwise
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import Bench, examples, run
from tenuto import State, VelocityCommand, parse_profile
from tenuto.analysis.curves import responses
from tenuto.data import shipped
from tenuto.driving.follow import follow_plan
from tenuto.sim import Physics, simulated_robot
from tenuto.sim.worst import in_each_mode
from tenuto.sinks.simulated import SimulatedSink
from tenuto.styles.any_direction import AnyDirection
from tenuto.styles.arcade import Arcade
from tenuto.styles.base import Setting, Style
from tenuto.styles.car import Car
from tenuto.styles.flight import Flight
from tenuto.styles.four_wheel import FourWheel
from tenuto.styles.speeds import Speeds, Turning
from tenuto.styles.tank import Tank
from tenuto.styles.thrusters import ThrusterSticks
from tenuto.styles.triggers import Pressed
from tenuto.vehicles import Drag, SteeredWheels, Thruster, Thrusters, car, four_wheel_steer
from tenuto.vehicles.actuators import HALF, ActuatorPlan, Wire, overcome_friction, pulse, rounded
from tenuto.vehicles.velocity import STANDSTILL

SPEEDS = Speeds(forward=1.2, backward=1.2, turn=1.5, sideways=0.8, up=0.6, down=0.6)
BOAT = Thrusters((Thruster("left", -0.5, 0.4), Thruster("right", -0.5, -0.4)), Drag(20, 60, 60, 12))
sticks = st.fixed_dictionaries({name: st.floats(-1, 1) for name in "abcd"})
CARLIKE = Turning(1.5, 0.3, "as a car")
# Each with the sticks that are mirrored for left and right, and for forward and backward: names, or pairs of names.
STYLES: dict[str, tuple[Style, tuple[str, ...], tuple[str, ...]]] = {
    "arcade": (Arcade("a", "b", "scale"), ("b",), ("a",)),
    "arcade by radius": (Arcade("a", "b", "keep turn", Turning(1.5, 0.3)), ("b",), ("a",)),
    "arcade as a car": (Arcade("a", "b", "free", CARLIKE), ("b",), ("a",)),
    "four ways": (Pressed("a", "b", "c", "d", "clip"), ("cd",), ("ab",)),
    "triggers": (Pressed("a", "b", "c"), ("c",), ("ab",)),
    "car": (Car("a", "b", 2.0), ("b",), ("a",)),
    "front": (FourWheel("a", "b", 0.5, 1.3, "front"), ("b",), ("a",)),
    "counter": (FourWheel("a", "b", 0.5, 1.3, "counter"), ("b",), ("a",)),
    "crab": (FourWheel("a", "b", 0.5, 1.3, "crab"), ("b",), ("a",)),
    "rear": (FourWheel("a", "b", 0.5, 1.3, "rear"), ("b",), ("a",)),
    "any direction": (AnyDirection("a", "b", "c"), ("b", "c"), ("a",)),
    "flight": (Flight("d", "c", "a", "b"), ("b", "c"), ("a",)),
}
STEERED = ("arcade as a car", "car", "front", "counter", "crab", "rear")


def demand(style: Style, positions: dict[str, float], setting: Setting | None = None) -> VelocityCommand:
    return style.demand(style.intent(positions), SPEEDS, setting or Setting(), positions)


def exchanged(positions: dict[str, float], what: tuple[str, ...]) -> dict[str, float]:
    changed = dict(positions)
    for names in what:
        if len(names) == 2:
            changed[names[0]], changed[names[1]] = positions[names[1]], positions[names[0]]
        else:
            changed[names] = -positions[names]
    return changed


@pytest.mark.parametrize("name", STYLES)
@given(positions=sticks)
def test_every_style_is_its_own_mirror(name: str, positions: dict[str, float]) -> None:
    style, sides, ends = STYLES[name]
    if name in ("four ways", "triggers"):
        positions = {key: abs(value) for key, value in positions.items()}
    vx, vy, vz, turn = demand(style, positions)
    assert demand(style, exchanged(positions, sides)) == pytest.approx((vx, -vy, vz, -turn), abs=1e-9)
    back = demand(style, exchanged(positions, ends))
    if name not in STEERED:
        assert back == pytest.approx((-vx, vy, vz, turn), abs=1e-9)  # the stick to the left turns left
    elif abs(vx) > 0.3:
        assert back == pytest.approx((-vx, -vy, vz, -turn), abs=1e-9)  # the same arc, backwards


@pytest.mark.parametrize("name", STYLES)
def test_forward_is_forward_and_left_is_left(name: str) -> None:
    style, sides, ends = STYLES[name]
    ahead = dict.fromkeys("abcd", 0.0) | {ends[0][0]: 0.8}
    straight = demand(style, ahead)
    assert straight.vx > 0.5
    assert (straight.vy, straight.yaw_rate) == (0.0, 0.0)
    left = demand(style, ahead | {sides[0][0]: 0.5})
    if name == "crab":
        assert (left.vy > 0.1, left.yaw_rate) == (True, 0.0)
    elif name in ("any direction", "flight"):
        assert (left.vy if sides[0][0] == "b" else left.yaw_rate) > 0.1
    else:
        assert left.yaw_rate > 0.1
    # With rear wheels only, the stern swings out to the right, and the middle with it.
    assert (left.vy < 0.0) == (name == "rear")


def test_sides_and_sticks_and_headings() -> None:
    # Tank: the left side ahead and the right side back turns to the right, on the spot.
    assert demand(Tank("a", "b"), {"a": 1.0, "b": -1.0}) == VelocityCommand(yaw_rate=-1.5)
    each = ThrusterSticks((("left", "a"), ("right", "b")), BOAT)
    left_only = demand(each, {"a": 0.5, "b": 0.0})
    assert left_only.vx == pytest.approx(5.0 / 20)
    assert left_only.yaw_rate == pytest.approx(-5.0 * 0.4 / 12)  # F·lever/drag, by hand
    fast = demand(each, {"a": 1.0, "b": 1.0})
    assert fast.vx == pytest.approx(1.0)
    assert demand(each, {"a": 0.0, "b": 0.0}) == STANDSTILL
    # For any heading, the robot's velocity turned by that heading is the demand on the field.
    field = AnyDirection("a", "b", "c", "d")
    asked = demand(AnyDirection("a", "b", "c"), {"a": 0.6, "b": -0.4, "c": 0.2})
    for heading in np.linspace(-1, 1, 9):
        body = demand(field, {"a": 0.6, "b": -0.4, "c": 0.2, "d": float(heading)}, Setting(heading_zero=0.3))
        turn = heading * math.pi - 0.3
        matrix = np.array([[math.cos(turn), -math.sin(turn)], [math.sin(turn), math.cos(turn)]])
        assert matrix @ np.array(body[:2]) == pytest.approx(np.array(asked[:2]))


def test_a_heading_is_measured_and_no_rate_touches_it() -> None:
    text = shipped("medlar.toml").read_text().split("[chassis]")[0].replace('kind = "arcade"', 'kind = "any_direction"')
    text = text.replace('turn = "steer"', 'turn = "turn"\nsideways = "steer"\nheading = "compass"')
    text = text.replace(
        "[style]",
        '[controls.turn]\nreads = "right_y"\n[controls.compass]\nreads = "left_x"\n[rates.low]\nscale = 0.5\n[style]',
    )
    text += '[modes.shed]\nrates = "low"\n[chassis]\nkind = "omni"\ncount = 3\nradius = 0.2\nwheel_radius = 0.05\n'
    bench = Bench(parse_profile(text))
    still = {"left_y": 983.0, "right_x": 983.0, "right_y": 0.0, "left_shoulder": 0.0}
    north = still | {"left_x": -16383.5}  # half its travel to the left: a turn of 90 deg
    bench.run(0.1, north)
    bench.run(0.1, north | {"left_shoulder": 1.0})
    tick = bench.run(3.0, north | {"left_shoulder": 1.0, "left_y": -30454.0})
    # Forward on the field is to the right of a robot that faces left; at half rates.
    assert tick.command == pytest.approx((0.0, -0.6, 0.0, 0.0), abs=2e-3)
    assert {one.unit for several in responses(parse_profile(text)).values() for one in several} == {"m/s", "rad/s"}


@given(st.floats(-1, 1), st.floats(-1.2, 1.2))
def test_the_stick_sets_the_radius_and_turns_on_the_spot_without_a_kink(turn: float, vx: float) -> None:
    turning = Turning(1.5, 0.3)
    spot = VelocityCommand(vx=vx, yaw_rate=turn * 1.5)
    rate = turning.apply(spot, turn).yaw_rate
    if abs(vx) >= 0.3:
        assert abs(rate) == pytest.approx(abs(turn * vx) / 1.5)
    assert turning.apply(STANDSTILL._replace(yaw_rate=turn * 1.5), turn).yaw_rate == pytest.approx(turn * 1.5)
    for back in (turning, CARLIKE):
        near = [back.apply(spot._replace(vx=vx + step), turn).yaw_rate for step in (-1e-4, 0.0, 1e-4)]
        assert abs(near[2] - near[1]) < 2e-3
        assert abs(near[1] - near[0]) < 2e-3


@pytest.mark.parametrize(
    ("mode", "climb", "turn", "forward", "sideways"),
    [(1, "right_y", "left_x", "left_y", "right_x"), (2, "left_y", "left_x", "right_y", "right_x"),
     (3, "right_y", "right_x", "left_y", "left_x"), (4, "left_y", "right_x", "right_y", "left_x")],
)  # fmt: skip
def test_the_four_stick_modes(mode: int, climb: str, turn: str, forward: str, sideways: str) -> None:
    text = shipped("damson.toml").read_text().split("[style]")[0].split("[controls.sideways]")[0]
    axes = {"left_x": 4, "left_y": 3, "right_x": 1, "right_y": 2}
    text += "".join(f'[controls.{axis}]\nreads = "channel_{number}"\n' for axis, number in axes.items())
    text += f'[style]\nkind = "flight_sticks"\nstick_mode = {mode}\n' + "".join(f'{axis} = "{axis}"\n' for axis in axes)
    text += "[speeds]\nforward = 1\nsideways = 2\nup = 3\nturn = 4\n[limits]\nacceleration = 9\n"
    text += '[guard]\nhold_to_run = "channel_6"\nlink_timeout = 1\n[chassis]\nkind = "aircraft"\n'
    style, speeds = parse_profile(text).plan().style, parse_profile(text).plan().speeds
    for axis, expected in (
        (forward, (1, 0, 0, 0)),
        (sideways, (0, 2, 0, 0)),
        (climb, (0, 0, 3, 0)),
        (turn, (0, 0, 0, 4)),
    ):
        positions = dict.fromkeys(axes, 0.0) | {axis: 1.0}
        assert style.demand(style.intent(positions), speeds, Setting(), positions) == expected


def test_steered_wheels_point_where_the_stick_shows_before_they_roll() -> None:
    beetle = car(1.0, 0.6, 0.2, 0.6)
    style = Car("a", "b", 2.0)
    aim = style.aim(style.intent({"a": 0.0, "b": 0.5}), Setting())
    does = beetle.actuators(STANDSTILL, None, 0.0, aim)
    rolling = beetle.actuators(VelocityCommand(vx=1.0, yaw_rate=0.25))
    assert {key: value for key, value in does.items() if key.endswith("_angle")} == pytest.approx(
        {key: value for key, value in rolling.items() if key.endswith("_angle")}
    )
    # Rear share: half the angle behind, for a centre between the two.
    quince = four_wheel_steer(1.3, 0.9, 0.2, 0.8)
    half = demand(FourWheel("a", "b", 0.5, 1.3), {"a": 1.0, "b": 1.0}, Setting(steering="counter", rear_share=0.5))
    middle = [quince.inverse(*half)[f"{end}_{side}_angle"] for end in ("front", "rear") for side in ("left", "right")]
    assert sum(1 / math.tan(angle) for angle in middle[:2]) / 2 == pytest.approx(1 / math.tan(0.5))
    assert sum(1 / math.tan(angle) for angle in middle[2:]) / 2 == pytest.approx(-1 / math.tan(0.25))


@given(st.floats(-1, 1), st.integers(8, 16))
def test_what_goes_over_the_wire_is_symmetric_and_whole(share: float, bits: int) -> None:
    assert rounded(share * 1000) == -rounded(-share * 1000)
    assert abs(rounded(share * 1000) - share * 1000) <= HALF + 1e-9  # with its room for rounding
    assert rounded(np.array([share * 1000]))[0] == rounded(share * 1000)
    most = 2**bits - 1
    forward, back = (
        Wire((ActuatorPlan(name="w", form="duty", full=4.0, bits=bits, at_zero="brake"),)).step(
            {"w": sign * share * 4.0}
        )
        for sign in (1, -1)
    )
    assert forward["w.duty"] == back["w.duty"] == rounded(abs(share) * most)
    assert forward["w.direction"] == -back["w.direction"]
    assert forward["w.brake"] == (forward["w.duty"] == 0)
    plan = ActuatorPlan(name="s", form="pulse", full=1.0, low_us=1100.0, middle_us=1480.0, high_us=1900.0)
    by_hand = 1480 + share * (420 if share > 0 else 380)
    assert abs(pulse(share, plan) - by_hand) <= HALF + 1e-9
    assert pulse(np.array([share]), plan)[0] == pulse(share, plan)


@given(
    kind=st.sampled_from(["car", "four_wheel_steer"]), radius=st.floats(2.0, 50.0), left=st.booleans(),
    speed=st.floats(-1.0, 1.0).filter(lambda speed: abs(speed) > 0.01),
)  # fmt: skip
def test_one_servo_turns_an_axle(kind: str, radius: float, left: bool, speed: float) -> None:
    """Its angle is that of a wheel in the middle of the axle, which rolls at right angles to the centre of the turn."""
    text = AXLE.format(kind=kind)
    plan = tenuto.parse_profile(text).plan()
    command = VelocityCommand(speed, yaw_rate=speed / radius * (1.0 if left else -1.0))
    reached, _ = plan.chassis.within_reach(command)
    wire = Wire(plan.actuators).step(plan.chassis.actuators(reached))
    # A car turns about the middle of its rear axle, and four wheels about the middle between both.
    arm = {"car": 0.8, "four_wheel_steer": 0.4}[kind]
    by_hand = math.degrees(math.atan(arm / radius))
    assert wire["front_axle.deg"] == pytest.approx(by_hand if left else -by_hand, abs=1e-6)


AXLE = """
format = 1
name = "One servo"
source = {{ kind = "gamepad" }}
controls = {{ drive = {{ reads = "left_y" }}, steer = {{ reads = "right_x" }} }}
style = {{ kind = "arcade", forward = "drive", turn = "steer" }}
speeds = {{ forward = 1.0, turn = 1.0 }}
limits = {{ acceleration = 1.0 }}
guard = {{ hold_to_run = "left_shoulder", link_timeout = "300 ms", stop_deceleration = 1.5 }}
[chassis]
kind = "{kind}"
wheelbase = 0.8
track = 0.5
wheel_radius = 0.1
max_steering = 0.6
max_wheel_speed = 20
[actuators.front_axle]
form = "deg"
"""

LIFT = shipped("medlar-lift.toml").read_text()
GRIPPER = """
[actuators.gripper]
form = "pulse"
low_us = 1100
high_us = 1900
reverse = true

[actuators.lift]
form = "duty"
bits = 10
"""


def test_outputs_go_out_in_the_same_forms_and_keep_to_their_rules() -> None:
    plan = tenuto.parse_profile(LIFT + GRIPPER).plan()
    assert {one.name for one in plan.actuators if one.level} == {"gripper", "lift"}
    bench = Bench(plan)
    assert bench.step(None).wire["gripper.pulse"] == 1500.0
    held = LIFT.replace("[outputs.gripper]", "[outputs.gripper]\nidle = 1.0", 1) + GRIPPER
    for gone in (follow_plan(tenuto.parse_profile(held).plan()), *in_each_mode(tenuto.parse_profile(held).plan())):
        assert Bench(gone).step(None).wire["gripper.pulse"] == 1100.0, "what nobody sends, or no mode has, rests"
    for level in (1.0, -0.5, 0.0):
        for power in (True, False):
            made = Wire(plan.actuators).step(
                plan.chassis.actuators(STANDSTILL), power, {"gripper": level, "lift": level}
            )
            assert made["gripper.pulse"] == 1500.0 - 400.0 * level
            assert (made["lift.duty"], made["lift.direction"]) == (round(1023 * abs(level)), (level > 0) - (level < 0))
    for wrong, key, said in (
        (GRIPPER.replace('"pulse"', '"deg"'), "actuators.gripper.form", "for an output is a level"),
        (GRIPPER.replace("[actuators.lift]", "[actuators.lifd]"), "actuators.lifd", 'did you mean "lift"?'),
    ):
        with pytest.raises(tenuto.ProfileError) as error:
            tenuto.parse_profile(LIFT + wrong)
        assert [finding.where for finding in error.value.findings] == [key]
        assert said in str(error.value)


def test_forms_friction_and_wiring() -> None:
    turned = Wire(
        (ActuatorPlan(name="w", form="rev/min", reverse=True, gear_ratio=20.0), ActuatorPlan(name="a", form="deg"))
    )
    assert turned.step({"w": math.tau, "a": math.pi / 2}) == pytest.approx({"w.rev_per_min": -1200.0, "a.deg": 90.0})
    trimmed = ActuatorPlan(name="s", form="pulse", sub_trim_us=30.0)
    assert [pulse(share, trimmed) for share in (-1.0, 0.0, 1.0)] == [1030.0, 1530.0, 2000.0]
    assert pulse(1.0, ActuatorPlan(name="s", form="pulse", low_us=2000.0, high_us=1000.0)) == 1000.0
    # A motor that needs 20 %: a slow increase, noise around the threshold, and a slow decrease.
    moving, told = False, []
    rise = [*np.linspace(0, 0.3, 31), *np.linspace(0.3, -0.3, 61)]
    for share in rise:
        share, moving = overcome_friction(float(share), 0.2, moving)
        told.append(share)
    assert all(share == 0.0 or abs(share) >= 0.2 for share in told)
    assert [overcome_friction(0.08, 0.2, before) for before in (False, True)] == [(0.0, False), (0.2, True)]
    assert sum((a == 0.0) != (b == 0.0) for a, b in pairwise(told)) == 3  # on, off, on the other way
    quince = tenuto.load_profile(shipped("quince.toml")).plan()
    plans = {plan.name: plan for plan in quince.actuators}
    assert plans["rear_left_wheel"].reverse
    assert (plans["rear_left_wheel"].bits, plans["front_left_wheel"].reverse) == (10, False)
    assert plans["front_right_angle"].sub_trim_us == 12


def test_simulated_robots_show_friction_slip_and_mass() -> None:
    chassis = tenuto.load_profile(shipped("medlar.toml")).plan().chassis

    def drive(physics: Physics, share: float = 1.0) -> float:
        robot = simulated_robot(chassis, physics)
        robot.command(dict.fromkeys(("left_wheel", "right_wheel"), 8.0))
        robot.command(dict.fromkeys(("left_wheel", "right_wheel"), 8.0 * share))
        robot.advance(3.0)
        return robot.now.x

    assert drive(Physics(friction=0.1), 0.05) == 0.0
    assert drive(Physics(friction=0.1), 0.2) > 0.4
    assert drive(Physics(slip=0.1)) == drive(Physics(slip=0.1)) != drive(Physics(slip=0.1, seed=2))
    assert drive(Physics(slip=0.1)) == pytest.approx(0.9 * drive(Physics()), rel=0.01)
    assert drive(Physics(body_lag=0.5)) == pytest.approx(drive(Physics()) - 8 * 0.11 * 0.5, abs=0.01)
    boat = simulated_robot(BOAT, Physics(motor_lag=1e-4, mass=40.0))
    boat.command({"left_thrust": 10.0, "right_thrust": 10.0})
    for seconds in (1.0, 2.0, 3.0):
        # By hand: m·v' = F − d·v from standstill.
        assert boat.advance(1.0).vx == pytest.approx(1.0 - math.exp(-20 / 40 * seconds), abs=2e-3)


COURSES = {"medlar": "orchard-row", "quince": "quince-course", "sorrel": "sorrel-course", "damson": "damson-flight"}


@pytest.mark.long
@pytest.mark.parametrize("robot", COURSES)
def test_each_robot_drives_its_course(robot: str, tmp_path: Path) -> None:
    done = run("demo", "--robot", robot, "--json", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert json.loads(done.stdout)["distance"] > 10
    stem = "drive" if robot == "medlar" else f"drive-{robot}"
    picture = (tmp_path / f"tenuto-demo/{stem}.png").read_bytes()
    assert [int.from_bytes(picture[at : at + 4], "big") for at in (16, 20)] == [1280, 800]
    profile = tenuto.load_profile(shipped(f"{robot}.toml"))
    chassis, simulated = profile.plan().chassis, SimulatedSink()
    ticks = tenuto.replay(profile, shipped(f"{COURSES[robot]}.csv"), [simulated])
    for before, tick in pairwise(ticks):
        assert chassis.fits(tick.command)
        assert chassis.forward(tick.actuators) == pytest.approx(tick.command, abs=0.12)
        if isinstance(chassis, SteeredWheels) and tick.command != STANDSTILL != before.command:
            turned = [abs(tick.actuators[name] - before.actuators[name]) for name in tick.actuators if "angle" in name]
            assert max(turned) <= chassis.steering_rate * tick.dt + 1e-9
    log = pd.read_csv(tmp_path / f"tenuto-demo/{stem}.csv")
    assert log[[column for column in log if str(column).startswith("wire.")]].notna().all(axis=None)
    if robot == "quince":
        assert [kind for kind, _ in pd.Series(ticks.to_frame()["steering"]).groupby(ticks.to_frame()["steering"])] == [
            "counter", "crab", "front", "rear"
        ]  # fmt: skip
        crab = [tick for tick in ticks if tick.chosen.steering == "crab" and tick.command != STANDSTILL]
        assert max(abs(tick.command.yaw_rate) for tick in crab) < 0.01
    if robot == "damson":
        assert [tick.actions for tick in ticks if tick.actions] == [("take off",), ("land",)]
        assert max(point.z for point in simulated.robot.path) > 1.0


def test_what_a_vehicle_cannot_do_is_told() -> None:
    sideways = shipped("medlar.toml").read_text().replace('kind = "arcade"', 'kind = "any_direction"')
    sideways = sideways.replace('turn = "steer"', 'turn = "turn"\nsideways = "steer"')
    sideways = sideways.replace("[style]", '[controls.turn]\nreads = "right_y"\n\n[style]')
    bench = Bench(parse_profile(sideways))
    still = {"left_y": 983.0, "right_x": 983.0, "right_y": 0.0, "left_shoulder": 0.0}
    bench.run(0.1, still)
    bench.run(0.1, still | {"left_shoulder": 1.0})
    tick = bench.run(0.2, still | {"left_shoulder": 1.0, "right_x": -30454.0})
    assert (tick.guard.state, tick.command) == (State.DRIVING, STANDSTILL)
    assert tick.notices[0].text == "this vehicle cannot do this: sideways"


@pytest.mark.parametrize(
    ("profile", "old", "new", "said"),
    [
        ("quince", 'kind = "four_wheel"\n', 'kind = "car"\n', "style.max_angle: expected one of kind, throttle"),
        ("medlar", 'kind = "arcade"\nforward', 'kind = "car"\nsteer = "steer"\nthrottle', "style.turn"),
        ("sorrel", "{ left = ", "{ lift = ", "style.each: expected thrusters of this vehicle: left, right"),
        ("sorrel", 'thrust = "28 N"', 'thrust = "28 m"', "m is a length; a force is needed"),
        ("quince", "[actuators.angles]", "[actuators.angels]", 'did you mean "angles"?'),
        ("quince", 'max_wheel_speed = "60 rev/min"\n', "", "actuators.front_left_wheel.full: expected full, the value"),
        ("quince", '"counter", "crab"', '"counter", "krab"', "choose.steering.order"),
        ("medlar", 'kind = "differential"\ntrack = "0.62 m"', 'kind = "skid_steer"', "chassis.effective_track: "),
    ],
)  # fmt: skip
def test_a_vehicle_that_does_not_fit_is_refused(profile: str, old: str, new: str, said: str) -> None:
    text = shipped(f"{profile}.toml").read_text()
    assert old in text
    with pytest.raises(tenuto.ProfileError) as caught:
        parse_profile(text.replace(old, new, 1))
    assert said in str(caught.value)


DOCS = (Path(__file__).parents[1] / "docs/vehicles.md").read_text()


def test_the_vehicles_of_the_docs_can_be_driven() -> None:
    text = shipped("medlar.toml").read_text().split("[chassis]")[0]
    blocks = [block.split("```")[0] for block in DOCS.split("```toml\n")[1:] if block.startswith("[chassis]")]
    kinds = [parse_profile(text + block).chassis.kind for block in blocks]
    assert len(kinds) == len(set(kinds)) == 10
    for block in blocks:
        bench = Bench(parse_profile(text + block))
        assert bench.drive(1.0).command.vx > 0.3
    code = DOCS.split("```python\n")[1].split("```")[0]
    exec(compile(code, "docs/vehicles.md", "exec"), {})


def stick(position: float) -> float:
    """Return the raw number of a gamepad's stick for a push ahead or to the left, −1…1."""
    return -position * (32768.0 if position > 0.0 else 32767.0)


# Vehicles with two sides, in which a side stands if its stick rests, with the actuators of both.
MEASURES = {
    "differential": 'kind = "differential"\ntrack = {a}\nwheel_radius = 0.1\nmax_wheel_speed = {w}',
    "tracked": 'kind = "tracked"\ncentre_left = {a}\ncentre_right = {b}\nwheel_radius = 0.1\nmax_wheel_speed = {w}',
    "mecanum": 'kind = "mecanum"\ntrack = {a}\nwheelbase = {b}\nwheel_radius = 0.1\nmax_wheel_speed = {w}',
    "linear_mix": 'kind = "linear_mix"\n[chassis.outputs.left]\nforward = 1.0\nturn = -1.0\n'
    "[chassis.outputs.right]\nforward = 1.0\nturn = 1.0",
    "thrusters": 'kind = "thrusters"\ndrag = {{ forward = {w}, turn = {b} }}\n'
    "[chassis.thrusters.left]\nx = 0.1\ny = {a}\nthrust = 20.0\nthrust_back = 15.0\n"
    "[chassis.thrusters.right]\nx = -0.2\ny = -{b}\nthrust = 20.0\nthrust_back = 15.0",
}
TANK = """format = 1
name = "tank"
source.kind = "gamepad"
controls.one.reads = "left_y"
controls.other.reads = "right_y"
style = {{ kind = "tank", left = "one", right = "other" }}
speeds = {{ forward = {f}, backward = {back}, turn = {turn} }}
limits = {{ acceleration = {acc}, deceleration = {dec}, turn_acceleration = {turn_acc}{jerk} }}
guard = {{ hold_to_run = "left_shoulder", link_timeout = "300 ms" }}
[chassis]
"""
some, LONG = st.floats(0.5, 2.0), 600


@pytest.mark.parametrize(
    "kind", [kind if kind == "differential" else pytest.param(kind, marks=pytest.mark.long) for kind in MEASURES]
)
@examples(10)
@given(
    numbers=st.fixed_dictionaries(dict.fromkeys(("a", "b", "f", "back", "turn", "acc", "dec", "turn_acc"), some)),
    fastest=st.floats(2.0, 40.0), jerk=st.sampled_from(["", ", jerk = 4.0, turn_jerk = 9.0"]), right=st.booleans(),
    story=st.lists(st.tuples(st.floats(-1.0, 1.0), st.integers(1, 60)), min_size=1, max_size=5),
)  # fmt: skip
def test_a_tank_is_a_stick_a_side(
    kind: str, numbers: dict[str, float], fastest: float, jerk: str, right: bool, story: list[tuple[float, int]]
) -> None:
    """A side whose stick rests stands while the speed changes and in a stop; the other is as fast as permitted."""
    values = {**numbers, "w": fastest, "jerk": jerk}
    profile = tenuto.parse_profile((TANK + MEASURES[kind]).format(**values))
    pipeline, now = tenuto.Pipeline(profile), 0.0
    moved, rests = ("right_y", "left") if right else ("left_y", "right")
    ticks = [(0.0, 5, False), (0.0, 5, True), *((push, count, True) for push, count in story), (1.0, LONG, True)]
    for push, count, held in [*ticks, (1.0, LONG, False)]:
        for _ in range(count):
            now += 0.02
            raw = {"left_y": 0.0, "right_y": 0.0, "left_shoulder": float(held), moved: stick(push)}
            tick = pipeline.step(tenuto.Frame(now, raw), now)
            assert max(abs(value) for name, value in tick.actuators.items() if rests in name) < 1e-8
        if count == LONG and held:
            sides = profile.plan().chassis.sides()
            track = sides.left + sides.right if sides is not None else 2.0 * numbers["f"] / numbers["turn"]
            # It turns about the standing side: at the speed of the other, or at the permitted turn.
            assert abs(tick.demand.yaw_rate) * track == pytest.approx(min(numbers["f"], numbers["turn"] * track))
            assert tick.command == pytest.approx(profile.plan().chassis.within_reach(tick.demand)[0], abs=1e-9)
    assert tick.command == tenuto.VelocityCommand()


CAR = """format = 1
name = "car"
source.kind = "gamepad"
controls.drive.reads = "left_y"
controls.steer.reads = "right_x"
style = {{ kind = "car", throttle = "drive", steer = "steer" }}
speeds = {{ forward = 2.0, turn = 3.0 }}
limits = {{ acceleration = {acc}, turn_acceleration = 50.0{jerk} }}
guard = {{ hold_to_run = "left_shoulder", link_timeout = "300 ms" }}
[chassis]
kind = "car"
wheelbase = {base}
track = {track}
wheel_radius = 0.1
max_steering = {most}
steering_rate = {rate}
"""


@examples(25)
@given(
    st.floats(0.3, 1.0), st.floats(0.2, 0.8), st.floats(0.2, 0.7), st.floats(0.8, 6.0), st.floats(0.5, 2.0),
    st.sampled_from(["", ", jerk = 6.0"]),
    st.lists(st.tuples(st.sampled_from([0.0, 1.0, -1.0, 0.4]), st.floats(-1.0, 1.0), st.integers(1, 80)), max_size=6),
)  # fmt: skip
def test_steered_wheels_follow_the_steering_stick_whatever_the_throttle_does(
    base: float, track: float, most: float, rate: float, acc: float, jerk: str, story: list[tuple[float, float, int]]
) -> None:
    """The inner wheel of a car by independent geometry: within the steering rate, also in a stop and at standstill."""
    text = CAR.format(base=base, track=track, most=most, rate=rate, acc=acc, jerk=jerk)
    pipeline, now, angle = tenuto.Pipeline(tenuto.parse_profile(text)), 0.0, 0.0
    radius = base / math.tan(most) + track / 2.0  # of the middle of the rear axle, at full lock
    # The outer wheel turns least beside the inner one at full lock: cot(outer) = cot(inner) + track/base.
    least = (math.sin(math.atan2(base, base / math.tan(most) + track)) / math.sin(most)) ** 2
    for drive, steer, count in [(0.0, 0.0, 10), *story, (1.0, 0.0, 200), (0.0, 1.0, 40)]:
        for number in range(count):
            now += 0.02
            raw = {"left_y": stick(drive), "right_x": stick(steer), "left_shoulder": float(now > 0.1)}
            tick = pipeline.step(tenuto.Frame(now, raw), now)
            was, angle = angle, tick.actuators["front_left_angle"]
            curve = steer / radius
            wanted = math.atan2(curve * base, 1.0 - curve * track / 2.0)
            assert abs(angle - was) <= rate * 0.02 + 1e-9
            step = min(rate * 0.02, abs(wanted - was))
            if now > 0.2 and number > 0:  # the right wheel may need longer
                assert min(was, wanted) - 1e-9 <= angle <= max(was, wanted) + 1e-9
                assert abs(angle - was) >= least * step - 1e-9
            turn = tick.command.yaw_rate * (base / math.tan(angle) + track / 2.0) if abs(angle) > 1e-6 else 0.0
            assert abs(angle) < 1e-6 or turn == pytest.approx(tick.command.vx, abs=1e-6)
    assert tick.guard.state == "driving"
    assert 0.0 < tick.command.vx < 2.0 or acc > 1.5
