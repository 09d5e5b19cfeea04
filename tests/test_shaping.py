"""Shaping and smoothing: exact at given points, continuous, increasing, and independent of the time steps."""

import math
from collections.abc import Callable
from itertools import pairwise
from typing import Any

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from tenuto.curves.base import Shape
from tenuto.curves.expo import Expo, expo
from tenuto.curves.points import Points
from tenuto.curves.power import Power
from tenuto.sticks import shaping
from tenuto.sticks.control import ControlPlan, Shaper, StickPlan, stick_zone
from tenuto.sticks.resolution import Resolution, resolution
from tenuto.sticks.smoothing import low_pass, median_of_three, rate_limited
from tenuto.sticks.travel import Travel
from tenuto.styles.mixing import in_corner

shares = st.floats(-1, 1)
zones = st.floats(0, 0.45)
amounts = st.floats(0, 1)
rising = st.lists(st.floats(0.01, 0.99), min_size=1, max_size=5, unique=True).map(sorted)
SHAPES = st.one_of(
    st.builds(Shape, st.builds(Expo, amounts, amounts), st.floats(0.1, 1)),
    st.builds(Shape, st.builds(Power, st.floats(1, 5), st.floats(1, 5))),
    st.builds(
        lambda places, data: Shape(curve=Points.through([(0, 0), *zip(places, data, strict=False), (1, 1)])),
        rising, rising,
    ),
)  # fmt: skip


@given(SHAPES, zones, zones, shares, shares)
def test_every_shape_is_exact_rising_within_range_and_continuous(
    shape: Shape, inner: float, outer: float, a: float, b: float
) -> None:
    def whole(position: Any) -> Any:
        return shape(shaping.dead_zone(position, inner, outer))

    assert (whole(-1.0), whole(0.0), whole(1.0)) == (-shape.scale, 0.0, shape.scale)
    assert whole(min(a, b)) <= whole(max(a, b)) + 1e-12
    assert abs(whole(a)) <= shape.scale + 1e-12
    # No jump at an edge: a thousandth beyond it, the output has hardly changed.
    for edge in (inner, -inner, 1.0 - outer):
        assert abs(whole(edge + 1e-9) - whole(edge - 1e-9)) < 1e-6 / (1.0 - inner - outer) * 10
    assert whole(np.array([a, b])) == pytest.approx([whole(a), whole(b)], abs=1e-12)
    if not isinstance(shape.curve, Expo | Power) or shape.curve.positive == shape.curve.negative:
        assert whole(-a) == pytest.approx(-whole(a), abs=1e-12)


@given(shares, shares, zones, st.floats(0, 0.2))
def test_dead_zones_of_a_stick(x: float, y: float, inner: float, outer: float) -> None:
    arrays = np.array([x]), np.array([y])
    for zone in (shaping.round_dead_zone, shaping.square_dead_zone):
        out = zone(x, y, inner, outer)
        assert out[0] * y == pytest.approx(out[1] * x, abs=1e-9)  # the direction is kept
        assert max(map(abs, out)) <= 1.0 + 1e-12
        assert zone(1.0, 0.0, inner, outer) == (1.0, 0.0)
        assert zone(0.7 * inner, 0.7 * inner, inner, outer) == (0.0, 0.0)
        assert np.ravel(zone(*arrays, inner, outer)) == pytest.approx(out)
    if inner > 1e-9:
        assert shaping.round_dead_zone(inner, inner, inner) > (0.0, 0.0)  # the corner of a square is outside
    straight = shaping.straight_dead_zone(x, y, inner, 0.2, outer)
    assert (straight[0] == 0.0) == (abs(x) <= inner + 0.2 * abs(y))
    assert np.ravel(shaping.straight_dead_zone(*arrays, inner, 0.2, outer)) == pytest.approx(straight)
    assert shaping.straight_dead_zone(inner + 0.19, 1.0, inner, 0.2)[0] == 0.0


@given(shares, shares)
def test_round_to_square_and_back(x: float, y: float) -> None:
    there = shaping.square_to_round(x, y)
    assert math.hypot(*there) == pytest.approx(max(abs(x), abs(y)), abs=1e-12)
    assert shaping.round_to_square(*there) == pytest.approx((x, y), abs=1e-9)
    back = shaping.round_to_square(np.array([there[0]]), np.array([there[1]]))
    assert np.ravel(back) == pytest.approx((x, y), abs=1e-9)
    assert max(shaping.round_to_square(math.sqrt(0.5), math.sqrt(0.5))) == pytest.approx(1.0)


