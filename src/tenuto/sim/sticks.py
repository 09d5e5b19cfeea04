"""Synthetic sticks with known true values, to test measurements."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tenuto.basics.number import Array


@dataclass(frozen=True, slots=True)
class StickTruth:
    """The true values of a synthetic control; raw numbers.

    Attributes:
        low, centre, high: its ends and its middle; ``centre`` equals ``low`` for a lever.
        noise: standard deviation of every number.
        scatter: standard deviation of the positions to which it returns.
        play: it stays this far from its middle, on the side from which it came.
        step: the device's resolution.
        spikes: share of numbers that jump far away.
        drift: movement of its middle in the first two seconds.
        offset: its distance from the middle during those two seconds.
    """

    low: float
    centre: float
    high: float
    noise: float = 0.0
    scatter: float = 0.0
    play: float = 0.0
    step: float = 1.0
    spikes: float = 0.0
    drift: float = 0.0
    offset: float = 0.0


def measured_session(
    truth: StickTruth, rng: np.random.Generator, *, rate: float = 50.0, returns: int = 8, start: float = 2.0
) -> tuple[Array, Array]:
    """Return what a control sends in a session: hands off, to its ends and released, several times.

    Args:
        truth: its true values.
        rng: the random generator.
        rate: frames a second.
        returns: number of pushes with a release, to the two ends in turn.
        start: seconds from hands off to the first push.

    Returns:
        Times in s, and raw numbers, arrays of one length.
    """
    keys = [(0.0, truth.centre + truth.offset), (start + 0.2, truth.centre + truth.offset)]
    now = start + 0.2
    for number in range(returns):
        end, side = (truth.high, 1.0) if number % 2 == 0 else (truth.low, -1.0)
        back = truth.centre + truth.scatter * rng.standard_normal() + truth.play * side
        keys += [(now + 0.25, end), (now + 0.6, end), (now + 0.75, back), (now + 1.5, back)]
        now += 1.5
    times, places = np.array(keys).T
    time = np.arange(0.0, now, 1.0 / rate)
    raw = np.interp(time, times, places)
    raw += truth.drift * np.clip(time / 2.0, 0.0, 1.0) * (time < start) + truth.noise * rng.standard_normal(len(time))
    struck = rng.random(len(time)) < truth.spikes
    raw[struck] += rng.choice((-0.3, 0.3), struck.sum()) * (truth.high - truth.low)
    return time, np.round(raw / truth.step) * truth.step
