"""Every chassis against rigid-body motion, and inverse after forward; saturation, thrusts, odometry, mirrors."""

import math
import random

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from helpers import TANK, examples
from tenuto import ProfileError, parse_profile
from tenuto.data import shipped
from tenuto.driving.limits import Limits
from tenuto.driving.ramps import CommandRamp
from tenuto.motion.odometry import Odometry, along_arc
from tenuto.vehicles import (
    SURFACES,
    Aircraft,
    Chassis,
    Differential,
    Drag,
    LinearMix,
    MixOutput,
    RollerWheel,
    RollerWheels,
    SkidSteer,
    SteeredModules,
    SteeredWheels,
    Thruster,
    Thrusters,
    Wheel,
    car,
    four_wheel_steer,
    mecanum,
    omni,
)
from tenuto.vehicles.base import Sides, Way
from tenuto.vehicles.priority import settle, takes_priority
from tenuto.vehicles.rollers import OmniOptions, PlacedWheel
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

lengths, radii, speeds = st.floats(0.1, 2), st.floats(0.03, 0.4), st.floats(2, 60)
rates = st.just(math.inf) | st.floats(0.5, 6.0)
signed = st.floats(-3, 3).filter(lambda v: v == 0 or abs(v) > 1e-3)
angles = st.floats(-math.pi, math.pi)
commands = st.builds(VelocityCommand, signed, signed, signed, signed)
places = st.tuples(st.floats(-1, 1), st.floats(-1, 1))
# Positions are known to a millimetre, and angles to a degree; with finer values solvers disagree about zero.
degrees = st.integers(-180, 180).map(math.radians)
millimetres = st.integers(-1000, 1000).map(lambda place: place / 1000.0)
thrusters = st.lists(
    st.builds(Thruster, st.just("t"), millimetres, millimetres, degrees,
              st.sampled_from([0.0, 0.0, math.pi / 2]), st.floats(1, 20), st.sampled_from([0.0, 5.0, 12.0])),
    min_size=2, max_size=7,
).map(lambda many: tuple(one._replace(name=f"t{number}") for number, one in enumerate(many)))  # fmt: skip

WHEELED: dict[str, st.SearchStrategy[Chassis]] = {
    "differential": st.builds(Differential, lengths, radii, speeds),
    "skid": st.builds(SkidSteer, lengths, lengths, radii, speeds, st.sampled_from(["wheel", "track"])),
    "car": st.builds(
        car, lengths, lengths, radii, st.floats(0.2, 0.9), speeds, rates, st.sampled_from(["rear", "all"])
    ),
    "car about its middle": st.builds(
        lambda base, track, most: SteeredWheels(
            tuple(Wheel(w.name, w.x - base / 2, w.y, w.max_angle) for w in car(base, track, 0.1, most).wheels),
            0.1,
            20.0,
        ),
        lengths, lengths, st.floats(0.2, 0.9),
    ),
    "four wheels": st.builds(four_wheel_steer, lengths, lengths, radii, st.floats(0.2, 1.5), speeds, rates),
    "modules": st.builds(
        SteeredModules,
        st.lists(places, min_size=2, max_size=5, unique=True).filter(lambda p: np.ptp(np.array(p), axis=0).max() > 0.2)
        .map(lambda ps: tuple((f"m{n}", x, y) for n, (x, y) in enumerate(ps))),
        radii, speeds, rates,
    ),
    "mecanum": st.builds(mecanum, lengths, lengths, radii, speeds),
    "omni": st.builds(omni, st.integers(3, 6), lengths, radii, speeds),
}  # fmt: skip
OTHERS: dict[str, st.SearchStrategy[Chassis]] = {
    "boat": st.builds(Thrusters, thrusters, st.builds(Drag, *([st.floats(2, 40)] * 4))),
    "aircraft": st.builds(
        Aircraft, st.floats(1, 9), st.floats(1, 3), st.floats(1, 3), st.floats(0.5, 3), st.none() | st.floats(0.1, 0.6)
    ),
    "mix": st.sampled_from(list(SURFACES.values())).map(lambda s: LinearMix(s, VelocityCommand(9, 2, 3, 1))),
}
ALL = WHEELED | OTHERS
# Vehicles that steer: the limits apply to the speed ahead, and the steering rate to the arc.
ARCS = ("car", "car about its middle", "four wheels")


