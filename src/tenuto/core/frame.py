"""What a source hands over: the raw numbers of all controls at one moment."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple


class Frame(NamedTuple):
    """The raw numbers of every control of a source at one moment.

    Attributes:
        time: when the numbers arrived, in seconds on the clock that is passed to the pipeline.
        values: control name → raw number, as the device counts.
        link_good: False when the source itself knows that no driver stands behind the numbers
            (a pad that was pulled out, a receiver in failsafe).
        note: why the link is not good, in plain words.
    """

    time: float
    values: Mapping[str, float]
    link_good: bool = True
    note: str = ""
