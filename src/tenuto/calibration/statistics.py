"""Statistics of one control. Pure functions on arrays of raw numbers, one a frame."""

from __future__ import annotations

import math
from statistics import NormalDist
from typing import NamedTuple

import numpy as np

from tenuto.basics.errors import ArgumentError
from tenuto.basics.number import Array

# The standard deviation of a normal distribution is this many times its median absolute deviation.
_MAD_TO_SIGMA = 1.4826
# A switch spends nearly all of its time on its positions.
_ON_POSITIONS = 0.95


class RestStatistics(NamedTuple):
    """A control at rest, in raw numbers.

    Attributes:
        centre: median.
        noise: robust standard deviation: of the numbers, without their drift, within four times 1.4826·MAD (or
            one step of the device, if that is more) of the median, so that a spike does not count.
        peak_to_peak: range of the running median over five samples.
        drift: median of the last quarter minus median of the first.
    """

    centre: float
    noise: float
    peak_to_peak: float
    drift: float


def rest_statistics(raw: Array) -> RestStatistics:
    """Measure a control that nobody touches.

    Args:
        raw: numbers in the order of time, at least four.
    """
    quarter = max(len(raw) // 4, 1)
    drift = float(np.median(raw[-quarter:]) - np.median(raw[:quarter]))
    # The medians of the quarters are three quarters of the time apart.
    level = raw - drift / 0.75 * np.linspace(-0.5, 0.5, len(raw))
    away = np.abs(level - np.median(level))
    reach = 4.0 * max(_MAD_TO_SIGMA * float(np.median(away)), smallest_step(raw))
    noise = float(np.std(level[away <= reach])) if reach > 0.0 else 0.0
    return RestStatistics(float(np.median(raw)), noise, float(np.ptp(smoothed(raw))), drift)


def smallest_step(raw: Array) -> float:
    """Return the smallest difference between two different numbers, 0 if all are equal."""
    steps = np.diff(np.unique(raw))
    return float(steps.min()) if len(steps) else 0.0


def distinct_steps(raw: Array) -> int:
    """Count the different numbers of a control."""
    return len(np.unique(raw))


def smoothed(raw: Array, width: int = 5) -> Array:
    """Take the running median over an odd number of samples: spikes of up to two samples vanish, edges stay."""
    padded = np.pad(raw, width // 2, mode="edge")
    return np.median(np.lib.stride_tricks.sliding_window_view(padded, width), axis=1)


def end_by_dwell(raw: Array, noise: float, *, high: bool) -> float:
    """Find an end of the travel: the number at which a control dwells there.

    The running median over five samples removes spikes; of the result, the numbers within four times
    the noise (or 1.5 % of all travel, if that is more) of the extreme were taken at the end, and their
    median is the result. The noise does not push the median of noisy numbers outwards, as it does the extreme.

    Args:
        raw: numbers in the order of time.
        noise: standard deviation at rest.
        high: the highest end, or the lowest.
    """
    steady = smoothed(raw)
    extreme = steady.max() if high else steady.min()
    reach = max(4.0 * noise, 0.015 * float(np.ptp(steady)))
    return float(np.median(raw[np.abs(steady - extreme) <= reach]))


def count_visits(raw: Array, low: float, high: float) -> tuple[int, int]:
    """Count the visits of a control to its low and its high end: within 3 %, after it was 20 % away."""
    share = (smoothed(raw) - low) / (high - low)
    counts = []
    for distance in (share, 1.0 - share):
        visits, away = 0, True
        for value in distance:
            if away and value < 0.03:
                visits, away = visits + 1, False
            elif value > 0.2:
                away = True
        counts.append(visits)
    return counts[0], counts[1]


def resting_kind(rest: float, low: float, high: float) -> str:
    """Return where a control rests: "middle", "end" (at its lowest, as throttles and triggers do) or "elsewhere".

    The middle is the middle 40 % of the travel, the end the lowest 15 %.
    """
    share = (rest - low) / (high - low)
    if share < 0.15:
        return "end"
    return "middle" if 0.3 <= share <= 0.7 else "elsewhere"


def returns(time: Array, raw: Array, centre: float, low: float, high: float, noise: float) -> Array:
    """Find the rest of a control after each release.

    A return is a stretch of at least 0.25 s after an excursion of more than half-way to an end, in which the
    numbers stay within eight times the noise (at least 3 % of the travel) of each other and within 20 % of
    the travel of the centre. Its value is its median, without the first 0.1 s, in which the stick still swings.

    Args:
        time: s. raw: numbers, of the same length.
        centre, low, high: raw numbers.
        noise: standard deviation at rest.

    Returns:
        The values in the order of time; empty if it was never released.
    """
    span = high - low
    steady = smoothed(raw)
    out = (steady < centre - 0.5 * (centre - low)) | (steady > centre + 0.5 * (high - centre))
    near = np.abs(steady - centre) <= 0.2 * span
    band = max(8.0 * noise, 0.03 * span)
    found: list[float] = []
    was_out = False
    begin = 0
    for row in range(len(raw) + 1):
        if row < len(raw) and near[row]:
            continue
        if was_out and row > begin:
            stretch = slice(begin, row)
            place = _settled(time[stretch], raw[stretch], band)
            if place is not None:
                found.append(place)
                was_out = False
        if row < len(raw) and out[row]:
            was_out = True
        begin = row + 1
    return np.array(found)


def _settled(time: Array, raw: Array, band: float) -> float | None:
    """Return where a stretch settles, or None if it never does."""
    kept = time >= time[0] + 0.1
    time, raw = time[kept], raw[kept]
    if not len(raw) or time[-1] - time[0] < 0.15:
        return None
    steady = smoothed(raw)
    # From the end backwards, as long as it stays within the band; a hand that moves it again is cut off.
    middle = float(np.median(steady))
    calm = np.abs(steady - middle) <= band / 2.0
    return float(np.median(raw[calm])) if calm.mean() > 0.6 else None


def recommended_dead_zone(rests: Array, noise: float, step: float, probability: float = 0.99) -> float:
    """Return the smallest half-width around the mean of the returns that keeps a released stick at zero.

    The rule: the next rest is predicted from the m returns that were seen, assumed normal:
    it is within t·s·√(1 + 1/m) of their mean with the required probability, with s their standard deviation and t
    the quantile of Student's distribution with m − 1 degrees of freedom (a prediction interval: any textbook on
    statistics). While it rests, its noise must not leave the zone either: that adds z·σ, with z the normal
    quantile at which a hundred samples in a row stay inside with that probability, and a step of the device: half of
    one for the value of the rest, and half of one for the mean of the values.

    Args:
        rests: its values of rest, raw numbers, at least three.
        noise: standard deviation at rest, raw.
        step: the device's smallest step, raw.
        probability: that the output is zero on the next return, noise included.

    Returns:
        The half-width in raw numbers.

    Raises:
        ArgumentError: fewer than three returns.
    """
    count = len(rests)
    if count < 3:
        raise ArgumentError(f"a dead zone needs at least three returns, got {count}")
    # Half of the risk for each of the two ways to leave the zone.
    risk = (1.0 - probability) / 2.0
    scatter = float(np.std(rests, ddof=1))
    from_returns = student_quantile(1.0 - risk / 2.0, count - 1) * scatter * math.sqrt(1.0 + 1.0 / count)
    from_noise = NormalDist().inv_cdf(1.0 - risk / 200.0) * noise
    return from_returns + from_noise + step


def student_quantile(probability: float, degrees: int) -> float:
    """Return the quantile of Student's distribution for a probability of more than a half.

    The distribution is a finite sum for whole degrees of freedom: M. Abramowitz and I. A. Stegun, "Handbook of
    Mathematical Functions", 26.7.3 and 26.7.4. It rises, so bisection finds the quantile.

    Args:
        probability: 0.5…1, without 1. degrees: of freedom, at least 1.
    """

    def within(value: float) -> float:
        """Return the probability that a number is within ± a value."""
        angle = math.atan(value / math.sqrt(degrees))
        term, total = math.cos(angle) if degrees % 2 else 1.0, 0.0
        for number in range(2 + degrees % 2, degrees + 1, 2):
            total += term
            term *= math.cos(angle) ** 2 * (number - 1) / number
        total *= math.sin(angle)
        return 2.0 / math.pi * (angle + total) if degrees % 2 else total

    low, high = 0.0, 1.0
    while within(high) < 2.0 * probability - 1.0:
        high *= 2.0
    for _ in range(100):
        middle = (low + high) / 2.0
        low, high = (middle, high) if within(middle) < 2.0 * probability - 1.0 else (low, middle)
    return high


def switch_positions(raw: Array) -> Array | None:
    """Find the positions of a switch: 2, 3 or 6 numbers on which it spends nearly all of its time.

    Numbers that lie together, with gaps of more than 8 % of the travel between, are a position; a switch jumps
    from one to the next, so fewer than 5 % of its numbers lie outside of them.

    Returns:
        The positions in rising order, or None if it is not a switch.
    """
    span = float(np.ptp(raw))
    if span == 0.0:
        return None
    ordered = np.sort(raw)
    groups = np.split(ordered, np.flatnonzero(np.diff(ordered) > 0.08 * span) + 1)
    kept = [group for group in groups if len(group) >= max(3, 0.01 * len(raw))]
    narrow = all(np.ptp(group) < 0.08 * span for group in kept)
    if len(kept) not in (2, 3, 6) or not narrow or sum(map(len, kept)) < _ON_POSITIONS * len(raw):
        return None
    return np.array([float(np.median(group)) for group in kept])


def dirty_spots(raw: Array) -> Array:
    """Find jumps: single numbers more than 8 % of the travel away from both neighbours, which agree to within 4 %.

    Returns:
        The numbers before each jump.
    """
    span = float(np.ptp(smoothed(raw)))
    if len(raw) < 3 or span == 0.0:
        return np.array([])
    before, here, after = raw[:-2], raw[1:-1], raw[2:]
    calm = np.abs(after - before) < 0.04 * span
    jumps = calm & (np.abs(here - before) > 0.08 * span) & (np.abs(here - after) > 0.08 * span)
    return np.asarray(before[jumps], dtype=np.float64)


def travel_shape(x: Array, y: Array) -> str:
    """Return the shape of a stick's travel from its two positions, −1…1: "round", "square" or "in between".

    The corners decide: the mean of the four largest diagonal deflections is 1
    for a round travel and √2 for a square one; "unknown" if the corners were not visited.
    """
    corners = []
    for sign_x in (-1, 1):
        for sign_y in (-1, 1):
            inside = (sign_x * x > 0.3) & (sign_y * y > 0.3) & (np.abs(np.abs(x) - np.abs(y)) < 0.25)
            if not inside.any():
                return "unknown"
            corners.append(float(np.hypot(x[inside], y[inside]).max()))
    reach = float(np.mean(corners))
    return "round" if reach < 1.12 else "square" if reach > 1.3 else "in between"
