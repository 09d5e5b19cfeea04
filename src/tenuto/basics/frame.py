"""A frame: the raw numbers of all controls of a source at one moment."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import NamedTuple

# Rounding of a difference of two times, s: a time that is exactly a limit is neither above nor below it.
ROUNDING_TIME = 1e-9
# An upper limit of the time of any clock, s.
_LONGEST = 1e12


def real(value: object) -> float:
    """Return a number unchanged, and NaN for anything else: a text, None, an integer too large for a float."""
    if isinstance(value, float):
        return value
    return float(value) if isinstance(value, int) and abs(value) < 10**300 else math.nan


class Signal(NamedTuple):
    """Link statistics of a radio receiver.

    Attributes:
        quality: share of frames that arrive, 0…100 %.
        rssi: strength at the better antenna, dBm (negative; nearer 0 is stronger).
        snr: signal to noise, dB.
    """

    quality: float
    rssi: float
    snr: float


class LinkCounts(NamedTuple):
    """The counts of a source since it was opened: good frames, bad ones, ones its receiver lost."""

    good: int = 0
    bad: int = 0
    lost: int = 0


class Frame(NamedTuple):
    """The raw numbers of every control of a source at one moment.

    Attributes:
        time: when the numbers arrived, in seconds on the clock that is passed to the pipeline.
        values: control name → raw number, as the device counts.
        link_good: False when the source itself knows that no driver stands behind the numbers
            (a pad that was pulled out, a receiver in failsafe).
        note: why the link is not good, or another message of the source, as text.
        signal: link statistics of the receiver, if it has any.
        counts: number of frames up to this one, if the source counts them.
        earlier: the frames since the previous one handed over, oldest first, each as a frame or as a pair of time and
            values. They do not drive. But what happened in them happened: a press, a release, a stop, an inhibit,
            a bad number.
    """

    time: float
    values: Mapping[str, float]
    link_good: bool = True
    note: str = ""
    signal: Signal | None = None
    counts: LinkCounts | None = None
    earlier: tuple[Frame | tuple[float, Mapping[str, float]], ...] = ()


def with_earlier(frames: Sequence[Frame]) -> Frame | None:
    """Return the newest of several frames, with the others as its earlier ones; None if there is none."""
    if len(frames) < 2:
        return frames[0] if frames else None
    return frames[-1]._replace(earlier=tuple(frames[:-1]))


def frames_in(frame: Frame) -> tuple[Frame, ...]:
    """Return all frames since the previous one handed over, oldest first; the newest is the last."""
    return (*(Frame(*one) for one in frame.earlier), frame)


def timed(frame: Frame) -> Frame:
    """Return a frame with a finite time, or NaN if it has none that can be; the earlier ones likewise."""
    found = _timed(frame)
    return found if not frame.earlier else found._replace(earlier=tuple(_timed(Frame(*one)) for one in frame.earlier))


def _timed(frame: Frame) -> Frame:
    time = frame.time
    if isinstance(time, (float, int)) and -_LONGEST < time < _LONGEST:
        return frame
    return frame._replace(time=math.nan)
