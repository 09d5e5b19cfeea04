"""Pulses captured as edge times: a CSV from a logic analyser or a pulse-capture driver."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

from tenuto.basics.errors import RecordingError, SourceError
from tenuto.basics.frame import Frame, LinkCounts
from tenuto.basics.layouts import ControlInfo
from tenuto.clock import Timer
from tenuto.kinds.options import option
from tenuto.protocols import Counts, PpmDecoder, PwmDecoder
from tenuto.protocols.pulses import MOST
from tenuto.protocols.radio.base import channel_layout, channel_values
from tenuto.sources.base import HeldOptions, Source
from tenuto.sources.gpio import GpioPulses, KernelLines
from tenuto.sources.recording import Recording, read_table

# The greatest number of wires of a capture.
_MOST_WIRES = 64


class EdgeFile(Recording):
    """PPM or PWM edges from a file, decoded and played as a recording.

    A PPM file has a column ``time`` (s) with a row for each edge that starts a pulse; a PWM file has ``time``,
    ``channel`` (from 1) and ``level`` (1 for a rising edge, 0 for a falling one).

    Raises:
        RecordingError: the file cannot be read, or has no complete frame.
    """

    def __init__(self, kind: str, path: str | Path) -> None:
        rows = read_table(path, ("time",) if kind == "ppm" else ("time", "channel", "level"))
        found, self._counts = _ppm(rows) if kind == "ppm" else _pwm(rows, path)
        if not found:
            raise RecordingError(f"{path}: expected {kind} pulses of 700 to 2300 µs, found no whole frame")
        super().__init__(path, frames=found)
        self.name = f"{kind} pulses in {Path(path).name}"

    def counts(self) -> LinkCounts:
        """Describe the number of frames in the file, and of broken pulses or frames."""
        return LinkCounts(self._counts.good, self._counts.bad)


def _ppm(rows: list[dict[str, float]]) -> tuple[list[Frame], Counts]:
    decoder = PpmDecoder()
    found = decoder.feed(row["time"] for row in rows)
    return [Frame(time, channel_values(frame)) for time, frame in found], decoder.counts


def _pwm(rows: list[dict[str, float]], path: str | Path) -> tuple[list[Frame], Counts]:
    for line, row in enumerate(rows, 2):
        if row["channel"] not in range(1, _MOST_WIRES + 1):
            wanted = f"a whole number from 1 to {_MOST_WIRES} in column channel"
            raise RecordingError(f"{path}:{line}: expected {wanted}, found {row['channel']:g}")
    channels = max(int(row["channel"]) for row in rows)
    decoder = PwmDecoder(channels)
    found = decoder.feed((row["time"], int(row["channel"]) - 1, row["level"] > 0.5) for row in rows)
    return [Frame(time, channel_values(frame)) for time, frame in found], decoder.counts


@dataclass(frozen=True, kw_only=True)
class PpmOptions(HeldOptions):
    """All channels on one wire: a pin of this computer, or a file with the times of its edges."""

    kind: ClassVar[str] = "ppm"
    layout: ClassVar[tuple[ControlInfo, ...]] = channel_layout(MOST)
    file: str = option(
        "a GPIO chip such as /dev/gpiochip0, or a file of edge times", word="/dev/gpiochipN|FILE.csv", place=True
    )
    line: tuple[int, ...] = option(
        "the number of the pin's line at the chip, in a profile as a list: [17]", (), word="N"
    )

    def open(self, clock: Timer) -> Source:
        """Open the pins, or read the file."""
        live = Path(self.file).name.startswith("gpiochip")
        self._fits(live)
        if not live:
            return EdgeFile(self.kind, self.file)
        name = f"{self.file} line {', '.join(map(str, self.line))}"
        return GpioPulses(self.kind, name, KernelLines(self.file, self.line), self.line)

    def _fits(self, live: bool) -> None:
        """Refuse pins of a file, and a chip without pins. Raises `SourceError`."""
        if live and (not self.line or (self.kind == "ppm" and len(self.line) > 1)):
            wanted = "line=N" if self.kind == "ppm" else "line=N|N|…, from channel 1 on"
            raise SourceError(f"{self.kind}:{self.file}: say which pin: {wanted}; gpioinfo lists them")
        if not live and self.line:
            raise SourceError(f"{self.kind}:{self.file}: line is of a chip such as /dev/gpiochip0, and this is a file")


@dataclass(frozen=True, kw_only=True)
class PwmOptions(PpmOptions):
    """One wire per channel: pins of this computer, or a file with the times of their edges."""

    kind: ClassVar[str] = "pwm"
    line: tuple[int, ...] = option(
        "the numbers of the pins' lines at the chip, from channel 1 on, in a profile as a list", (), word="N|N"
    )
