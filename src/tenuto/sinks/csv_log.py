"""A log as CSV: a row a tick, with what every stage made of it. Columns: docs/formats.md."""

from __future__ import annotations

import csv
from pathlib import Path

from tenuto.core.errors import SinkError
from tenuto.core.plan import Plan
from tenuto.core.tick import Tick
from tenuto.sinks.base import Sink

# A process that is killed loses no more than this many seconds of its log.
_FLUSH_SECONDS = 1.0


class CsvLog(Sink):
    """Writes every tick as a row of a CSV file. Where a changed profile has other columns, another file is begun.

    Raises:
        SinkError: the file cannot be written.
    """

    is_log = True

    def __init__(self, path: str | Path) -> None:
        self.name = f"log {path}"
        self._path = Path(path)
        self._files = 0
        self._columns: tuple[str, ...] = ()
        self._new_plan = True
        self._flushed = 0.0
        self._open(self._path)

    def _open(self, path: Path) -> None:
        try:
            self._file = open(path, "w", newline="", encoding="utf-8")  # noqa: SIM115  # closed in close()
        except OSError as error:
            raise SinkError(f"{path}: cannot write a log there: {error.strerror}") from error
        self._writer = csv.writer(self._file, lineterminator="\n")
        self._files += 1

    def start(self, plan: Plan) -> None:
        """Expect other columns from the next row on."""
        self._new_plan = True

    def _begin(self, tick: Tick, columns: tuple[str, ...]) -> None:
        """Write the names of the columns, into another file where the one so far has others."""
        if self._columns == columns:
            return
        if self._columns:
            self.close()
            self._open(self._path.with_stem(f"{self._path.stem}-{self._files + 1}"))
        self._columns, self._flushed = columns, tick.time
        self._writer.writerow(columns)

    def write(self, tick: Tick) -> None:
        """Append a row. Raises `SinkError` when the disk is full or gone."""
        row = tick.as_row()
        try:
            if self._new_plan:
                self._new_plan = False
                self._begin(tick, tuple(row))
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