def over_ground(command: VelocityCommand, x: float, y: float) -> np.ndarray:
    """The velocity of a point of a rigid body, v + ω × r, by NumPy, not by the formulas of the chassis."""
    velocity: np.ndarray = np.array(command[:3]) + np.cross([0.0, 0.0, command.yaw_rate], [x, y, 0.0])
    return velocity[:2]


def wheels_of(chassis: Chassis) -> list[tuple[str, float, float, float, float]]:
    """Name, position, rolling direction and free direction of every wheel with a fixed position."""
    if isinstance(chassis, Differential):
        half = chassis.track / 2
        return [("left_wheel", 0, half, 0, math.pi / 2), ("right_wheel", 0, -half, 0, math.pi / 2)]
    assert isinstance(chassis, RollerWheels)
    return [(f"{w.name}_wheel", w.x, w.y, w.angle, w.angle + w.roller) for w in chassis.wheels]


@pytest.mark.parametrize("kind", ["differential", "mecanum", "omni"])
@given(data=st.data(), command=commands)
def test_a_wheel_rolls_and_slides_only_where_it_may(kind: str, data: st.DataObject, command: VelocityCommand) -> None:
    chassis = data.draw(WHEELED[kind])
    command = VelocityCommand(*chassis.possible(*command))
    turning = chassis.inverse(*command)
    for name, x, y, angle, free in wheels_of(chassis):
        rolled = turning[name] * chassis.wheel_radius * np.array([math.cos(angle), math.sin(angle)])  # type: ignore[attr-defined]
        slides = over_ground(command, x, y) - rolled
        across = -slides[0] * math.sin(free) + slides[1] * math.cos(free)
        assert across == pytest.approx(0.0, abs=1e-9)


@pytest.mark.parametrize("kind", ["car", "car about its middle", "four wheels", "modules"])
@given(data=st.data(), command=commands)
def test_a_steered_wheel_points_where_it_goes_and_never_too_far(
    kind: str, data: st.DataObject, command: VelocityCommand
) -> None:
    chassis = data.draw(WHEELED[kind])
    command, _ = chassis.within_reach(command)
    assume(max(map(abs, command)) > 1e-6)
    does = chassis.actuators(command)
    if isinstance(chassis, SteeredWheels):
        wheels = [(w.name, w.x, w.y, w.max_angle) for w in chassis.wheels]
    else:
        assert isinstance(chassis, SteeredModules)
        wheels = [(name, x, y, math.pi) for name, x, y in chassis.places]
    for name, x, y, most in wheels:
        angle = does.get(f"{name}_angle", 0.0)
        assert abs(angle) <= most + 1e-9
        ground = over_ground(command, x, y)
        assert -ground[0] * math.sin(angle) + ground[1] * math.cos(angle) == pytest.approx(0.0, abs=1e-6)
        if f"{name}_wheel" in does:
            along = ground[0] * math.cos(angle) + ground[1] * math.sin(angle)
            assert does[f"{name}_wheel"] * chassis.wheel_radius == pytest.approx(along, abs=1e-6)
            assert abs(does[f"{name}_wheel"]) <= chassis.max_wheel_speed * (1 + 1e-6)


