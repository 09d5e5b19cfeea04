"""The cost of a full tick, compared with a loop written by hand for the same arithmetic.

Both run alternately, in one process, over the same stick numbers; their ratio is printed. The loop by
hand reads, subtracts the centre, applies the dead zone and expo, mixes, scales and limits. It
checks nothing, stores nothing and never stops: the ratio is the price of that.
"""

from __future__ import annotations

import statistics
import time
import tracemalloc

import numpy as np

from tenuto import Frame, Pipeline, load_profile
from tenuto.data import shipped

ROUNDS, TICKS = 15, 5000
PERIOD = 0.02


def stick_numbers(count: int) -> list[dict[str, float]]:
    """A driver who enables, and then always moves the sticks."""
    rng = np.random.default_rng(1)
    forward, left = (983 + 28000 * np.sin(np.cumsum(rng.normal(0, 0.05, count))) for _ in range(2))
    values = [
        {"left_y": float(y), "right_x": float(x), "left_shoulder": 1.0} for y, x in zip(forward, left, strict=True)
    ]
    rest = {"left_y": 983.0, "right_x": 983.0, "left_shoulder": 0.0}
    values[0] = rest
    values[1] = rest | {"left_shoulder": 1.0}
    return values


def by_hand(numbers: list[dict[str, float]]) -> tuple[float, float]:
    """The loop written by hand."""
    vx = yaw_rate = left = right = 0.0
    for values in numbers:
        y = -(values["left_y"] - 983) / 29471
        x = -(values["right_x"] - 983) / 29471
        y = max(-1.0, min(1.0, y))
        x = max(-1.0, min(1.0, x))
        if abs(y) < 0.08:
            y = 0.0
        else:
            y = (y - 0.08) / 0.92 if y > 0 else (y + 0.08) / 0.92
        if abs(x) < 0.08:
            x = 0.0
        else:
            x = (x - 0.08) / 0.92 if x > 0 else (x + 0.08) / 0.92
        y = 0.65 * y + 0.35 * y**3
        x = 0.65 * x + 0.35 * x**3
        if not values["left_shoulder"]:
            y = x = 0.0
        want_vx = y * 1.2 if y > 0 else y * 0.5
        want_yaw_rate = x * 1.5708
        vx += max(-0.016, min(0.016, want_vx - vx))
        yaw_rate += max(-0.0628, min(0.0628, want_yaw_rate - yaw_rate))
        left = (vx - yaw_rate * 0.31) / 0.11
        right = (vx + yaw_rate * 0.31) / 0.11
        left = max(-12.57, min(12.57, left))
        right = max(-12.57, min(12.57, right))
    return left, right


def full_ticks(pipeline: Pipeline, frames: list[Frame]) -> None:
    step = pipeline.step
    for frame in frames:
        step(frame, frame.time)


def seconds(function: object, *arguments: object) -> float:
    began = time.perf_counter()
    function(*arguments)  # type: ignore[operator]
    return time.perf_counter() - began


def main() -> None:
    profile = load_profile(shipped("medlar.toml"))
    numbers = stick_numbers(TICKS)
    frames = [Frame((row + 1) * PERIOD, values) for row, values in enumerate(numbers)]
    ratios, ours = [], []
    for _ in range(ROUNDS):
        hand = seconds(by_hand, numbers)
        ours.append(seconds(full_ticks, Pipeline(profile), frames))
        ratios.append(ours[-1] / hand)
    print(f"one full tick: {statistics.median(ours) / TICKS * 1e6:.1f} µs here,", end=" ")
    print(f"{statistics.median(ratios):.1f} times the loop by hand", end=" ")
    print(f"(median of {ROUNDS} rounds of {TICKS} ticks, {min(ratios):.1f} to {max(ratios):.1f})")
    everything(numbers)
    memory(profile)


def everything(numbers: list[dict[str, float]]) -> None:
    """Medlar with its tail-lift: shapes, filters, a stick, switches, modes, rates, levels, trims, outputs, actions."""
    plain, full = load_profile(shipped("medlar.toml")), load_profile(shipped("medlar-lift.toml"))
    names = [name for control in full.plan().controls for name in control.all_reads]
    frames = [
        Frame((row + 1) * PERIOD, dict.fromkeys(names, 0.0) | values | {"left_x": values["right_x"]})
        for row, values in enumerate(numbers)
    ]
    to_plain, to_hand = [], []
    for _ in range(ROUNDS):
        hand = seconds(by_hand, numbers)
        one = seconds(full_ticks, Pipeline(plain), frames)
        all_of_it = seconds(full_ticks, Pipeline(full), frames)
        to_plain.append(all_of_it / one)
        to_hand.append(all_of_it / hand)
    print(f"one tick with everything switched on: {statistics.median(to_plain):.1f} times the plain tick,", end=" ")
    print(f"{statistics.median(to_hand):.1f} times the loop by hand")


def memory(profile: object) -> None:
    """Ten minutes at 50 Hz: does the memory of the pipeline grow?"""
    pipeline = Pipeline(profile)  # type: ignore[arg-type]
    numbers = stick_numbers(500)
    tracemalloc.start()
    sizes = []
    for tick in range(30_000):
        now = tick * PERIOD
        pipeline.step(Frame(now, numbers[tick % 500 if tick < 500 else 2 + tick % 498]), now)
        if tick % 3000 == 1500:
            sizes.append(tracemalloc.get_traced_memory()[0])
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    print(f"ten minutes at 50 Hz: {sizes[0] / 1024:.1f} KiB held after 30 s,", end=" ")
    print(f"{sizes[-1] / 1024:.1f} KiB at the end, {peak / 1024:.1f} KiB at most")


if __name__ == "__main__":
    main()
