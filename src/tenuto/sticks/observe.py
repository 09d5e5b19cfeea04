"""Observation of a source: the range of each control, its recent movement, and the frame rate."""

from __future__ import annotations

import math
from collections import deque
from dataclasses import dataclass

from tenuto.basics.frame import Frame
from tenuto.basics.layouts import ControlInfo
from tenuto.sticks.travel import Travel

# "Just now", in seconds.
WINDOW = 1.0


@dataclass(slots=True)
class Observed:
    """The observation of one control.

    Attributes:
        info: the description of the control.
        raw: its newest raw number; NaN before the first frame.
        low, high: the lowest and highest raw number seen.
        moved: how much it moved within the last second, as a share of its range.
        travel: from its raw number to its position; None if its range is not known yet.
    """

    info: ControlInfo
    travel: Travel | None
    raw: float = math.nan
    low: float = math.inf
    high: float = -math.inf
    moved: float = 0.0

    @property
    def ends(self) -> tuple[float, float]:
        """The ends of its range: those of the device, or those seen if the device does not report them."""
        return self.info.travel or (self.low, self.high)

    @property
    def position(self) -> float:
        """Its position, −1…1 or 0…1; NaN if its range is not known."""
        return math.nan if self.travel is None else self.travel.position(self.raw)


class Observer:
    """Watches a source frame by frame.

    Attributes:
        controls: name → its observation, in the order of the source.
        frames: the number of frames so far.
    """

    def __init__(self, infos: tuple[ControlInfo, ...], travels: dict[str, Travel] | None = None) -> None:
        """Begin to watch.

        Args:
            infos: the controls of the source.
            travels: measured travels by control name, if a profile has them.
        """
        known = travels or {}
        self.controls = {info.name: Observed(info, known.get(info.name) or usual_travel(info)) for info in infos}
        self.frames = 0
        self._recent: deque[Frame] = deque()

    def add(self, frame: Frame) -> None:
        """Take a frame; one without a good link is ignored."""
        if not frame.link_good:
            return
        self.frames += 1
        self._recent.append(frame)
        for name, raw in frame.values.items():
            if (seen := self.controls.get(name)) is not None:
                seen.raw = raw
                seen.low, seen.high = min(seen.low, raw), max(seen.high, raw)

    def restart(self) -> None:
        """Reset the ranges of all controls."""
        for seen in self.controls.values():
            if math.isfinite(seen.raw):
                seen.low = seen.high = seen.raw

    def look(self, now: float) -> float:
        """Update ``moved`` of every control, and return the frames per second; ``now`` in s."""
        while self._recent and self._recent[0].time < now - WINDOW:
            self._recent.popleft()
        for name, seen in self.controls.items():
            values = [frame.values[name] for frame in self._recent if name in frame.values]
            low, high = seen.ends
            seen.moved = (max(values) - min(values)) / (high - low) if values and high > low else 0.0
        return len(self._recent) / WINDOW

    def most_moved(self) -> str | None:
        """Name the control that moved most within the last second, or None if only noise did."""
        name = max(self.controls, key=lambda name: self.controls[name].moved, default=None)
        return name if name is not None and self.controls[name].moved > 0.1 else None


def usual_travel(info: ControlInfo) -> Travel | None:
    """Return the usual travel of a control, as for an unmeasured one in a profile; None if unknown."""
    if info.travel is None:
        return None
    low, high = info.travel
    if not low < high:
        return None
    centre = info.rest if info.kind == "stick" else None
    return Travel(low, centre, high, info.counts_down)