@pytest.mark.parametrize("kind", ALL)
@given(data=st.data(), command=commands)
def test_there_and_back_within_reach_on_the_same_way(kind: str, data: st.DataObject, command: VelocityCommand) -> None:
    chassis = data.draw(ALL[kind])
    kept, share = chassis.within_reach(command)
    assert chassis.fits(kept)
    assert 0.0 <= share <= 1.0
    # The same direction, only slower: the ratio of the parts has not changed.
    possible = chassis.possible(*command)
    assert kept == pytest.approx([axis * share for axis in possible], abs=1e-9)
    does = chassis.inverse(*kept)
    assert chassis.forward(does) == pytest.approx(kept, abs=2e-3 if kind == "boat" else 1e-6)
    for name, (low, high, _) in chassis.bounds().items():
        assert low - 1e-6 * abs(low) - 1e-9 <= does[name] <= high + 1e-6 * abs(high) + 1e-9
    if 0.0 < share < 1.0:
        assert chassis.load(*kept) == pytest.approx(1.0)
    # Impossible parts are reported, and only those.
    parts = ("forward", "sideways", "up", "turn")
    nearest = possible if share else STANDSTILL
    different = [name for name, a, b in zip(parts, command, nearest, strict=True) if abs(a - b) > 1e-6]
    assert list(chassis.cannot(command)) == different
    # The same formula for an array.
    arrays = [np.array([axis, axis / 2, 0.0]) for axis in kept]
    rows = chassis.inverse(*arrays)
    assert [rows[name][0] for name in does] == pytest.approx(list(does.values()), abs=1e-6)
    back = chassis.forward(rows)
    assert [axis[1] for axis in back] == pytest.approx([v / 2 for v in kept], abs=2e-3 if kind == "boat" else 1e-6)
    assert chassis.load(*arrays)[0] == pytest.approx(chassis.load(*kept))


@given(thrusters, st.tuples(*[st.integers(-60_000, 60_000).map(lambda force: force / 1000.0)] * 4))
def test_thrust_is_shared_as_well_as_scipy_can(many: tuple[Thruster, ...], wanted: tuple[float, ...]) -> None:
    from scipy.optimize import linprog, lsq_linear

    boat = Thrusters(many, Drag(1, 1, 1, 1))
    matrix = np.array(boat.columns).T
    low, high = np.array([[-t.most_back, t.most] for t in many]).T
    force = np.array(boat.allocation.reachable(wanted))
    assume(np.abs(force).max() > 1e-3)
    # The largest possible share of this force: a linear programme over the thrusts and the share.
    most = linprog(
        np.r_[np.zeros(len(many)), -1.0], A_eq=np.c_[matrix, -force], b_eq=np.zeros(4),
        bounds=[*zip(low, high, strict=True), (0, None)],
    )  # fmt: skip
    load = boat.allocation.load(force.tolist())
    assert (1.0 / load if load else math.inf) == pytest.approx(most.x[-1], rel=1e-5, abs=1e-9)
    assume(load < 1e5)
    within = force / max(1.0, load)
    ours = np.array(boat.allocation.thrusts(within.tolist()), dtype=float)
    assert (ours >= low - 1e-9).all()
    assert (ours <= high + 1e-9).all()
    best = lsq_linear(matrix, within, bounds=(low - 1e-12, high + 1e-12), tol=1e-12)
    # As near to the wanted force as the optimum, to a ten-millionth of the strongest thruster.
    assert np.abs(matrix @ ours - within).max() <= np.abs(best.fun).max() + 1e-7 * high.max()


PARTS = {"forward": (0, 1), "turn": (3,), "up": (2,)}
ORDERS = {"forward": ("forward", "turn", "up"), "turn": ("turn", "forward", "up"), "up": ("up", "forward", "turn")}


