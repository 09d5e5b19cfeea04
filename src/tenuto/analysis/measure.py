"""Does it follow its commands? Commands of a log against measured motion: least squares, with confidence intervals.

Model of each of the two motions, ahead and turning: the command u holds from tick to tick; commands within the
dead band have no effect; the rest arrives after a delay d through a first-order lag with time constant τ, and is
multiplied by a scale s, plus an offset b:

    y(t) = b + s·x(t − d),   τ·x' = u' − x,   u' = u where |u| ≥ dead band, else 0

(K. J. Åström and R. M. Murray, "Feedback Systems", Princeton University Press: first-order system with dead time.)
The odometry is a way: means over half a second of it are compared with the model's over the same times. The time of a
single row may be that at which it was received, and a speed from one row to the next is then wrong, and on average too
high; over half a second it is not.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tenuto.analysis.odometry import Motion
from tenuto.basics.number import Array

if TYPE_CHECKING:
    import pandas as pd
    from scipy.optimize import OptimizeResult

# Commands are resampled to an even grid of this step, s.
_GRID = 0.01
# No delay or time constant is known better than this, s: the commands are means over the steps of the grid.
_FINEST = _GRID / 4.0
# A slower command does not count as motion, m/s and rad/s.
_MOVING = {"vx": 0.05, "yaw_rate": 0.05}
# The motion needed for a result, s.
LEAST_SECONDS = 4.0
# An offset of the clocks between 0 and this counts as a delay on one clock, s.
_ONE_CLOCK = 1.0
_LARGEST_LAG = 2.0
# If this share of the measured motion is not explained, the model lacks something.
_UNEXPLAINED = 0.15
_STARTS = ((1.0, 0.0, 0.05, 0.1), (1.0, 0.0, 0.2, 0.3), (1.0, 0.0, 0.1, 0.01))  # scale, offset, delay, time constant
# The steps of delay and time constant for the numerical derivative, s.
_STEP = 1e-6
# The measured way is compared in windows of this length, one from each row, s.
WINDOW = 0.5
# What the model lacks, such as a wheel that slips, lasts no longer than this, s.
_LASTS = 1.0
# Confidence of the intervals: 95 %, by the normal distribution.
_SIGMAS = 1.96


class Value(NamedTuple):
    """An estimate.

    Attributes:
        value: in SI units. plus_minus: half of the 95 % confidence interval; NaN if unknown.
        seconds: duration of the data for it.
    """

    value: float
    plus_minus: float
    seconds: float


@dataclass(frozen=True)
class Response:
    """How one motion follows its command.

    Attributes:
        axis: "vx" or "yaw_rate". scale, offset, delay, time_constant, dead_band: see the model; m/s or rad/s, and s.
        unexplained: the share of the measured motion, in its root mean square, that the model does not explain.
        time, measured, modelled: for a figure: the middle of each window, s on the log's clock, and the mean velocity.
        warnings: what the data cannot show, as text.
    """

    axis: str
    scale: Value
    offset: Value
    delay: Value | None
    time_constant: Value
    dead_band: Value | None
    unexplained: float
    time: Array
    measured: Array
    modelled: Array
    warnings: tuple[str, ...]

    @property
    def explained(self) -> bool:
        """Whether the model explains the motion, so that its numbers are valid for this robot."""
        return self.unexplained <= _UNEXPLAINED


@dataclass(frozen=True)
class Measured:
    """The result of a measurement.

    Attributes:
        clock_offset: odometry's clock minus the log's, s. one_clock: both count as one clock.
        responses: axis → its response; without axes that the data does not show.
        warnings: what cannot be determined, and why.
    """

    clock_offset: float
    one_clock: bool
    responses: dict[str, Response]
    warnings: tuple[str, ...]


def measure(table: pd.DataFrame, motion: Motion) -> Measured:
    """Measure how a robot follows its commands.

    Args:
        table: a log, as returned by `tenuto.load_log`.
        motion: the measured motion, as returned by `tenuto.analysis.odometry.load_odometry`.
    """
    commands = {axis: _held(table, axis) for axis in _MOVING}
    # The mean: rows that were received in bursts are close together, and most of them closer than usual.
    step = float(np.mean(motion.end - motion.start))
    motion = _in_windows(motion, step)
    measured = {"vx": motion.vx, "yaw_rate": motion.yaw_rate}
    start = float(table["time"].iloc[0])
    offset, sure = _clock_offset(commands, measured, motion, start)
    one_clock = bool(sure and 0.0 <= offset <= _ONE_CLOCK and motion.start[0] >= start - 1.0)
    warnings: list[str] = []
    if not sure:
        warnings.append("commands and motion do not match at any offset of the clocks: are they of the same drive?")
    shift = 0.0 if one_clock else offset
    responses = {}
    for axis, name in (("vx", "straight ahead"), ("yaw_rate", "turning")):
        why = _too_little(commands[axis], measured[axis], axis, name)
        if why or not sure:
            warnings += [why] if why else []
            continue
        responses[axis] = _fit(axis, commands[axis], start, motion, measured[axis], shift, one_clock, step)
    return Measured(offset, one_clock, responses, tuple(warnings))


def _held(table: pd.DataFrame, axis: str) -> Array:
    """Resample one axis of the command to the even grid, its mean over each step; each command holds until the next.

    The value at the start of a step would be up to a step late, and all delays would be too short by half of one.
    """
    time, speeds = table["time"].to_numpy(dtype=float), table[f"command.{axis}"].to_numpy(dtype=float)
    gone = np.concatenate([[0.0], np.cumsum(speeds[:-1] * np.diff(time))])
    grid = np.arange(time[0], time[-1] + _GRID, _GRID)
    way = np.interp(grid, time, gone)
    return np.asarray(np.append(np.diff(way), _GRID * speeds[-1]) / _GRID)


def _in_windows(motion: Motion, step: float) -> Motion:
    """Return the mean speeds over windows, one that begins with each step and contains no gap.

    Args:
        motion: its steps. step: the mean duration of one, s.
    """
    count = min(max(1, round(WINDOW / step)), len(motion.start))
    seconds = motion.end - motion.start
    first, last = np.arange(len(seconds) - count + 1), np.arange(count - 1, len(seconds))
    start, end = motion.start[first], motion.end[last]

    def means(speeds: Array) -> Array:
        gone = np.concatenate([[0.0], np.cumsum(speeds * seconds)])
        return np.asarray((gone[last + 1] - gone[first]) / (end - start))

    summed = np.concatenate([[0.0], np.cumsum(seconds)])
    whole = end - start - (summed[last + 1] - summed[first]) < _GRID / 10.0
    if not whole.any():
        return motion  # no half second is without a gap: the steps themselves are compared
    return Motion(*(column[whole] for column in (start, end, means(motion.vx), means(motion.yaw_rate))))


def _too_little(command: Array, measured: Array, axis: str, name: str) -> str:
    """Explain why the response of one motion cannot be determined; empty if it can."""
    if not np.isfinite(measured).all():
        return f"{name}: not measured"
    moving = _GRID * float((np.abs(command) > _MOVING[axis]).sum())
    if moving < LEAST_SECONDS:
        return f"{name}: it was commanded for {moving:.1f} s only, and {LEAST_SECONDS:g} s are needed"
    if float(np.ptp(command)) < 2.0 * _MOVING[axis]:
        return f"{name}: its command never changed"
    return ""


def _clock_offset(
    commands: dict[str, Array], measured: dict[str, Array], motion: Motion, start: float
) -> tuple[float, bool]:
    """Find by how much the odometry's clock is ahead, by correlation of both motions; and whether it is distinct."""
    grid = np.arange(motion.start[0], motion.end[-1], _GRID)
    total: Array | None = None
    axes = 0
    for axis, command in commands.items():
        values = measured[axis]
        if not np.isfinite(values).all() or float(np.abs(command).max()) == 0.0 or float(np.std(values)) == 0.0:
            continue
        moved = np.interp(grid, (motion.start + motion.end) / 2.0, values)
        size = float(np.linalg.norm(moved) * np.linalg.norm(command))
        found = _correlation(moved, command) / size
        total = found if total is None else total + found
        axes += 1
    if total is None:
        return 0.0, False
    best = int(np.argmax(total))
    lag = (best - (len(next(iter(commands.values()))) - 1)) * _GRID
    return float(motion.start[0] + lag - start), bool(total[best] > 0.5 * axes)


