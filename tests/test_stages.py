"""The stages alone: exact at given points, and the same for a float and an array."""

import math

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from helpers import CART
from tenuto.curves.expo import expo
from tenuto.driving.limits import Limits, ramp_to_stop
from tenuto.driving.ramps import CommandRamp
from tenuto.sim import Physics, SimulatedRobot
from tenuto.sticks.shaping import dead_zone
from tenuto.sticks.travel import Travel, from_centre, from_end
from tenuto.styles.mixing import Intent, in_corner
from tenuto.styles.speeds import Speeds
from tenuto.vehicles import Differential
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

shares = st.floats(-1, 1)
speeds = st.floats(-20, 20)
commands = st.builds(lambda vx, yaw_rate: VelocityCommand(vx=vx, yaw_rate=yaw_rate), speeds, speeds)
carts = st.builds(Differential, st.floats(0.05, 3), st.floats(0.01, 1), st.floats(0.5, 100))


@given(st.floats(-9e4, 9e4), st.floats(-30000, -10), st.floats(-9, 9), st.floats(10, 30000))
def test_position_reaches_its_ends_and_is_clipped_beyond(raw: float, low: float, centre: float, high: float) -> None:
    position = from_centre(raw, low, centre, high)
    assert -1.0 <= position <= 1.0
    assert [from_centre(r, low, centre, high) for r in (low - 1, low, centre, high, high + 1)] == [
        -1,
        -1,
        0,
        1,
        1,
    ]
    # Each half separately: half-way between centre and end is half, also for unequal halves.
    assert from_centre((centre + high) / 2, low, centre, high) == pytest.approx(0.5)
    assert from_centre((centre + low) / 2, low, centre, high) == pytest.approx(-0.5)
    assert from_centre(np.array([raw, low]), low, centre, high) == pytest.approx([position, -1.0])
    assert from_end(np.array([raw]), low, high) == pytest.approx([from_end(raw, low, high)])
    turned = Travel(low, centre, high, reverse=True)
    assert turned.position(raw) == -position
    assert turned.position(np.array([raw])) == pytest.approx([-position])
    assert Travel(low, None, high, reverse=True).position(low) == 1.0


def test_a_travel_out_of_order_is_refused() -> None:
    with pytest.raises(ValueError, match="low < centre < high"):
        Travel(10, 5, 20)


@given(shares, shares, st.floats(0, 0.9), st.floats(0, 1))
def test_shaping_is_odd_rising_exact_and_starts_from_zero(a: float, b: float, width: float, amount: float) -> None:
    def shape(x: float) -> float:
        return expo(dead_zone(x, width), amount)

    assert (shape(-1.0), shape(0.0), shape(1.0)) == (-1.0, 0.0, 1.0)
    assert shape(-a) == -shape(a)
    assert shape(min(a, b)) <= shape(max(a, b)) + 1e-12
    assert shape(width) == 0.0
    assert shape(width + 1e-9) == pytest.approx(0.0, abs=2e-8)  # no jump at the edge
    assert expo(a, amount) == pytest.approx((1 - amount) * a + amount * a**3)  # the formula of the trade
    assert expo(dead_zone(np.array([a, b]), width), amount) == pytest.approx([shape(a), shape(b)], abs=1e-15)


@given(shares, shares)
def test_every_corner_does_what_it_says(forward: float, turn: float) -> None:
    def sides(corner: str) -> tuple[float, float]:
        f, t = in_corner(forward, turn, corner)
        assert np.ravel(in_corner(np.array([forward]), np.array([turn]), corner)) == pytest.approx([f, t])
        mirrored = in_corner(forward, -turn, corner)
        assert mirrored == pytest.approx((f, -t))
        assert in_corner(-forward, turn, corner) == pytest.approx((-f, t))
        return f - t, f + t

    wanted = (forward - turn, forward + turn)
    fits = abs(forward) + abs(turn) <= 1.0
    for corner in ("clip", "scale", "halve", "keep turn", "keep forward"):
        left, right = sides(corner)
        assert max(abs(left), abs(right)) <= 1.0 + 1e-12
        if fits and corner != "halve":
            assert (left, right) == pytest.approx(wanted)
    assert sides("clip") == pytest.approx(tuple(np.clip(wanted, -1, 1)))
    assert sides("halve") == pytest.approx((wanted[0] / 2, wanted[1] / 2))
    scaled = in_corner(forward, turn, "scale")
    assert scaled[0] * turn == pytest.approx(scaled[1] * forward)
    assert in_corner(forward, turn, "keep turn")[1] == turn
    assert in_corner(forward, turn, "keep forward")[0] == forward
    assert in_corner(forward, turn, "free") == (forward, turn)