@examples(40)
@given(thrusters, commands, st.sampled_from(sorted(ORDERS)))
def test_what_goes_first_against_linear_programming(
    many: tuple[Thruster, ...], asked: VelocityCommand, first: str
) -> None:
    """Each part in order gets as much as the thrusts permit beside the parts before it."""
    from scipy.optimize import linprog

    boat = Thrusters(many, Drag(10, 10, 10, 10))
    assume(takes_priority(boat, first))
    kept, wanted = settle(boat, asked, first), 10.0 * np.array(boat.possible(*asked))
    matrix, bounds = np.array(boat.columns).T, [(-thruster.most_back, thruster.most) for thruster in many]
    before = np.zeros(4)

    def most(own: np.ndarray, beside: np.ndarray, slack: float = 0.0) -> float:
        """The largest share of a force beside another one: a linear programme over the thrusts and the share."""
        rows = np.c_[matrix, -own]
        found = linprog(
            np.r_[np.zeros(len(many)), -1.0], A_ub=np.r_[rows, -rows], b_ub=np.r_[beside + slack, slack - beside],
            bounds=[*bounds, (0.0, 1.0)],
        )  # fmt: skip
        return float(found.x[-1]) if found.success else 0.0

    if most(wanted, before) > 1.0 - 1e-6:  # all of it fits together, although a part alone may not
        assert 10.0 * np.array(kept) == pytest.approx(wanted, rel=1e-4)
        return
    for part in ORDERS[first]:
        mine = np.array([axis in PARTS[part] for axis in range(4)])
        if np.abs(wanted[mine]).max() > 1e-3:
            got = np.abs(10.0 * np.array(kept)[mine]).max() / np.abs(wanted[mine]).max()
            # A thousandth less of an earlier part may leave much more of a small one.
            assert most(wanted * mine, before) - 0.01 <= got <= most(wanted * mine, 0.999 * before, 1e-4) + 0.01
        before = before + 10.0 * np.array(kept) * mine


def test_a_fast_diagonal_is_no_reason_to_climb_more_slowly() -> None:
    drone, asked = Aircraft(5.0, 2.0, 1.0, 1.5), VelocityCommand(5.0, 5.0, 2.0, 1.5)
    assert settle(drone, asked, "up") == pytest.approx((5.0 / math.sqrt(2), 5.0 / math.sqrt(2), 2.0, 1.5))
    assert settle(drone, VelocityCommand(3.0, 0.0, -3.0, 0.0), "up") == pytest.approx((3.0, 0.0, -1.0, 0.0))
    assert settle(drone, asked, "arc") == pytest.approx([axis / math.sqrt(2) for axis in asked])
    cart = Differential(0.62, 0.11, 12.6)  # its wheels reach 1.386 m/s
    assert settle(cart, VelocityCommand(1.2, 0.0, 0.0, 1.5), "turn") == pytest.approx((1.386 - 0.465, 0.0, 0.0, 1.5))
    assert settle(cart, VelocityCommand(1.2, 0.0, 0.0, 1.5), "forward") == pytest.approx((1.2, 0, 0, 0.186 / 0.31))
    assert not takes_priority(car(1.0, 0.6, 0.1, 0.5), "turn")


def test_a_side_whose_stick_rests_goes_before_what_goes_first() -> None:
    cart = (
        shipped("medlar.toml").read_text().replace('kind = "differential"', 'kind = "differential"\npriority = "turn"')
    )
    assert parse_profile(cart).plan().priority == "turn"
    with pytest.raises(ProfileError, match='expected "arc" with tank, or a part whose stick rests would move'):
        parse_profile(TANK.replace('kind = "differential",', 'kind = "differential", priority = "turn",'))
    assert parse_profile(TANK).plan().priority == "arc"


@given(commands, st.floats(0.05, 2))
def test_odometry_is_the_sum_of_small_steps(command: VelocityCommand, seconds: float) -> None:
    x = y = heading = 0.0
    steps = 4000
    dt = seconds / steps
    for _ in range(steps):  # the midpoint rule
        middle = heading + command.yaw_rate * dt / 2
        x += dt * (command.vx * math.cos(middle) - command.vy * math.sin(middle))
        y += dt * (command.vx * math.sin(middle) + command.vy * math.cos(middle))
        heading += command.yaw_rate * dt
    way = (command.vx * seconds, command.vy * seconds, command.yaw_rate * seconds)
    assert along_arc(0.0, 0.0, 0.0, *way) == pytest.approx((x, y, heading), abs=1e-5)
    arrays = along_arc(*(np.zeros(2) for _ in range(3)), *(np.array([part, part]) for part in way))
    assert [column[1] for column in arrays] == pytest.approx([x, y, heading], abs=1e-5)
    modules = SteeredModules((("a", 1.0, 0.0), ("b", -1.0, 0.3), ("c", 0.0, -1.0)), 0.1)
    pose = Odometry(modules).step(modules.inverse(*command), seconds)
    assert (pose.x, pose.y, pose.heading) == pytest.approx((x, y, heading), abs=1e-5)