def _correlation(one: Array, other: Array) -> Array:
    """Return the sum of the products of two motions at every shift, from the other's end at the first's beginning."""
    size = len(one) + len(other) - 1
    product = np.fft.rfft(one, size) * np.fft.rfft(other[::-1], size)
    return np.asarray(np.fft.irfft(product, size))


def _response(command: Array, start: float, motion: Motion, shift: float, delay: float, lag: float) -> Array:
    """Return the mean of the lagged command over each step of the odometry, of scale 1."""
    from scipy.linalg.lapack import dtbtrs

    keep = math.exp(-_GRID / max(lag, 1e-4))
    # At the end of each step, exact for a constant value during it: after[n] − keep·after[n−1] = (1 − keep)·command[n].
    bands = np.stack([np.ones(len(command)), np.full(len(command), -keep)])
    after, _ = dtbtrs(bands, (1.0 - keep) * command, uplo="L", diag="U")
    # From τ·x' = u − x its way is that of the command less τ·x.
    travelled = np.concatenate([[0.0], np.cumsum(command) * _GRID - lag * after])
    times = start + _GRID * np.arange(len(travelled))
    begin, end = motion.start - shift - delay, motion.end - shift - delay
    return np.asarray((np.interp(end, times, travelled) - np.interp(begin, times, travelled)) / (end - begin))


