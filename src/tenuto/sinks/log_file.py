"""Log files: a row per tick with the output of every stage, in the format of the suffix.

======== ====================================================================================================
suffix   form
======== ====================================================================================================
.csv     RFC 4180
.jsonl   JSON lines: an object per tick; a missing number is null
.parquet Apache Parquet; made at the end from an Arrow stream, ``FILE.unfinished``
.mcap    MCAP, an open container: the channels of `tenuto.sinks.mcap_log`
======== ====================================================================================================
"""

from __future__ import annotations

import csv
import json
import math
from abc import ABC, abstractmethod
from collections.abc import Callable
from contextlib import suppress
from itertools import count
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any

from tenuto.basics.errors import SinkError
from tenuto.basics.extras import how_to_get
from tenuto.driving.plan import Plan
from tenuto.driving.tick import Tick, is_whole
from tenuto.files import check_there, open_to_write
from tenuto.sinks.base import Sink

if TYPE_CHECKING:
    import pyarrow as pa

Row = dict[str, float | int | str]
Type = type[int] | type[float] | type[str]
# A killed process loses at most this many seconds of its log.
_FLUSH_SECONDS = 1.0
UNFINISHED = ".unfinished"
# The rows of one group of a Parquet file.
_ROWS_AT_ONCE = 20_000
# Every row has the number of its format: a version that does not know it reports that.
FORMAT_COLUMN, FORMAT = "format", 1


def type_of(column: str, cell: float | int | str) -> Type:
    """Return the type of a column, which one cell does not show: a raw number may be whole, or NaN."""
    if isinstance(cell, str):
        return str
    return int if column == FORMAT_COLUMN or is_whole(column) else float


class LogFile(Sink, ABC):
    """The base class of all logs.

    The rows of the first second are written together: by then most far ends have reported what they measure, so that
    these columns are known. A missing value is NaN. After a change of the profile, or if a far end reports new names
    later, the log continues in another file: ``run-2.csv``.

    Numbers are rounded to six places.

    Attributes:
        keep: writes the profile of a file's rows beside it, for every file but the first; None for nothing.

    Raises:
        SinkError: the file cannot be written: the disk is full, or was removed.
    """

    is_log = True
    keep: Callable[[Path, Plan], None] | None = None

    def __init__(self, path: str | Path) -> None:
        """Check that the file can be written."""
        self.name = f"log {path}"
        self._path = Path(path)
        self._names = (self._path.with_stem(f"{self._path.stem}-{number}") for number in count(2))
        # Column → the missing value of its type; empty before the first row was written. And their order.
        self._columns: dict[str, float | str] = {}
        self._order: tuple[str, ...] = ()
        self._early: list[Row] = []
        self._plan: Plan | None = None
        self._flushed = 0.0
        self._file: IO[Any] | None = None
        self._file = self._opened(self._path)

    def _opened(self, path: Path) -> IO[Any]:
        try:
            return self._open(path)
        except OSError as error:
            raise SinkError(f"{path}: cannot write a log there: {error.strerror or error}") from error

    @abstractmethod
    def _open(self, path: Path) -> IO[Any]:
        """Open the file for the rows."""

    @abstractmethod
    def _begin(self, row: Row) -> None:
        """Write the heading."""

    @abstractmethod
    def _put(self, row: Row) -> None:
        """Write a row."""

    def _flush(self) -> None:
        """Pass the written rows to the disk."""
        if self._file is not None:
            self._file.flush()

    def _finish(self) -> None:
        """Write the end of the file, and close it."""
        if self._file is not None:
            self._file.close()

    def start(self, plan: Plan) -> None:
        """Prepare for the rows of this plan: in another file, if there are rows of a different plan.

        Raises:
            SinkError: the next file cannot be written.
        """
        before, self._plan = self._plan, plan
        if before is None or before == plan or not (self._columns or self._early):
            return
        try:
            self._to_disk()
            self._next_file()
        except OSError as error:
            raise SinkError(f"{self._path}: cannot write the log: {error.strerror or error}") from error
        self._columns, self._order = {}, ()

    @property
    def path(self) -> Path:
        """The present file."""
        return self._path

    def write(self, tick: Tick) -> None:
        """Append a row.

        Raises:
            SinkError: the file cannot be written.
        """
        rounded = _rounded
        row: Row = {name: rounded(cell) if isinstance(cell, float) else cell for name, cell in tick.as_row().items()}
        row[FORMAT_COLUMN] = FORMAT
        try:
            if self._columns:
                self._append(row)
            else:
                self._early.append(row)
                self._flushed = tick.time if len(self._early) == 1 else self._flushed
            if not 0.0 <= tick.time - self._flushed < _FLUSH_SECONDS:
                self._to_disk()
                self._flushed = tick.time
        except OSError as error:
            raise SinkError(f"{self._path}: cannot write the log: {error.strerror or error}") from error

    def _append(self, row: Row) -> None:
        """Write a row; begin another file if the row has a new column."""
        if tuple(row) != self._order:
            if not self._columns.keys() >= row.keys():
                before = self._columns
                self._next_file()
                self._open_with({**before, **_blanks(row)}, row)
            row = {name: row.get(name, blank) for name, blank in self._columns.items()}
        self._put(row)

    def _next_file(self) -> None:
        self._finish()
        # Files of another drive with these names are kept.
        self._path = next(path for path in self._names if not path.exists())
        self._file = self._opened(self._path)
        if self.keep is not None and self._plan is not None:
            self.keep(self._path, self._plan)

    def _open_with(self, columns: dict[str, float | str], row: Row) -> None:
        """Begin a file with these columns; a row shows their types."""
        self._columns, self._order = columns, tuple(columns)
        self._begin({name: row.get(name, blank) for name, blank in columns.items()})

    def _to_disk(self) -> None:
        """Pass the written rows to the disk, the first rows too."""
        if self._early:
            rows, self._early = self._early, []
            every = {name: cell for row in rows for name, cell in row.items()}
            self._open_with(_blanks(every), every)
            for row in rows:
                self._append(row)
        self._flush()
        if self._file is not None:
            check_there(self._file)

    def stop(self, tick: Tick) -> None:
        """Append the last row, and write everything to the disk.

        Raises:
            SinkError: the file cannot be written.
        """
        self.write(tick)
        try:
            self._to_disk()
        except OSError as error:
            raise SinkError(f"{self._path}: cannot write the log: {error.strerror or error}") from error

    def close(self) -> None:
        """Finish the file.

        Raises:
            SinkError: it cannot be finished.
        """
        try:
            if self._early:
                self._to_disk()
            self._finish()
        except OSError as error:
            raise SinkError(f"{self._path}: cannot close the log: {error.strerror or error}") from error
        finally:
            if self._file is not None:
                with suppress(OSError):
                    self._file.close()
            self._file = None