@pytest.mark.parametrize("kind", ["differential", "car", "four wheels", "mecanum"])
@given(data=st.data(), command=commands)
def test_left_is_the_mirror_of_right_and_back_of_front(
    kind: str, data: st.DataObject, command: VelocityCommand
) -> None:
    chassis = data.draw(WHEELED[kind])
    vx, vy, _, turn = VelocityCommand(*chassis.possible(*command))

    def mirrored(name: str) -> str:
        return name.replace("left", "*").replace("right", "left").replace("*", "right")

    does, other = chassis.inverse(vx, vy, 0.0, turn), chassis.inverse(vx, -vy, 0.0, -turn)
    back = chassis.inverse(-vx, -vy, 0.0, -turn)
    for name, value in does.items():
        steer = name.endswith("_angle")
        assert other[mirrored(name)] == pytest.approx(-value if steer else value, abs=1e-9)
        if abs(vx) > 1e-6 or not steer:
            assert back[name] == pytest.approx(value if steer else -value, abs=1e-9)  # the same arc, backwards


def test_what_a_chassis_says_of_itself() -> None:
    cart = Differential(0.62, 0.11, 4 * math.pi).limits()
    assert [cart.straight, cart.smallest_radius] == pytest.approx([1.382, 0.0], abs=1e-3)
    assert cart.turn == pytest.approx(1.382 / 0.31, abs=1e-2)
    assert (cart.sideways, cart.up) == (0.0, 0.0)
    # A car at full lock: the inner wheel is at its greatest angle, so radius = wheelbase/tan(angle) + half the track.
    assert car(1.0, 0.6, 0.2, 0.6, 20.0).limits().smallest_radius == pytest.approx(1 / math.tan(0.6) + 0.3)
    assert four_wheel_steer(1.0, 0.6, 0.2, 0.6).limits().smallest_radius == pytest.approx(0.5 / math.tan(0.6) + 0.3)
    assert omni(3, 0.2, 0.05, 20.0).limits().turn == pytest.approx(5.0)
    # By hand: skidding on centres 0.5 m to the left and 0.4 m to the right.
    skid = SkidSteer(0.5, 0.4, 0.1).inverse(1.0, 0.0, 0.0, 1.0)
    assert skid == {"left_wheel": pytest.approx(5.0), "right_wheel": pytest.approx(14.0)}
    # Seen from above, the rollers of mecanum wheels point to the middle: to go left, the front left wheel turns back.
    left = mecanum(0.5, 0.4, 0.1).inverse(0.0, 1.0, 0.0, 0.0)
    assert list(left.values()) == pytest.approx([-10, 10, 10, -10])
    two = RollerWheels((RollerWheel("a", 0, 1, 0), RollerWheel("b", 0, -1, 0)), 0.1)
    assert two.cannot(VelocityCommand(1, 1, 0, 1)) == ("sideways",)


