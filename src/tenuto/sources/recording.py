"""Recordings of the sticks, as CSV or Parquet. The formats are described in docs/formats.md."""

from __future__ import annotations

import csv
import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from io import BytesIO, StringIO
from pathlib import Path
from typing import IO, Any, ClassVar

from tenuto.basics.closing import Closing
from tenuto.basics.errors import RecordingError
from tenuto.basics.extras import has, how_to_get
from tenuto.basics.frame import Frame, with_earlier
from tenuto.basics.layouts import ControlInfo
from tenuto.basics.text import shortened
from tenuto.clock import Timer
from tenuto.files import UnreadableError, open_to_write, read_bytes, read_text
from tenuto.kinds.options import option
from tenuto.sources.base import Source, SourceOptions

TIME_COLUMN = "time"
# A column that only a log of a drive has.
_OF_A_LOG = "guard.state"
_MOST_COLUMNS = 1000
# The longest recording of a drive, s, and the latest time, s, at which a float still has milliseconds.
_LONGEST, _LATEST = 86_400.0, 1e11


def read_recording(path: str | Path) -> list[Frame]:
    """Read a recording: a column ``time`` in seconds and one column per control, CSV or Parquet by suffix.

    Raises:
        RecordingError: the file cannot be read or has an error; the message names the
            file, the line, the column and what was found.
    """
    frames: list[Frame] = []
    for line, row in enumerate(read_table(path, (TIME_COLUMN,)), 2):
        time = row.pop(TIME_COLUMN)
        if not row:
            raise RecordingError(f"{path}:1: expected a column for each control beside {TIME_COLUMN}, found none")
        if frames and time <= frames[-1].time:
            raise RecordingError(f"{path}:{line}: expected a time after {frames[-1].time:g} s, found {time:g} s")
        if abs(time) > _LATEST or (frames and time - frames[0].time > _LONGEST):
            found = f"{time:g} s" + (f" after one at {frames[0].time:g} s" if frames else "")
            raise RecordingError(f"{path}:{line}: expected times in seconds, no longer than a day, found {found}")
        frames.append(Frame(time, row))
    return frames


def read_table(path: str | Path, needed: Sequence[str]) -> list[dict[str, float]]:
    """Read a table of finite numbers, CSV or Parquet by suffix; a dict per row. Raises `RecordingError`."""
    rows = _read_parquet(path) if str(path).endswith(".parquet") else _read_csv(path)
    header = list(rows[0]) if rows else []
    for name in needed:
        if rows and name not in header:
            raise RecordingError(f'{path}:1: expected a header with a column "{name}", found {", ".join(header)}')
    if not rows:
        raise RecordingError(f"{path}: expected a header and at least one line of numbers, found none")
    return rows


def _read_csv(path: str | Path) -> list[dict[str, float]]:
    try:
        text = read_text(path)
    except UnreadableError as error:
        raise RecordingError(f"{path}{f':{error.line}' if error.line else ''}: {error}") from error
    lines = csv.reader(StringIO(text, newline=""), strict=True)
    try:
        header = next(lines, [])
        _check_header(path, header)
        return [_read_line(f"{path}:{lines.line_num}", header, line) for line in lines]
    except csv.Error as error:
        raise RecordingError(f"{path}:{lines.line_num}: expected a line of CSV: {error}") from error


def _check_header(path: str | Path, header: Sequence[str]) -> None:
    if len(header) > _MOST_COLUMNS:
        raise RecordingError(f"{path}:1: expected at most {_MOST_COLUMNS} columns, found {len(header)}")
    if _OF_A_LOG in header:
        raise RecordingError(
            f"{path}: expected a recording of sticks, found the log of a drive: tenuto compare and tenuto tune drive "
            "its sticks again, tenuto why and tenuto report read it"
        )
    for name in header:
        if not name or header.count(name) > 1:
            found = shortened(name)
            raise RecordingError(f'{path}:1: expected each column to have its own name, found "{found}"')


def _read_line(where: str, header: Sequence[str], line: Sequence[str]) -> dict[str, float]:
    if len(line) != len(header):
        raise RecordingError(f"{where}: expected {len(header)} numbers, as in the header, found {len(line)}")
    values: dict[str, float] = {}
    for name, text in zip(header, line, strict=True):
        try:
            values[name] = float(text)
        except ValueError:
            values[name] = math.nan
        if not math.isfinite(values[name]):
            raise RecordingError(f'{where}: expected a number in column {name}, found "{shortened(text)}"')
    return values


def _read_parquet(path: str | Path) -> list[dict[str, float]]:
    try:
        from pyarrow import ArrowException
        from pyarrow.parquet import read_table as read_parquet
    except ImportError as error:
        raise RecordingError(f"{path}: {how_to_get('pyarrow')}") from error
    try:
        table = read_parquet(BytesIO(read_bytes(path)))
    except (OSError, ValueError, MemoryError, ArrowException) as error:
        raise RecordingError(f"{path}: expected a readable Parquet file: {shortened(str(error))}") from error
    header = list(map(str, table.column_names))
    _check_header(path, header)
    columns = [column.to_pylist() for column in table.columns]
    return [
        _read_line(f"{path}:{number}", header, list(map(str, cells)))
        for number, cells in enumerate(zip(*columns, strict=True), 2)
    ]