def test_demand_backs_at_its_own_speed_and_turns_left_when_the_stick_is_left() -> None:
    cart = Speeds(forward=1.2, backward=0.5, turn=1.5)
    assert cart.demand(Intent(1.0, 0.0, 0.0, 1.0)) == VelocityCommand(vx=1.2, yaw_rate=1.5)
    assert cart.demand(Intent(-1.0, 0.0, 0.0, -1.0)) == VelocityCommand(vx=-0.5, yaw_rate=-1.5)


@given(carts, commands)
def test_saturation_keeps_the_arc(cart: Differential, command: VelocityCommand) -> None:
    kept, share = cart.within_reach(command)
    assert cart.fits(kept)
    assert max(map(abs, cart.actuators(kept).values())) <= cart.max_wheel_speed * (1 + 1e-9)
    assert kept.vx * command.yaw_rate == pytest.approx(kept.yaw_rate * command.vx, abs=1e-9)
    if share < 1.0:
        assert max(map(abs, cart.actuators(kept).values())) == pytest.approx(cart.max_wheel_speed)
    else:
        assert kept == command


@given(carts, st.lists(commands, min_size=1, max_size=5), st.floats(0.02, 0.3))
def test_ramps_keep_both_limits_and_arrive(cart: Differential, targets: list[VelocityCommand], dt: float) -> None:
    limits = Limits(acceleration=0.5, turn_acceleration=20.0)
    now, ramp = STANDSTILL, CommandRamp(cart)
    for target in (cart.within_reach(wanted)[0] for wanted in targets):
        for _ in range(20):
            after = ramp.step(now, target, dt, limits)
            assert abs(after.vx - now.vx) <= limits.acceleration * dt + 1e-12
            assert abs(after.yaw_rate - now.yaw_rate) <= limits.turn_acceleration * dt + 1e-12
            assert cart.fits(after)
            now = after
    for _ in range(math.ceil(50.0 / dt) + 50):
        now = ramp.step(now, target, dt, limits)
    assert now == pytest.approx(target, abs=1e-9)


@given(commands, st.floats(0.005, 0.1))
def test_the_stop_keeps_the_arc_and_takes_as_long_as_it_must(start: VelocityCommand, dt: float) -> None:
    assume(max(map(abs, start)) > 1e-6)
    expected = max(abs(start.vx) / 1.5, abs(start.yaw_rate) / 3.0)
    now, seconds = start, 0.0
    while now != STANDSTILL:
        after = ramp_to_stop(now, dt, 1.5, 3.0)
        assert abs(after.vx - now.vx) <= 1.5 * dt + 1e-9
        assert abs(after.yaw_rate - now.yaw_rate) <= 3.0 * dt + 1e-9
        assert after.vx * start.yaw_rate == pytest.approx(after.yaw_rate * start.vx, abs=1e-9)
        now, seconds = after, seconds + dt
    assert expected - 1e-6 <= seconds <= expected + dt + 1e-6


def test_the_simulated_robot_turns_about_the_point_that_geometry_says() -> None:
    robot = SimulatedRobot(CART, Physics(motor_lag=1e-4))
    robot.command(CART.inverse(0.5, 0.0, 0.0, 0.5))  # a circle of 1 m radius to the left
    for _ in range(100):
        robot.advance(math.pi / 0.5 / 100)
    assert (robot.now.x, robot.now.y, robot.now.heading) == pytest.approx((0.0, 2.0, math.pi), abs=2e-3)
    robot.command({"left_wheel": 99.0, "right_wheel": 99.0})
    assert robot.advance(1.0).vx == pytest.approx(CART.max_wheel_speed * CART.wheel_radius, rel=1e-3)