@given(
    st.sampled_from(["axes", "round", "square", "straight"]), st.floats(0.0, 0.3), st.floats(0.0, 0.2),
    st.floats(0.0, 0.2), st.floats(0.0, 2.0 * math.pi), st.floats(0.0, 1.0),
)  # fmt: skip
def test_a_round_stick_reaches_the_rim_of_the_square_behind_every_zone(
    zone: str, inner: float, outer: float, growth: float, angle: float, length: float
) -> None:
    """At the rim one axis is at its end, in every direction; the corners are reached; and what rested rests."""
    plan = StickPlan(x="x", y="y", zone=zone, dead_zone=inner, outer_dead_zone=outer, growth=growth,
                     travel="round to square")  # fmt: skip
    x, y = math.cos(angle), math.sin(angle)
    rim = stick_zone(plan, x, y)
    assert max(map(abs, rim)) == pytest.approx(1.0, abs=1e-9)
    assert zone == "straight" or rim[0] * y == pytest.approx(rim[1] * x, abs=1e-9)
    assert stick_zone(plan, math.sqrt(0.5), math.sqrt(0.5)) == pytest.approx((1.0, 1.0), abs=1e-9)
    x, y = length * x, length * y
    inside = stick_zone(plan, x, y)
    assert max(map(abs, inside)) <= 1.0 + 1e-12
    beyond = {
        "axes": 0.0, "round": length - inner, "square": max(abs(x), abs(y)) - inner,
        "straight": max(abs(x) - growth * abs(y), abs(y) - growth * abs(x)) - inner,
    }[zone]  # fmt: skip
    assert abs(beyond) < 1e-9 or (inside == (0.0, 0.0)) == (beyond < 0.0)


WRONG_CURVES: list[tuple[list[list[float]], str]] = [
    ([[0, 0], [0.5, 0.6], [0.7, 0.4], [1, 1]], r"falls from \[0.5, 0.6\] to \[0.7, 0.4\]"),
    ([[0, 0], [0.5, 0.6], [0.5, 0.7], [1, 1]], r"\[0.5, 0.7\] does not come after"),
    ([[0, 0], [1, 0.9]], r"must pass through \[1, 1\], and has \[1, 0.9\]; say curve_free"),
    ([[0, 0.1], [1, 1]], r"must pass through \[0, 0\], and has \[0, 0.1\]"),
    ([[0, 0], [0.9, 0.9]], r"must go from 0 to 1, and \[0.9, 0.9\] is an end"),
    ([[0, 0], [0.5, 1.5], [1, 1]], r"the point \[0.5, 1.5\] is outside"),
]


@given(st.lists(st.floats(0.01, 0.99), max_size=4, unique=True), st.lists(st.integers(0, 50), min_size=6, max_size=6))
def test_a_curve_is_the_one_of_scipy(places: list[float], outputs: list[int]) -> None:
    from scipy.interpolate import PchipInterpolator

    points = list(zip([0.0, *sorted(places), 1.0], [0.02 * one for one in sorted(outputs)], strict=False))
    x = np.linspace(0.0, 1.0, 101)
    assume(min(b - a for (a, _), (b, _) in pairwise(points)) > 1e-6)
    made = Points.through(points, free=True, low=0.0)(x)
    assert made == pytest.approx(PchipInterpolator(*np.array(points).T)(x), abs=1e-9)


def test_a_curve_follows_scipy_and_names_the_point_that_breaks_a_rule() -> None:
    from scipy.interpolate import PchipInterpolator

    points = [(-1, -1), (-0.3, -0.2), (0, 0), (0.4, 0.1), (0.8, 0.9), (1, 1)]
    x = np.linspace(-1, 1, 501)
    assert Points.through(points)(x) == pytest.approx(PchipInterpolator(*np.array(points).T)(x), abs=1e-12)
    for wrong, said in WRONG_CURVES:
        with pytest.raises(ValueError, match=said):
            Points.through(wrong)
    assert Points.through([[-1, -0.5], [1, 0.9]], free=True)(1.0) == 0.9
    assert Points.through([[0, 0], [0.5, 0.1], [1, 1]], low=0.0)(0.5) == pytest.approx(0.1)


