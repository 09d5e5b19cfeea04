"""Pulses captured as edge times: a CSV from a logic analyser or a pulse-capture driver."""

from __future__ import annotations

from pathlib import Path

from tenuto.basics.errors import RecordingError
from tenuto.basics.frame import Frame, LinkCounts
from tenuto.protocols import Counts, PpmDecoder, PwmDecoder
from tenuto.sources.receiver import channel_values
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
