"""What a source hands over: the raw numbers of all controls at one moment."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple


class Signal(NamedTuple):
    """How well a radio hears its transmitter, where a receiver says so.

    Attributes:
        quality: share of frames that arrive, 0…100 %.
        rssi: strength at the better antenna, dBm (negative; nearer 0 is stronger).
        snr: signal to noise, dB.
    """

    quality: float
    rssi: float
    snr: float


class LinkCounts(NamedTuple):
    """What a source has seen since it was opened: good frames, broken ones, ones its receiver lost."""

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
        note: why the link is not good, or what else the source has to say, in plain words.
        signal: what the receiver says of its radio link, where it does.
        counts: how many frames came until this one, where the source counts them.
    """

    time: float
    values: Mapping[str, float]
    link_good: bool = True
    note: str = ""
    signal: Signal | None = None
    counts: LinkCounts | None = None
