"""Numbers that are stated: each is compared with the drive of which it speaks."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from helpers import examples
from tenuto.basics.text import joined, parted
from tenuto.driving.limits import Limits
from tenuto.driving.ramps import CommandRamp
from tenuto.vehicles.base import Chassis, Sides
from tenuto.vehicles.differential import Differential
from tenuto.vehicles.steered import car
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

CART, VAN = Differential(0.5, 0.1, 30.0), car(1.3, 0.9, 0.2, 0.6, 10.0, 2.0)
LIMIT = st.floats(0.3, 5.0)


@examples(60)
@given(
    st.sampled_from([(CART, None), (CART, Sides(0.25, 0.25)), (VAN, None)]),
    st.tuples(LIMIT, LIMIT, LIMIT, LIMIT, st.floats(1.0, 20.0)),
    st.lists(st.tuples(st.floats(-1.0, 1.0), st.floats(-2.0, 2.0), st.integers(1, 60)), min_size=2, max_size=12),
)
def test_no_speed_grows_or_shrinks_faster_than_its_own_limit_with_a_jerk_limit(
    robot: tuple[Chassis, Sides | None],
    limits: tuple[float, float, float, float, float],
    wishes: list[tuple[float, float, int]],
) -> None:
    """Towards any targets, for any times: growing at the one limit, shrinking at the other, the acceleration steady."""
    (chassis, sides), (up, down, turn_up, turn_down, jerk) = robot, limits
    each = Limits(
        acceleration=up, deceleration=down, turn_acceleration=turn_up, turn_deceleration=turn_down, jerk=jerk,
        turn_jerk=float("inf") if chassis is VAN else 3.0 * jerk,
    )  # fmt: skip
    ramp, now, rate, dt = CommandRamp(chassis), STANDSTILL, 0.0, 0.02
    for forward, turn, ticks in wishes:
        target, _ = chassis.within_reach(VelocityCommand(vx=forward, yaw_rate=turn))
        for _ in range(ticks):
            then = ramp.step(now, target, dt, each, sides)
            for old, new, grows, shrinks in (
                (now.vx, then.vx, up, down), (now.yaw_rate, then.yaw_rate, turn_up, turn_down),
            ):  # fmt: skip
                both = max(up, down) if sides else 0.0  # a side may grow while the other one shrinks
                limit = max(grows, shrinks) if old * new < 0.0 else grows if abs(new) > abs(old) else shrinks
                assert abs(new - old) <= max(limit, both) * dt * (1.0 + 1e-6) + 1e-9
            assert chassis is VAN or abs((then.vx - now.vx) / dt - rate) <= jerk * dt * (1.0 + 1e-6) + 1e-6
            now, rate = then, (then.vx - now.vx) / dt
    for _ in range(2000):
        now = ramp.step(now, target, dt, each, sides)
    assert max(abs(a - b) for a, b in zip(now, target, strict=True)) < 1e-6, "it arrives"


@given(st.lists(st.text("ab; ", min_size=1).filter(lambda text: text.strip())))
def test_texts_in_one_cell_of_a_log_are_read_back_whatever_is_in_them(texts: list[str]) -> None:
    assert parted(joined(texts)) == tuple(texts)
    assert parted("a; b") == ("a", "b"), "as a log of 1.0.0 has it"