def test_modules_turn_the_shorter_way_and_wait_for_their_wheels() -> None:
    one = SteeredModules((("a", 0.5, 0.0), ("b", -0.5, 0.0)), 0.1, 50.0, turn_rate=2.0)
    before = {"a_angle": 0.0, "a_wheel": 0.0, "b_angle": 3.0, "b_wheel": 0.0}
    back = one.actuators(VelocityCommand(vx=-1.0), before, 1.0)
    assert back == pytest.approx({"a_angle": 0.0, "a_wheel": -10.0, "b_angle": math.pi, "b_wheel": 10.0}, abs=1e-9)
    left = one.actuators(VelocityCommand(vy=1.0), before, 0.1)
    assert left["a_angle"] == pytest.approx(0.2)
    assert left["a_wheel"] == pytest.approx(10.0 * math.sin(0.2))  # only the component along it
    assert left["b_wheel"] == pytest.approx(10.0 * math.cos(3.0 - 0.2 - math.pi / 2))
    assert one.actuators(STANDSTILL, before, 1.0) == before
    beetle = car(1.0, 0.6, 0.2, 0.6, steering_rate=1.0)
    aimed = beetle.actuators(STANDSTILL, None, 0.0, VelocityCommand(vx=1.0, yaw_rate=0.3))
    assert aimed["rear_left_wheel"] == 0.0
    assert aimed["front_left_angle"] > aimed["front_right_angle"] > 0.2
    assert beetle.actuators(STANDSTILL, aimed, 0.02) == aimed  # at standstill it keeps its steering
    slowly = beetle.actuators(STANDSTILL, dict.fromkeys(aimed, 0.0), 0.1, VelocityCommand(vx=1.0, yaw_rate=0.3))
    assert slowly["front_left_angle"] == pytest.approx(0.1)


def test_a_mix_as_radio_owners_know_it() -> None:
    elevon = LinearMix(SURFACES["elevon"], VelocityCommand(10, 1, 2, 1))
    assert elevon.inverse(5.0, 0.0, 2.0, 1.0) == pytest.approx(
        {"throttle": 0.5, "left_elevon": 1.0, "right_elevon": 0.0}
    )
    offset = LinearMix((MixOutput("a", (1, 0, 0, 0.5), 0.2, -0.3, 1.0),), VelocityCommand(2, 1, 1, 1))
    assert offset.load(2.0, 0.0, 0.0, 0.0) == pytest.approx(1.0 / 0.8)
    assert offset.within_reach(VelocityCommand(vx=-2.0))[1] == pytest.approx(0.5)


@pytest.mark.parametrize("kind", ALL)
@given(
    data=st.data(), wishes=st.lists(commands, min_size=1, max_size=3), dt=st.floats(0.02, 0.1),
    slower=st.none() | st.just(1.2), jerk=st.sampled_from([math.inf, math.inf, 0.8, 4.0]),
)  # fmt: skip
def test_from_anywhere_to_anywhere_within_the_limits(
    kind: str, data: st.DataObject, wishes: list[VelocityCommand], dt: float, slower: float | None, jerk: float
) -> None:
    """Speed, acceleration and jerk by differences; the wheels match the command; and it reaches its target."""
    chassis = data.draw(ALL[kind])
    limits = Limits(
        acceleration=0.8, turn_acceleration=1.5, deceleration=slower, vertical_acceleration=1.0,
        jerk=jerk if "jerk" in chassis.jerks else math.inf,
        turn_jerk=2.0 * jerk if "turn_jerk" in chassis.jerks else math.inf,
    )  # fmt: skip
    most = (1.2, 1.2, 1.0, 1.5)
    jerks = (limits.jerk, limits.jerk if kind not in ARCS else math.inf, limits.jerk, limits.turn_jerk)
    # With modules a style may ask for any way: they take the one that fits their directions.
    ways: list[Way | None] = [None, chassis.sides()]
    ways += ["each", Sides(0.3, 0.4)] if kind == "modules" else []
    sides = data.draw(st.sampled_from(ways))
    rate = getattr(chassis, "turn_rate", getattr(chassis, "steering_rate", math.inf))
    ramp, now, changed = CommandRamp(chassis), STANDSTILL, STANDSTILL
    told = chassis.actuators(now)
    for target in (chassis.within_reach(wish)[0] for wish in wishes):
        needs = sum(abs(new - old) / limit for old, new, limit in zip(now, target, most, strict=True))
        turns = 2.0 * math.tau / rate
        for _ in range(math.ceil((3.0 + 3.0 * needs + 4.0 * limits.smoothing + turns) / dt)):
            after = ramp.step(now, target, dt, limits, sides, actuators=told)
            changes = VelocityCommand(*(new - old for old, new in zip(now, after, strict=True)))
            for change, before, limit, largest in zip(changes, changed, most, jerks, strict=True):
                assert abs(change) <= limit * dt + 1e-9
                assert abs(change - before) <= largest * dt * dt * (1.0 + 1e-6) + 1e-9
            assert chassis.fits(after)
            now, changed, was = after, changes, told
            told = chassis.actuators(now, was, dt, ramp.aim(target) if now == STANDSTILL else None)
            assert chassis.forward(told) == pytest.approx(now, abs=1e-6)
            turned = [math.remainder(told[name] - was[name], math.tau) for name in told if name.endswith("_angle")]
            assert max(map(abs, turned), default=0.0) <= rate * dt + 1e-9
            if now == target and changes == STANDSTILL:
                break
        assert now == pytest.approx(target, abs=1e-4)  # it never gets stuck