class CsvLog(LogFile):
    """A log as CSV."""

    def _open(self, path: Path) -> IO[Any]:
        return open_to_write(path, text=True)

    def _begin(self, row: Row) -> None:
        self._writer = csv.writer(self._file, lineterminator="\n")  # type: ignore[arg-type]
        self._writer.writerow(row)

    def _put(self, row: Row) -> None:
        self._writer.writerow(row.values())


class JsonLinesLog(LogFile):
    """A log as JSON lines."""

    def _open(self, path: Path) -> IO[Any]:
        return open_to_write(path, text=True)

    def _begin(self, row: Row) -> None:
        """Do nothing: every line names its columns."""

    def _put(self, row: Row) -> None:
        if self._file is not None:
            self._file.write(json.dumps(without_nan(row), ensure_ascii=False) + "\n")


class ParquetLog(LogFile):
    """A log as Parquet. Such a file is readable only when it is finished: the rows go to an Arrow stream first."""

    def __init__(self, path: str | Path) -> None:
        try:
            import pyarrow
        except ImportError as error:
            raise SinkError(how_to_get("pyarrow")) from error
        self._arrow = pyarrow
        self._rows: list[Row] = []
        super().__init__(path)

    def _open(self, path: Path) -> IO[Any]:
        open_to_write(path).close()  # an error about this path must come now
        return open_to_write(f"{path}{UNFINISHED}")

    def _begin(self, row: Row) -> None:
        types = {int: self._arrow.int64(), float: self._arrow.float64(), str: self._arrow.string()}
        self._schema: pa.Schema = self._arrow.schema([(name, types[type_of(name, cell)]) for name, cell in row.items()])
        self._stream = self._arrow.ipc.new_stream(self._file, self._schema)

    def _put(self, row: Row) -> None:
        self._rows.append(row)

    def _flush(self) -> None:
        if self._rows:
            self._stream.write_batch(self._arrow.RecordBatch.from_pylist(self._rows, schema=self._schema))
            self._rows = []
        super()._flush()

    def _finish(self) -> None:
        if self._file is None:
            return
        if self._columns:
            self._flush()
            self._stream.close()
        self._file.close()
        unfinished = Path(f"{self._path}{UNFINISHED}")
        if self._columns:
            self._copy(unfinished)
        unfinished.unlink()

    def _copy(self, unfinished: Path) -> None:
        """Make the Parquet file from the stream, some rows at a time: a drive is longer than the memory is large."""
        import pyarrow.parquet as parquet

        batches: list[pa.RecordBatch] = []
        with (
            self._arrow.memory_map(str(unfinished)) as rows, self._arrow.ipc.open_stream(rows) as stream,
            open_to_write(self._path) as file, parquet.ParquetWriter(file, self._schema) as made,
        ):  # fmt: skip
            for batch in stream:
                batches.append(batch)
                if sum(map(len, batches)) >= _ROWS_AT_ONCE:
                    made.write_table(self._arrow.Table.from_batches(batches))
                    batches = []
            if batches:
                made.write_table(self._arrow.Table.from_batches(batches))


def _blanks(row: Row) -> dict[str, float | str]:
    """Return the missing value of each column of a row."""
    return {name: "" if isinstance(cell, str) else math.nan for name, cell in row.items()}


def _rounded(number: float) -> float:
    """Round a number to six places; NaN for anything else."""
    return round(number, 6) if -math.inf < number < math.inf else math.nan


def without_nan(row: Row) -> dict[str, float | int | str | None]:
    """Replace a number that is not finite by None: JSON has no such numbers."""
    return {name: None if isinstance(cell, float) and not math.isfinite(cell) else cell for name, cell in row.items()}