def _fit(
    axis: str,
    command: Array,
    start: float,
    motion: Motion,
    measured: Array,
    shift: float,
    one_clock: bool,
    step: float,
) -> Response:
    """Fit the model to one motion: the dead band by a search, all else by least squares."""
    inside = (motion.start - shift > start) & (motion.end - shift < start + _GRID * (len(command) - 1))
    part = Motion(*(column[inside] for column in motion))
    values = measured[inside]
    free = np.sort(np.abs(command[np.abs(command) > 1e-6]))
    # At most a third of the commands can be within the dead band, or else too little is left to determine it.
    bands = np.unique(np.quantile(free, np.linspace(0.0, 0.33, 12))) if len(free) else np.array([0.0])
    first = _least_squares(command, start, part, values, shift, _STARTS)
    plain = (float(first.cost), 0.0, first)
    fits = [plain]
    for band in bands[bands > _MOVING[axis] / 5.0]:
        fit = _least_squares(np.where(np.abs(command) >= band, command, 0.0), start, part, values, shift, [first.x])
        fits.append((float(fit.cost), float(band), fit))
    cost, band, fit = min(fits, key=lambda one: one[0])
    # A dead band has to explain more than chance would: each try is one more parameter (Schwarz's criterion).
    gain = math.log(max(plain[0], 1e-300) / max(cost, 1e-300))
    if len(values) * gain < 2.0 * math.log(len(values)):
        cost, band, fit = plain
    scale, offset, delay, lag = fit.x
    sigma = _uncertainty(fit.jac, fit.fun, step)
    sigma[2:] = np.hypot(sigma[2:], _FINEST)
    modelled = fit.fun + values
    seconds = step * float((np.abs(modelled) > _MOVING[axis]).sum())
    standing = step * len(values) - seconds
    unexplained = float(np.sqrt(np.mean(fit.fun**2)) / max(np.sqrt(np.mean(values**2)), 1e-12))
    warnings = []
    if unexplained > _UNEXPLAINED:
        share = f"{100 * unexplained:.0f} % of the motion is not explained"
        warnings.append(f"{share}: another drive, another robot, or slipping wheels? No wheel is measured by it")
    if not one_clock:
        warnings.append("the delay is not known: the odometry has its own clock")
    tried = float(_GRID * (np.abs(command[np.abs(command) > 1e-6]) <= max(band, _MOVING[axis])).sum())
    step = float(np.diff(np.sort(bands)).max()) if len(bands) > 1 else math.nan
    return Response(
        axis, Value(scale, sigma[0], seconds), Value(offset, sigma[1], standing),
        Value(delay, sigma[2], seconds) if one_clock else None, Value(lag, sigma[3], seconds),
        Value(band, step, tried) if band else None, unexplained,
        (part.start + part.end) / 2.0 - shift, values, modelled, tuple(warnings),
    )  # fmt: skip