@pytest.mark.parametrize("seed", [11, 211, 285])
def test_rounding_does_not_choose_the_way(seed: int) -> None:
    """In each of these drives two ways were equal except for rounding, which differs on a microcontroller."""
    dice, chassis = random.Random(seed), mecanum(1.287, 0.3, 1.306, 0.995)
    quick, turning, slow, turning_slow = (dice.uniform(0.5, 6.0) for _ in range(4))
    limits = Limits(
        acceleration=quick, turn_acceleration=turning, deceleration=slow, turn_deceleration=turning_slow,
        vertical_acceleration=1.0,
    )  # fmt: skip
    now, target = STANDSTILL, STANDSTILL
    for number in range(60):
        if number % 15 == 0:
            wish = VelocityCommand(dice.choice((-3, 3, 0, 1)), dice.choice((0, 0, 2)), 0, dice.choice((-2, 2, 0)))
            target = chassis.within_reach(wish)[0]
        dt = dice.choice((0.02, 0.03))
        near = VelocityCommand(*(speed * (1.0 + dice.uniform(-1.0, 1.0) * 1e-13) for speed in now))
        after, beside = (CommandRamp(chassis).step(one, target, dt, limits) for one in (now, near))
        assert after == pytest.approx(beside, abs=1e-6)
        now = after


# Steps of rounding: two values that differ by them are the same on a board.
ULPS = (-2, 0, 2)


@given(st.floats(0.2, 0.34), st.floats(0.3, 1.0), st.floats(0.3, 0.9), st.floats(10.0, 30.0), st.integers(1, 5))
def test_rounding_does_not_choose_how_far_wheels_turn(
    arc: float, speed: float, turning: float, jerk: float, steps: int
) -> None:
    """From an arc to the left to its mirror image, under an S-curve and soon after the start."""
    limits = Limits(
        acceleration=6.0, deceleration=2.5, turn_acceleration=4.0, turn_deceleration=turning,
        vertical_acceleration=1.0, jerk=jerk,
    )  # fmt: skip
    first, made = VelocityCommand(speed, yaw_rate=speed * arc), []
    for ulps in ULPS:
        turn = speed * arc + ulps * math.ulp(speed * arc)
        ramp, now, seen = CommandRamp(car(2.0, 2.5, 1.5, 0.88)), STANDSTILL, []
        ramp.step(now, STANDSTILL, 0.01, limits, aim=first)
        for number in range(steps + 30):
            now = ramp.step(now, first if number < steps else VelocityCommand(-speed, yaw_rate=turn), 0.01, limits)
            seen.append((*now, *ramp.arc))
        made.append(np.array(seen))
    assert all(np.abs(one - made[1]).max() < 1e-6 for one in made)


