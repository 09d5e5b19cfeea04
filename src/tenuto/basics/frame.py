"""A frame: the raw numbers of all controls of a source at one moment."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

# The most earlier frames in a frame: those of two seconds of the fastest receiver.
MOST_EARLIER = 300


# Rounding of a difference of two times, s: a time that is exactly a limit is neither above nor below it.
ROUNDING_TIME = 1e-9
# An upper limit of the time of any clock, s.
_LONGEST = 1e12


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
        earlier: time and numbers of the good frames since the previous one handed over, oldest first. They do not
            drive, but a button that was pressed in them was pressed.
    """

    time: float
    values: Mapping[str, float]
    link_good: bool = True
    note: str = ""
    signal: Signal | None = None
    counts: LinkCounts | None = None
    earlier: tuple[tuple[float, Mapping[str, float]], ...] = ()


def with_earlier(frames: Sequence[Frame]) -> Frame | None:
    """Return the newest of several good frames, with the others as its earlier ones; None if there is none."""
    if len(frames) < 2:
        return frames[0] if frames else None
    earlier = tuple((frame.time, frame.values) for frame in frames[-MOST_EARLIER - 1 : -1])
    return frames[-1]._replace(earlier=earlier)


def timed(frame: Frame, now: float) -> Frame:
    """Return a frame unchanged; if its time or an earlier one is NaN, return one whose link is not good."""
    time = frame.time
    good = isinstance(time, (float, int)) and -_LONGEST < time < _LONGEST
    if good and (not frame.earlier or all(isinstance(before, (float, int)) for before, _ in frame.earlier)):
        return frame
    note = f"a frame came at {str(frame.time)[:20]}, which is not a time"
    return frame._replace(time=now, link_good=False, note=note, earlier=())
