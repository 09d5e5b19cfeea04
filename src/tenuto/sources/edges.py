"""Pulses captured as edge times: a CSV from a logic analyser or a pulse-capture driver."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

from tenuto.basics.errors import RecordingError
from tenuto.basics.frame import Frame, LinkCounts
from tenuto.basics.layouts import ControlInfo
from tenuto.clock import Timer
from tenuto.kinds.options import option
from tenuto.protocols import Counts, PpmDecoder, PwmDecoder
from tenuto.protocols.pulses import MOST
from tenuto.protocols.radio.base import channel_layout, channel_values
from tenuto.sources.base import HeldOptions, Source
from tenuto.sources.recording import Recording, read_table


class EdgeFile(Recording):
    """PPM or PWM edges from a file, decoded and played as a recording.

    A PPM file has a column ``time`` (s) with a line for each edge that starts a pulse; a PWM file has ``time``,
    ``channel`` (from 1) and ``level`` (1 for a rising edge, 0 for a falling one).

    Raises:
        RecordingError: the file cannot be read, or holds no whole frame.
    """

    def __init__(self, kind: str, path: str | Path) -> None:
        rows = read_table(path, ("time",) if kind == "ppm" else ("time", "channel", "level"))
        found, self._counts = _ppm(rows) if kind == "ppm" else _pwm(rows)
        if not found:
            raise RecordingError(f"{path}: expected {kind} pulses of 700 to 2300 µs, found no whole frame")
        super().__init__(path, frames=found)
        self.name = f"{kind} pulses in {Path(path).name}"

    def counts(self) -> LinkCounts:
        """Say how many frames the file holds, and how many pulses or frames were broken."""
        return LinkCounts(self._counts.good, self._counts.bad)


def _ppm(rows: list[dict[str, float]]) -> tuple[list[Frame], Counts]:
    decoder = PpmDecoder()
    found = decoder.feed(row["time"] for row in rows)
    return [Frame(time, channel_values(frame)) for time, frame in found], decoder.counts


def _pwm(rows: list[dict[str, float]]) -> tuple[list[Frame], Counts]:
    channels = max(int(row["channel"]) for row in rows)
    decoder = PwmDecoder(channels)
    found = decoder.feed((row["time"], int(row["channel"]) - 1, row["level"] > 0.5) for row in rows)
    return [Frame(time, channel_values(frame)) for time, frame in found], decoder.counts


@dataclass(frozen=True, kw_only=True)
class PpmOptions(HeldOptions):
    """All channels on one wire, from the times of its edges."""

    kind: ClassVar[str] = "ppm"
    layout: ClassVar[tuple[ControlInfo, ...]] = channel_layout(MOST)
    file: str = option("a file of edge times", word="FILE.csv", place=True)

    def open(self, clock: Timer) -> Source:
        """Read the file."""
        return EdgeFile(self.kind, self.file)


@dataclass(frozen=True, kw_only=True)
class PwmOptions(PpmOptions):
    """A wire a channel, from the times of their edges."""

    kind: ClassVar[str] = "pwm"