class RecordingWriter(Closing):
    """Writes frames to a recording as they arrive, CSV or Parquet by suffix.

    A CSV is on disk up to its last second, even after a kill; a Parquet file is written when it is closed.

    Raises:
        RecordingError: the file cannot be written.
    """

    def __init__(self, path: str | Path) -> None:
        self.path = path
        self.frames = 0
        self._names: list[str] = []
        self._rows: list[dict[str, float]] | None = [] if str(path).endswith(".parquet") else None
        self._flushed = self._newest = -math.inf
        if self._rows is not None and not has("pyarrow"):
            raise RecordingError(f"{path}: {how_to_get('pyarrow')}")
        try:
            self._file: IO[Any] = open_to_write(path, text=self._rows is None)
        except OSError as error:
            raise RecordingError(f"{path}: cannot write a recording there: {error.strerror or error}") from error

    def add(self, frame: Frame) -> None:
        """Append a frame; the first one sets the columns.

        A frame without a good link or without one of the columns is left out as a gap, and one at the time of the frame
        before, within a tenth of a millisecond, is left out too: a recording has only rows that can be read again.

        Raises:
            RecordingError: the file cannot be written.
        """
        self._names = self._names or list(frame.values)
        time = round(frame.time, 4)
        if not frame.link_good or time <= self._newest or any(name not in frame.values for name in self._names):
            return
        row = {TIME_COLUMN: time, **{name: frame.values[name] for name in self._names}}
        self._newest = time
        self.frames += 1
        if self._rows is not None:
            self._rows.append(row)
            return
        try:
            if self.frames == 1:
                self._file.write(",".join(row) + "\n")
            self._file.write(f"{time:.4f}," + ",".join(f"{row[name]:.10g}" for name in self._names) + "\n")
            if time - self._flushed >= 1.0:
                self._file.flush()
                self._flushed = time
        except OSError as error:
            raise RecordingError(f"{self.path}: cannot write the recording: {error.strerror or error}") from error

    def close(self) -> None:
        """Write everything to the disk.

        Raises:
            RecordingError: the file cannot be written.
        """
        try:
            if self._rows is not None:
                from pyarrow import Table
                from pyarrow.parquet import write_table

                write_table(Table.from_pylist(self._rows), self._file)
            self._file.close()
        except OSError as error:
            raise RecordingError(f"{self.path}: cannot write the recording: {error.strerror or error}") from error


def write_recording(path: str | Path, frames: Iterable[Frame]) -> None:
    """Write frames as a recording; all must have the same controls. Raises `RecordingError`."""
    with RecordingWriter(path) as writer:
        for frame in frames:
            writer.add(frame)


class Recording(Source):
    """A recording played as a source: each frame comes at its time.

    The first call of `poll` is the time of the first frame. A gap in the recording is a gap in the
    link. After the last frame the source is `finished`.

    Raises:
        RecordingError: the file cannot be read, or the slice has no frame.
    """

    def __init__(
        self,
        path: str | Path,
        *,
        speed: float = 1.0,
        start: float = 0.0,
        end: float = math.inf,
        frames: Sequence[Frame] | None = None,
    ) -> None:
        """Read a recording.

        Args:
            path: the file, CSV or Parquet by suffix.
            speed: the factor over real time.
            start, end: the slice to play, s after the first frame.
            frames: frames to play instead of reading the file.
        """
        every = read_recording(path) if frames is None else frames
        first = every[0].time
        self.name = f"recording {Path(path).name}"
        self.frames = [frame for frame in every if start <= frame.time - first <= end]
        if not self.frames:
            length = every[-1].time - first
            raise RecordingError(f"{path}: expected a slice of its {length:g} s, found {start:g} s to {end:g} s")
        if not speed > 0.0:
            raise RecordingError(f"{path}: expected a speed above 0, found {speed:g}")
        self._speed = speed
        self._next = 0
        self._started: float | None = None

    @property
    def seconds(self) -> float:
        """The time from the first frame to the last, in seconds of the recording."""
        return self.frames[-1].time - self.frames[0].time

    def controls(self) -> tuple[ControlInfo, ...]:
        """Describe the columns; low and high are the extremes in the recording, rest is the first number."""
        first = self.frames[0].values
        return tuple(
            ControlInfo(
                name,
                min(frame.values[name] for frame in self.frames),
                max(frame.values[name] for frame in self.frames),
                first[name],
            )
            for name in first
        )

    def poll(self, now: float) -> Frame | None:
        """Return the newest frame that is due."""
        if self._started is None:
            self._started = now
        came: list[Frame] = []
        # With a margin of half a microsecond: equal times of ticks and frames may differ
        # in their last bit.
        while not self.finished and (moment := self._moment(self._next)) <= now + 5e-7:
            came.append(self.frames[self._next]._replace(time=min(moment, now)))
            self._next += 1
        return with_earlier(came)

    def _moment(self, number: int) -> float:
        """Return the time of a frame on the clock of the loop."""
        assert self._started is not None
        return self._started + (self.frames[number].time - self.frames[0].time) / self._speed

    @property
    def finished(self) -> bool:
        """Whether the last frame has been returned."""
        return self._next == len(self.frames)


@dataclass(frozen=True, kw_only=True)
class RecordingOptions(SourceOptions):
    """A recording, played at its own times."""

    kind: ClassVar[str] = "recording"
    in_profiles: ClassVar[bool] = False
    file: str = option("a recording, .csv or .parquet", word="FILE", place=True)
    speed: float = option("a number above 0: how many times as fast", 1.0, above=0.0, word="X")
    start: float = option("a number of seconds from its beginning", 0.0, low=0.0, word="S")
    end: float | None = option("a number of seconds from its beginning", None, above=0.0, word="S")

    def open(self, clock: Timer) -> Source:
        """Read the file."""
        end = math.inf if self.end is None else self.end
        return Recording(self.file, speed=self.speed, start=self.start, end=end)