@given(st.floats(0.01, 1.0), st.floats(0.1, 1.0), st.sampled_from([1.0, -1.0]), st.sampled_from(["arcs", "sides"]))
def test_a_rounding_error_is_no_turn_in_the_other_direction(speed: float, turn: float, side: float, way: str) -> None:
    """Its sign chose the limit: a robot that may stop its turn faster than begin it turned too fast for one step."""
    limits = Limits(
        acceleration=1.7, deceleration=5.7, turn_acceleration=0.2, turn_deceleration=5.8, vertical_acceleration=1.0
    )
    made = []
    for error in (-1e-18, 0.0, 1e-18):
        chassis = car(0.994, 5.0, 1.1, 6.0) if way == "arcs" else Differential(0.6, 0.1, 30.0)
        before = VelocityCommand(speed, yaw_rate=error)
        sides = Sides(0.3, 0.3) if way == "sides" else None
        after = CommandRamp(chassis).step(before, VelocityCommand(speed, yaw_rate=side * turn), 0.02, limits, sides)
        assert abs(after.yaw_rate) <= 0.2 * 0.02 + 1e-9
        made.append(after)
    assert made[0] == pytest.approx(made[1], abs=1e-9)
    assert made[2] == pytest.approx(made[1], abs=1e-9)


@given(st.floats(1e-4, 0.5), st.sampled_from([1, -1]), st.sampled_from([1, -1]))
def test_rounding_does_not_choose_which_way_a_module_turns(speed: float, ahead: int, side: int) -> None:
    modules = SteeredModules((("left", 0.0, 0.2), ("right", -2.3, 0.0)), 0.05, 40.0)
    across = dict.fromkeys(modules.bounds(), 0.0) | {"right_angle": side * math.pi / 2.0}
    commands = (VelocityCommand(ahead * speed, yaw_rate=1e-11 * ulps * speed) for ulps in ULPS)
    angles = [modules.actuators(command, across, 0.02)["right_angle"] for command in commands]
    assert all(abs(math.remainder(angle - angles[1], math.tau)) < 1e-6 for angle in angles)


@given(st.floats(0.2, 6.0), st.sampled_from([0.01, 0.02, 0.05]), st.floats(0.01, 1.0))
def test_a_step_that_ends_at_0_ends_there(turning: float, dt: float, wish: float) -> None:
    modules = SteeredModules((("front", 0.3, 0.0), ("rear", -0.3, 0.0)), 0.05, 40.0)
    limits = Limits(acceleration=1.0, turn_acceleration=turning, vertical_acceleration=1.0)
    before = VelocityCommand(yaw_rate=-turning * dt)
    assert CommandRamp(modules).step(before, VelocityCommand(yaw_rate=wish), dt, limits).yaw_rate == 0.0


@given(commands, st.sampled_from([0.0, 0.02]))
def test_modules_that_turn_as_fast_as_they_like_are_there_at_once(wish: VelocityCommand, dt: float) -> None:
    modules = SteeredModules((("front", 0.3, 0.0), ("rear", -0.3, 0.0)), 0.05, 40.0)
    reached, _ = modules.within_reach(wish)
    told = modules.actuators(reached, modules.actuators(STANDSTILL), dt)
    assert all(math.isfinite(value) for value in told.values())
    assert modules.forward(told)[:2] == pytest.approx(reached[:2], abs=1e-6)


def test_omni_wheels_that_leave_a_way_free_are_refused() -> None:
    def refused(*places: tuple[float, float, float]) -> bool:
        wheels = {f"wheel_{n}": PlacedWheel(x=x, y=y, angle=angle) for n, (x, y, angle) in enumerate(places)}
        return any(
            "drive ahead, sideways and round" in str(one)
            for one in OmniOptions(wheel_radius=0.05, wheels=wheels).errors()
        )

    left, right, back = (0.0, 0.2, 0.0), (0.0, -0.2, 0.0), (-0.2, 0.0, math.pi / 2.0)
    assert refused(left)
    assert refused(left, right)
    assert refused(left, right, (-0.2, 0.0, 0.0))  # three that all roll ahead: nothing constrains it sideways
    assert refused((0.2, 0.0, math.pi / 2.0), back, (0.0, 0.0, 0.0), (0.1, 0.0, 0.0)) is False
    assert not refused(left, right, back)
