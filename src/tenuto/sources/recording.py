"""Recordings: what the sticks sent, kept as CSV. The format is described in docs/formats.md."""

from __future__ import annotations

import csv
import math
from collections.abc import Iterable, Sequence
from pathlib import Path

from tenuto.core.errors import RecordingError
from tenuto.core.frame import Frame
from tenuto.core.layouts import ControlInfo
from tenuto.sources.base import Source

TIME_COLUMN = "time"


def read_recording(path: str | Path) -> list[Frame]:
    """Read a recording: a CSV with a header, a column ``time`` in seconds and one column a control.

    Raises:
        RecordingError: the file cannot be read or something in it is wrong; the message names the
            file, the line, the column and what was found.
    """
    try:
        with open(path, newline="", encoding="utf-8") as file:
            rows = csv.reader(file, strict=True)
            header = next(rows, [])
            _check_header(path, header)
            frames: list[Frame] = []
            for row in rows:
                frames.append(_frame(f"{path}:{rows.line_num}", header, row, frames))
    except OSError as error:
        raise RecordingError(f"{path}: expected a readable file: {error.strerror}") from error
    except UnicodeDecodeError as error:
        raise RecordingError(
            f"{path}: expected text in UTF-8, found byte 0x{error.object[error.start]:02x}"
        ) from error
    except csv.Error as error:
        raise RecordingError(f"{path}:{rows.line_num}: expected a line of CSV: {error}") from error
    if not frames:
        raise RecordingError(f"{path}: expected at least one line of numbers below the header, found none")
    return frames


def write_recording(path: str | Path, frames: Iterable[Frame]) -> None:
    """Write frames as a recording; all must have the same controls. Raises OSError."""
    with open(path, "w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file, lineterminator="\n")
        for number, frame in enumerate(frames):
            if number == 0:
                writer.writerow([TIME_COLUMN, *frame.values])
            writer.writerow([f"{frame.time:.4f}", *(f"{value:g}" for value in frame.values.values())])


def _check_header(path: str | Path, header: Sequence[str]) -> None:
    if TIME_COLUMN not in header:
        found = ", ".join(header) or "an empty file"
        raise RecordingError(f'{path}:1: expected a header with a column "{TIME_COLUMN}", found {found}')
    for name in header:
        if not name or header.count(name) > 1:
            raise RecordingError(
                f'{path}:1: expected each column to have its own name, found "{name}" '
                f"{header.count(name)} times"
            )
    if len(header) < 2:
        raise RecordingError(f"{path}:1: expected a column for each control beside {TIME_COLUMN}, found none")


def _frame(where: str, header: Sequence[str], row: Sequence[str], before: Sequence[Frame]) -> Frame:
    """Read one line; ``before`` are the frames so far."""
    if len(row) != len(header):
        raise RecordingError(f"{where}: expected {len(header)} numbers, as in the header, found {len(row)}")
    values: dict[str, float] = {}
    for name, text in zip(header, row, strict=True):
        try:
            values[name] = float(text)
        except ValueError:
            values[name] = math.nan
        if not math.isfinite(values[name]):
            raise RecordingError(f'{where}: expected a number in column {name}, found "{text}"')
    time = values.pop(TIME_COLUMN)
    if before and time <= before[-1].time:
        raise RecordingError(f"{where}: expected a time after {before[-1].time:g} s, found {time:g} s")
    return Frame(time, values)


class Recording(Source):
    """A recording played as a source: each frame comes when its time has come.

    The first call of `poll` is the moment of the first frame. A gap in the recording is a gap in the
    link, and when the last frame has been given it is `finished`.
    """

    def __init__(self, path: str | Path) -> None:
        self.name = f"recording {Path(path).name}"
        self.frames = read_recording(path)
        self._next = 0
        self._offset: float | None = None

    @property
    def seconds(self) -> float:
        """From the first frame to the last, in seconds."""
        return self.frames[-1].time - self.frames[0].time

    def controls(self) -> tuple[ControlInfo, ...]:
        """Describe the columns; low and high are what was seen in the recording, rest the first number."""
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
        """Give the newest frame whose time has come."""
        if self._offset is None:
            self._offset = now - self.frames[0].time
        newest = None
        # Half a microsecond of grace: times of ticks and frames that are meant to be equal may differ
        # in their last bit.
        while not self.finished and self.frames[self._next].time + self._offset <= now + 5e-7:
            newest = self.frames[self._next]
            self._next += 1
        return None if newest is None else newest._replace(time=min(newest.time + self._offset, now))

    @property
    def finished(self) -> bool:
        """True when the last frame has been given."""
        return self._next == len(self.frames)
