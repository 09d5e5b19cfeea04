"""A log as CSV: a row a tick, with what every stage made of it. Columns: docs/formats.md."""

from __future__ import annotations

import csv
from pathlib import Path

from tenuto.core.errors import SinkError
from tenuto.core.tick import Tick
from tenuto.sinks.base import Sink

# A process that is killed loses no more than this many seconds of its log.
_FLUSH_SECONDS = 1.0


class CsvLog(Sink):
    """Writes every tick as a row of a CSV file.

    Raises:
        SinkError: the file cannot be written.
    """

    def __init__(self, path: str | Path) -> None:
        self.name = f"log {path}"
        self._path = path
        try:
            self._file = open(path, "w", newline="", encoding="utf-8")  # noqa: SIM115  # closed in close()
        except OSError as error:
            raise SinkError(f"{path}: cannot write a log there: {error.strerror}") from error
        self._writer = csv.writer(self._file, lineterminator="\n")
        self._flushed: float | None = None

    def write(self, tick: Tick) -> None:
        """Append a row. Raises `SinkError` when the disk is full or gone."""
        row = tick.as_row()
        try:
            if self._flushed is None:
                self._writer.writerow(row)
                self._flushed = tick.time
            self._writer.writerow(round(cell, 6) if isinstance(cell, float) else cell for cell in row.values())
            if tick.time - self._flushed >= _FLUSH_SECONDS:
                self._file.flush()
                self._flushed = tick.time
        except OSError as error:
            raise SinkError(f"{self._path}: cannot write the log: {error.strerror}") from error

    def stop(self, tick: Tick) -> None:
        """Append the last row and put everything on the disk."""
        self.write(tick)
        try:
            self._file.flush()
        except OSError as error:
            raise SinkError(f"{self._path}: cannot write the log: {error.strerror}") from error

    def close(self) -> None:
        """Close the file."""
        try:
            self._file.close()
        except OSError as error:
            raise SinkError(f"{self._path}: cannot close the log: {error.strerror}") from error