def _least_squares(
    command: Array, start: float, motion: Motion, values: Array, shift: float, starts: Sequence[Sequence[float]]
) -> OptimizeResult:
    """Find scale, offset, delay and time constant from the best of some starts; residuals are model minus measured."""
    from scipy.optimize import least_squares

    low, high = (-5.0, -1.0, -0.5, 0.0), (5.0, 1.0, _ONE_CLOCK, _LARGEST_LAG)

    def response(delay: float, lag: float) -> Array:
        return _response(command, start, motion, shift, delay, lag)

    def residuals(x: Array) -> Array:
        return np.asarray(x[1] + x[0] * response(x[2], x[3]) - values)

    def slopes(x: Array) -> Array:
        """Scale and offset are outside the response; along delay and time constant, inward steps are used."""
        plain = response(x[2], x[3])
        delayed, lagged = (_STEP if x[n] + _STEP < high[n] else -_STEP for n in (2, 3))
        along = (response(x[2] + delayed, x[3]) - plain) / delayed, (response(x[2], x[3] + lagged) - plain) / lagged
        return np.stack([plain, np.ones_like(plain), x[0] * along[0], x[0] * along[1]], axis=1)

    fits = [
        least_squares(residuals, np.clip(begin, low, high), slopes, (low, high), x_scale=(0.1, 0.05, 0.05, 0.05))
        for begin in starts
    ]
    return min(fits, key=lambda fit: float(fit.cost))


def _uncertainty(jacobian: Array, residuals: Array, step: float) -> Array:
    """Return half of the 95 % interval of each parameter.

    The residuals are not white noise: a wheel slips for a while, and windows overlap. Of two covariances the larger one
    counts: that of Newey and West (1987), with the correlations of neighbours weighted down evenly, which is right if
    there is more noise in motion; and that of residuals that are the same kind of noise all the time, with their
    autocovariance, which is exact for noise of positions.
    """
    lags = max(1, int((_LASTS + WINDOW) / step))
    scores = jacobian * residuals[:, None]
    uneven, even = scores.T @ scores, np.mean(residuals**2) * jacobian.T @ jacobian
    for lag in range(1, min(lags, len(scores) - 1) + 1):
        across = scores[lag:].T @ scores[:-lag]
        uneven += (1.0 - lag / (lags + 1.0)) * (across + across.T)
        across = jacobian[lag:].T @ jacobian[:-lag] * np.sum(residuals[lag:] * residuals[:-lag]) / len(residuals)
        even += across + across.T
    inverse = np.linalg.pinv(jacobian.T @ jacobian)
    both = [np.diag(inverse @ middle @ inverse) for middle in (uneven, even)]
    sizes = np.maximum(*both) * len(scores) / max(len(scores) - jacobian.shape[1], 1)
    return np.asarray(_SIGMAS * np.sqrt(np.maximum(sizes, 0.0)))