def test_what_a_device_leaves() -> None:
    # By hand: 5 steps at −1, −0.5, 0, 0.5, 1; a zone of 0.6 removes two of them, so the ends and 0 are left.
    assert resolution(5, Shape(), 0.6) == Resolution(3, 1.0, 0)
    assert list(resolution(5, Shape(), 0.25)) == pytest.approx([5, 1 / 3, 0])
    assert list(resolution(11, Shape(), one_way=True)) == pytest.approx([11, 0.1, 2])


def shaper(**plan: Any) -> Callable[[float, float], float]:
    made = Shaper((ControlPlan(name="drive", reads="left_y", travel=Travel(-1, 0, 1), believable=(-1, 1), **plan),))
    return lambda position, dt: made.step({"drive": position}, dt)["drive"]


def test_hysteresis_does_not_chatter_at_the_edge() -> None:
    noise = 0.1 + 0.015 * np.random.default_rng(1).standard_normal(500).clip(-1, 1)
    plain, calm = shaper(dead_zone=0.1), shaper(dead_zone=0.1, hysteresis=0.04)

    def changes(step: Callable[[float, float], float]) -> int:
        moving = [step(float(p), 0.02) != 0.0 for p in noise]
        return sum(a != b for a, b in pairwise(moving))

    assert changes(plain) > 100
    assert changes(calm) == 0
    assert calm(0.141, 0.02) == pytest.approx(0.041 / 0.9)
    assert calm(0.101, 0.02) > 0.0  # on its way back it continues to the edge itself
    stick = Shaper(
        (
            ControlPlan(name="x", reads="x", travel=Travel(-1, 0, 1), believable=(-1, 1)),
            ControlPlan(name="y", reads="y", travel=Travel(-1, 0, 1), believable=(-1, 1)),
        ),
        (StickPlan(x="x", y="y", zone="round", dead_zone=0.1, hysteresis=0.05),),
    )
    assert stick.step({"x": 0.1, "y": 0.1}, 0.02) == {"x": 0.0, "y": 0.0}
    assert stick.step({"x": 0.3, "y": 0.4}, 0.02)["y"] == pytest.approx(0.8 * 0.4 / 0.9)


cuts = st.lists(st.floats(0.001, 0.2), min_size=10, max_size=60).map(lambda parts: [p / sum(parts) for p in parts])


@given(cuts, shares, shares, st.floats(0.02, 2))
def test_smoothing_does_not_mind_how_a_second_is_cut(parts: list[float], start: float, end: float, slow: float) -> None:
    passed = limited = start
    for dt in parts:
        passed = low_pass(passed, end, dt, slow)
        limited = rate_limited(limited, end, dt, 1 / slow, 2 / slow)
    assert passed == pytest.approx(low_pass(start, end, 1.0, slow), abs=1e-9)
    assert limited == pytest.approx(rate_limited(start, end, 1.0, 1 / slow, 2 / slow), abs=1e-9)
    one = rate_limited(np.array([start]), np.array([end]), parts[0], 1 / slow, 2 / slow)
    assert one[0] == pytest.approx(rate_limited(start, end, parts[0], 1 / slow, 2 / slow), abs=1e-12)


def test_smoothing_against_scipy() -> None:
    from scipy.ndimage import median_filter
    from scipy.signal import lfilter

    values = np.random.default_rng(2).standard_normal(300)
    keep = math.exp(-0.02 / 0.1)
    ours, y = [], 0.0
    for value in values:
        y = low_pass(y, float(value), 0.02, 0.1)
        ours.append(y)
    assert ours == pytest.approx(lfilter([1 - keep], [1, -keep], values))
    middles = median_of_three(values[:-2], values[1:-1], values[2:])
    assert middles == pytest.approx(median_filter(values, size=3)[1:-1])
    spike = shaper(spike_filter=True)
    assert [spike(p, 0.02) for p in (0.0, 0.0, 1.0, 0.0, 0.0)] == [0.0] * 5


@pytest.mark.parametrize(
    ("call", "said"),
    [
        (lambda: expo(0.5, 2.0), "an expo from 0 to 1, found 2"),
        (lambda: expo(0.5, 0.3, -0.1), "found 0.3 and -0.1"),
        (lambda: shaping.dead_zone(0.5, 0.6, 0.4), "less than 1 together, found 0.6 and 0.4"),
        (lambda: shaping.dead_zone(0.5, math.nan), "found nan"),
        (lambda: in_corner(0.5, 0.5, "scael"), "expected one of free, clip, scale, .* found scael"),
    ],
)
def test_a_stage_by_itself_refuses_what_it_cannot_mean(call: Callable[[], object], said: str) -> None:
    with pytest.raises(ValueError, match=said):
        call()
