"""Lines of numbers from a microcontroller, and a hand's tilt that is computed from them."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import ClassVar

from tenuto.basics.errors import SourceError
from tenuto.basics.frame import Frame, LinkCounts, with_earlier
from tenuto.basics.layouts import ControlInfo
from tenuto.clock import REAL, Aligned, Clock, Timer
from tenuto.kinds.options import option
from tenuto.protocols import LineDecoder
from tenuto.protocols.diagnosis import Diagnosis
from tenuto.protocols.uart import LineSettings
from tenuto.sources.base import HeldOptions, Source
from tenuto.sources.port import PortSource, open_port
from tenuto.sticks.tilt import GYRO_COLUMNS, TILT_COLUMNS, HandTilt

DEFAULT_BAUD = 115_200
# The tilt of a hand for the full command, rad.
_FULL_TILT = math.radians(35.0)
# The longest wait for the first line if the columns are not known, s.
_PATIENCE = 3.0


class Lines(PortSource):
    """Text lines over serial: delimited numbers, a column for each control.

    Raises:
        SourceError: the port cannot be opened, or its columns are not named and no line arrived that
            shows them.
    """

    kind = "lines"

    def __init__(
        self, port: str, baud: int = DEFAULT_BAUD, columns: Sequence[str] = (), *, checksum: bool = False,
        clock: Timer = REAL,
    ) -> None:  # fmt: skip
        self.name = f"lines on {port}"
        self.identity = f"{self.kind}:{port}"
        self._decoder = LineDecoder(columns, checksum=checksum)
        self._port = open_port(port, baud, clock=clock)
        self._diagnosis = Diagnosis("lines", LineSettings(baud), self._port.line)
        self._values: Mapping[str, float] = {}
        self._aligned = Aligned(clock.now)
        try:
            self._learn_columns(port, baud, clock)
        except BaseException:
            self._port.close()
            raise

    def _learn_columns(self, port: str, baud: int, clock: Clock) -> None:
        patience = clock.now() + _PATIENCE
        while not self._decoder.columns:
            now = clock.now()
            if now > patience:
                told = "".join(f"; {one}" for one in self.about_line())
                raise SourceError(f"{port} sent no line of numbers in {_PATIENCE:g} s at {baud} baud{told}")
            clock.sleep_until(now + 0.01)
            self._decode(clock.now())

    def _decode(self, now: float) -> list[tuple[float, dict[str, float]]]:
        """Return the new lines, each with the time of the piece that completed it."""
        lines: list[tuple[float, dict[str, float]]] = []
        for piece in self._port.pieces(now):
            self._diagnosis.take(piece.data, piece.damaged)
            at = self._aligned.at(piece.at, now)
            lines += ((at, line) for line in self._decoder.feed(piece.text))
        return lines

    def about_line(self) -> list[str]:
        """Describe the faults that the bytes show."""
        return self._diagnosis.findings(good=self._decoder.counts.good * 10)

    def controls(self) -> tuple[ControlInfo, ...]:
        """Describe the columns; their range is unknown."""
        return tuple(column_info(name) for name in self._decoder.columns)

    def counts(self) -> LinkCounts:
        """Describe the number of good and of skipped lines."""
        return LinkCounts(self._decoder.counts.good, self._decoder.counts.bad)

    def poll(self, now: float) -> Frame | None:
        """Return the newest line."""
        heard = self._decode(now)
        came = self._frames(heard, now)
        if came:
            self._values = came[-1].values
            came[-1] = came[-1]._replace(counts=self.counts())
        if self._port.problem:
            came.append(Frame(now, self._values, False, self._port.problem, counts=self.counts()))
        return with_earlier(came)

    def _frames(self, lines: list[tuple[float, dict[str, float]]], now: float) -> list[Frame]:
        """Return a frame for each line."""
        return [Frame(at, line) for at, line in lines]


class Tilt(Lines):
    """A hand's roll and pitch, rad, from lines with accelerometer and gyroscope columns.

    The columns ``ax ay az`` (any unit) and ``gx gy`` (rad/s) are read; a column ``zero`` that is not 0 sets
    the present attitude of the hand as rest, and so does `take_zero`. All columns remain
    controls beside ``roll`` and ``pitch``, such as a flex sensor or a button. Where the tilt is not known, ``roll`` and
    ``pitch`` are NaN, and the note of the frame says why; see `tenuto.sticks.tilt.HandTilt`.

    Raises:
        SourceError: as `Lines`, or a column is missing.
    """

    kind = "tilt"

    def __init__(
        self, port: str, baud: int = DEFAULT_BAUD, columns: Sequence[str] = (), time_constant: float = 0.5,
        *, checksum: bool = False, clock: Timer = REAL,
    ) -> None:  # fmt: skip
        super().__init__(port, baud, columns, checksum=checksum, clock=clock)
        missing = [name for name in (*TILT_COLUMNS, *GYRO_COLUMNS) if name not in self._decoder.columns]
        if missing:
            self.close()
            raise SourceError(
                f"{port}: tilt needs columns {', '.join(missing)}; it has {', '.join(self._decoder.columns)}"
            )
        self._hand = HandTilt(time_constant)
        self._before: float | None = None

    def controls(self) -> tuple[ControlInfo, ...]:
        """Describe roll, pitch, and the columns."""
        return (*TiltOptions.layout, *super().controls())

    def take_zero(self) -> None:
        """Take the present attitude of the hand as rest."""
        self._hand.take_zero()

    def _frames(self, lines: list[tuple[float, dict[str, float]]], now: float) -> list[Frame]:
        """Return a frame for each line, with the tilt of the hand."""
        # The lines of one poll are assumed to have arrived evenly since the last poll with any.
        dt = 0.0 if self._before is None or not lines else (now - self._before) / len(lines)
        self._before = now if lines else self._before
        frames: list[Frame] = []
        for at, line in lines:
            roll, pitch = self._hand.step((line["ax"], line["ay"], line["az"]), (line["gx"], line["gy"]), dt)
            if line.get("zero"):
                self._hand.take_zero()
                roll, pitch = (0.0, 0.0) if not self._hand.problem else (roll, pitch)
            frames.append(Frame(at, {"roll": roll, "pitch": pitch, **line}, note=self._hand.problem))
        return frames


def column_info(name: str) -> ControlInfo:
    """Describe a column; its range is unknown."""
    return ControlInfo(name, -math.inf, math.inf, 0.0)


@dataclass(frozen=True, kw_only=True)
class LinesOptions(HeldOptions):
    """Lines of numbers from a microcontroller."""

    kind: ClassVar[str] = "lines"
    on_serial_port: ClassVar[bool] = True
    sends_velocities: ClassVar[bool] = True
    port: str = option("a serial port, such as /dev/ttyAMA0", word="PORT", place=True)
    baud: int = option("a whole number of baud, such as 115200", DEFAULT_BAUD, above=0, word="N")
    columns: tuple[str, ...] = option("a list of names, one per column", (), word="A|B")
    checksum: bool = option("true or false: each line ends with a CRC-16", False, word="true|false")

    @classmethod
    def control(cls, name: str) -> ControlInfo | None:
        """Describe a column that the profile names."""
        return super().control(name) or column_info(name)

    def columns_said(self) -> tuple[str, ...] | None:
        """Return the columns, if they are named."""
        return self.columns or None

    def open(self, clock: Timer) -> Source:
        """Open the port, and wait for the first line if the columns are not named."""
        return Lines(self.port, self.baud, self.columns, checksum=self.checksum, clock=clock)


@dataclass(frozen=True, kw_only=True)
class TiltOptions(LinesOptions):
    """A hand's tilt, from lines with an accelerometer and a gyroscope."""

    kind: ClassVar[str] = "tilt"
    sends_velocities: ClassVar[bool] = False
    layout: ClassVar[tuple[ControlInfo, ...]] = (
        # Rolling is right-handed about x: positive to the right. Pitching is positive to the front.
        ControlInfo("roll", -math.pi, math.pi, 0.0, counts_down=True, ends=(-_FULL_TILT, _FULL_TILT)),
        ControlInfo("pitch", -math.pi, math.pi, 0.0, ends=(-_FULL_TILT, _FULL_TILT)),
    )

    def open(self, clock: Timer) -> Source:
        """Open the port, and wait for the first line if the columns are not named."""
        return Tilt(self.port, self.baud, self.columns, checksum=self.checksum, clock=clock)
