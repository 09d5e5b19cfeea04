"""The cost of each vehicle: a tick as a multiple of the loop by hand, and a million rows compared with bare NumPy."""

from __future__ import annotations

import math
import statistics
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from benchmarks.tick import PERIOD, by_hand, full_ticks, seconds, stick_numbers
from tenuto import Frame, Pipeline, load_profile
from tenuto.curves.expo import expo
from tenuto.curves.points import Points
from tenuto.data import shipped
from tenuto.motion.odometry import along_arc
from tenuto.sticks import shaping
from tenuto.sticks.smoothing import low_pass
from tenuto.styles.mixing import in_corner
from tenuto.vehicles import (
    SURFACES,
    Aircraft,
    Chassis,
    Differential,
    Drag,
    LinearMix,
    SkidSteer,
    SteeredModules,
    Thruster,
    Thrusters,
    car,
    four_wheel_steer,
    mecanum,
    omni,
)
from tenuto.vehicles.velocity import VelocityCommand

ROUNDS, TICKS, ROWS = 5, 2000, 1_000_000
SIX = tuple(
    Thruster(f"t{number}", math.cos(number), math.sin(number), number * math.pi / 3.0, 0.0, 10.0, 6.0)
    for number in range(6)
)
VEHICLES: dict[str, Chassis] = {
    "differential": Differential(0.62, 0.11, 12.6),
    "skid-steer": SkidSteer(0.5, 0.5, 0.11, 12.6),
    "car": car(1.0, 0.6, 0.15, 0.6, 12.6, 2.0),
    "four-wheel steer": four_wheel_steer(1.0, 0.6, 0.15, 0.6, 12.6, 2.0),
    "modules": SteeredModules((("a", 0.3, 0.3), ("b", 0.3, -0.3), ("c", -0.3, 0.3), ("d", -0.3, -0.3)), 0.1, 12.6, 6.0),
    "mecanum": mecanum(0.5, 0.5, 0.1, 12.6),
    "omni, three": omni(3, 0.25, 0.08, 15.0),
    "boat, two thrusters": Thrusters((Thruster("l", -0.5, 0.35), Thruster("r", -0.5, -0.35)), Drag(15, 50, 50, 9)),
    "boat, six thrusters": Thrusters(SIX, Drag(15, 25, 25, 9)),
    "aircraft": Aircraft(3.0, 1.0, 1.0, 2.0),
    "elevons": LinearMix(SURFACES["elevon"], VelocityCommand(1.2, 1.0, 1.0, 1.6)),
}


def main() -> None:
    """Print both."""
    ticks()
    rows()


def ticks() -> None:
    """The same sticks and the same pipeline, with one vehicle after the other."""
    plan = load_profile(shipped("medlar.toml")).plan()
    numbers = stick_numbers(TICKS)
    frames = [Frame((row + 1) * PERIOD, values) for row, values in enumerate(numbers)]
    print("a whole tick, times the loop by hand for the differential:")
    for name, chassis in VEHICLES.items():
        ratios = []
        for _ in range(ROUNDS):
            hand = seconds(by_hand, numbers)
            ratios.append(seconds(full_ticks, Pipeline(replace(plan, chassis=chassis)), frames) / hand)
        print(f"  {name:<20} {statistics.median(ratios):5.1f}")


def rows() -> None:
    """Each stage function on a million rows, compared with a direct expression."""
    rng = np.random.default_rng(3)
    x, y, turn = (rng.uniform(-1.0, 1.0, ROWS) for _ in range(3))
    cart, wheels = VEHICLES["differential"], VEHICLES["mecanum"]
    beetle = VEHICLES["car"]
    curve = Points.through([(0, 0), (0.5, 0.2), (1, 1)])
    none = np.zeros(ROWS)

    def bare_zone() -> object:
        return np.sign(x) * np.clip((np.abs(x) - 0.1) / 0.9, 0.0, 1.0)

    def bare_scale() -> object:
        total = np.maximum(np.abs(x) + np.abs(y), 1.0)
        return x / total, y / total

    def bare_cart() -> object:
        return (x - 0.31 * turn) / 0.11, (x + 0.31 * turn) / 0.11

    def bare_mecanum() -> object:
        return [(x + a * y + b * 0.5 * turn) / 0.1 for a, b in ((-1, -1), (1, 1), (1, -1), (-1, 1))]

    def bare_car() -> object:
        found = []
        for wx, wy in ((1.0, 0.3), (1.0, -0.3)):
            ahead, left = x - turn * wy, turn * wx
            side = np.where(ahead < 0.0, -1.0, 1.0)
            found.append(np.arctan2(left * side, ahead * side))
        return found, [(x - turn * wy) / 0.15 for wy in (0.3, -0.3)]

    def bare_arc() -> object:
        half = turn / 2.0
        chord = np.sinc(half / math.pi)
        c, s = np.cos(half), np.sin(half)
        return chord * (x * c - y * s), chord * (x * s + y * c), turn

    pairs: dict[str, tuple[Callable[[], object], Callable[[], object]]] = {
        "dead zone": (lambda: shaping.dead_zone(x, 0.1), bare_zone),
        "expo": (lambda: expo(x, 0.4), lambda: x * (1.0 + 0.4 * (x * x - 1.0))),
        "curve through points": (lambda: curve(x), lambda: np.interp(x, curve.places, (-1, -0.2, 0, 0.2, 1))),
        "low pass": (lambda: low_pass(x, y, 0.02, 0.1), lambda: y + (x - y) * math.exp(-0.2)),
        "corner, scaled": (lambda: in_corner(x, y, "scale"), bare_scale),
        "differential": (lambda: cart.inverse(x, none, none, turn), bare_cart),
        "mecanum": (lambda: wheels.inverse(x, y, none, turn), bare_mecanum),
        "car": (lambda: beetle.inverse(x, none, none, turn), bare_car),
        "exact arc": (lambda: along_arc(none, none, none, x, y, turn), bare_arc),
    }
    print("a million rows, times the bare NumPy expression (a curve: times straight lines between its points):")
    for name, (ours, bare) in pairs.items():
        ratios = []
        for _ in range(ROUNDS):
            alone = seconds(bare)
            ratios.append(seconds(ours) / alone)
        print(f"  {name:<20} {statistics.median(ratios):5.1f}")


if __name__ == "__main__":
    main()
