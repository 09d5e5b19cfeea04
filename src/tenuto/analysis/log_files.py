"""The content of a log file, in each of its forms: the cells as written, and the place of each row."""

from __future__ import annotations

import csv
from array import array
from collections.abc import Callable, Iterator
from contextlib import suppress
from io import BytesIO, TextIOWrapper
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple, NoReturn

from tenuto.basics.errors import RecordingError
from tenuto.basics.json_in import read_json
from tenuto.basics.text import shortened
from tenuto.driving.telemetry import is_text
from tenuto.files import UnreadableError, mcap_records, read_bytes
from tenuto.sinks.log_file import FORMAT_COLUMN, UNFINISHED

if TYPE_CHECKING:
    import pandas as pd


_MOST_COLUMNS = 2000
# The rows of a CSV that are text at one time: as numbers they take a tenth of the memory.
_ROWS_AT_ONCE = 5000
# Columns of text, beside those of the far ends; all others are numbers.
_TEXT = frozenset((
    "driver", "mode", "rates", "steering", "actions", "notices", "notice_codes", "guard.state", "guard.codes",
    "guard.reasons",
))  # fmt: skip


def is_text_column(name: str) -> bool:
    """Return whether a column of a log is text."""
    return name in _TEXT or is_text(name)


class Cells(NamedTuple):
    """The content of a file.

    Attributes:
        table: a column per name; text in all cells of a CSV, else numbers and text. where: row → its place in
            the file, for people. remark: that the file was cut off, and which part was read; empty if it was complete.
    """

    table: pd.DataFrame
    where: Callable[[int], str]
    remark: str = ""


def read_csv(path: Path) -> Cells:
    """Read a log in CSV. Raises RecordingError."""
    import pandas as pd

    data, cut = _whole_lines(path)
    _text(path, data)  # refuses what is not UTF-8
    lines = csv.reader(_lines_of(data), strict=True)
    try:
        header = next(lines)
        if not header:
            _refuse(f"{path}:1", "expected a header with a name for each column, found nothing")
        if len(header) > _MOST_COLUMNS:
            _refuse(f"{path}:1", f"expected at most {_MOST_COLUMNS} columns, found {len(header)}")
        for name in header:
            if not name or header.count(name) > 1:
                _refuse(f"{path}:1", f'expected each column to have its own name, found "{shortened(name)}"')
        starts = array("L")
        for cells in lines:
            starts.append(lines.line_num)
            if len(cells) != len(header):
                where = f"{path}:{lines.line_num}"
                _refuse(where, f"expected {len(header)} cells, as in the header, found {len(cells)}")
    except csv.Error as error:
        _refuse(f"{path}:{lines.line_num}", f"expected a line of CSV: {error}")
    try:
        parts = pd.read_csv(
            _lines_of(data), keep_default_na=False, na_values=[], dtype=str, index_col=False, chunksize=_ROWS_AT_ONCE
        )
        table = pd.concat([part.apply(_as_numbers) for part in parts] or [pd.DataFrame(columns=header)])
    except (ValueError, OverflowError) as error:
        _refuse(str(path), f"cannot be read as CSV: {' '.join(str(error).split())}")
    if len(table) != len(starts) or list(table.columns) != header:  # two readers, and each must see the same
        _refuse(str(path), "cannot be read as CSV: its quotes or line ends are not those of RFC 4180")
    return Cells(table, lambda row: f"{path}:{starts[row]}", cut)


def _as_numbers(column: pd.Series[Any]) -> pd.Series[Any]:
    """Return a column of cells as numbers, if all of them are finite or unknown; otherwise as it is."""
    import numpy as np
    import pandas as pd

    if is_text_column(str(column.name)) or column.name == FORMAT_COLUMN:
        return column
    unknown = column.isin(("nan", ""))
    numbers = pd.to_numeric(column.where(~unknown), errors="coerce").astype("float64")
    return numbers if (np.isfinite(numbers) | unknown).all() else column


def _lines_of(data: bytes) -> TextIOWrapper:
    """Return the text of bytes that were checked, without a copy of it."""
    return TextIOWrapper(BytesIO(data), "utf-8-sig", newline="")


def read_json_lines(path: Path) -> Cells:
    """Read a log in JSON lines. Raises RecordingError."""
    import pandas as pd

    data, cut = _whole_lines(path)
    rows: list[dict[str, Any]] = []
    for number, line in enumerate(_text(path, data).split("\n")[:-1], 1):
        row = _object(line, f"{path}:{number}")
        if rows and row.keys() != rows[0].keys():
            wrong = sorted(row.keys() ^ rows[0].keys())[0]
            has = "has no" if wrong in rows[0] else "has another"
            _refuse(f"{path}:{number}", f"expected the columns of the first row; it {has} column {shortened(wrong)}")
        rows.append(row)
    return Cells(pd.DataFrame(rows, dtype=object), lambda row: f"{path}:{row + 1}", cut)


def read_parquet(path: Path) -> Cells:
    """Read a log in Parquet, or the stream that a killed process left. Raises RecordingError."""
    import pyarrow as pa
    import pyarrow.parquet as parquet

    unfinished, remark = Path(f"{path}{UNFINISHED}"), ""
    try:
        if unfinished.exists():
            table, remark = _stream(unfinished), f"{path} is incomplete: the data in {unfinished.name} was read"
        else:
            table = parquet.read_table(BytesIO(_bytes(path)))
        frame: pd.DataFrame = table.to_pandas()
    except (OSError, ValueError, MemoryError, pa.ArrowException) as error:
        _refuse(str(path), f"cannot be read as Parquet: {error}")
    if len(set(frame.columns)) < len(frame.columns):
        _refuse(str(path), "expected each column to have its own name")
    return Cells(frame, lambda row: f"{path}, row {row + 1}", remark)


def _stream(path: Path) -> Any:
    import pyarrow as pa

    written = _bytes(path)
    if not written:
        raise ValueError("it is empty: the drive ended within its first second")
    stream, batches = pa.ipc.open_stream(written), []
    with suppress(OSError, ValueError, pa.ArrowException):  # the last one was being written
        batches.extend(stream)
    return pa.Table.from_batches(batches, stream.schema)


def read_mcap(path: Path) -> Cells:
    """Read a log in MCAP. Raises RecordingError."""
    import pandas as pd

    from tenuto.sinks.mcap_log import CHANNELS_OF_LOG

    rows, heard, cut = list[dict[str, Any]](), list[set[str]](), ""
    order = list[str]()
    for number, message in enumerate(_messages(path, order), 1):
        if message is None:
            cut = _cut_off(path, "message")
            break
        topic, row = message
        if "time" not in row:
            _refuse(f"{path}, message {number}", "expected a message with a time")
        if rows and row["time"] == rows[-1].get("time") and topic not in heard[-1]:
            rows[-1] |= row
            heard[-1].add(topic)
        else:
            rows.append(row)
            heard.append({topic})
    # The last tick of a log that was cut off may lack a channel, and so may its only one.
    whole = [row for row, topics in zip(rows, heard, strict=True) if topics == set(CHANNELS_OF_LOG)]
    if whole != rows[: len(whole)] or len(rows) > len(whole) + 1 or (rows and not whole and not cut):
        _refuse(f"{path}, row {len(whole) + 1}", "expected a message of each channel for every tick")
    if cut and not whole:
        _refuse(str(path), "it is empty: the drive ended within its first tick")
    table = pd.DataFrame(whole, dtype=object)
    if len(order) == len(table.columns) and set(order) == set(table.columns):
        table = table[order]
    return Cells(table, lambda row: f"{path}, row {row + 1}", cut)


def _messages(path: Path, order: list[str]) -> Iterator[tuple[str, dict[str, Any]] | None]:
    """Return the channel and the columns of all complete messages, and None at the end of a file that was cut off.

    Args:
        path: see there. order: it is filled with the names of all columns, if the file has them (since 1.0.2).
    """
    from mcap.records import Channel, Message

    from tenuto.sinks.mcap_log import CHANNELS_OF_LOG, COLUMNS, flat

    topics = dict[int, str]()
    try:
        for number, record in enumerate(mcap_records(path), 1):
            if record is None:
                yield None
            elif isinstance(record, Channel):
                topics[record.id] = record.topic
                if COLUMNS in record.metadata and not order:  # each channel comes again at the end
                    with suppress(ValueError, TypeError):
                        order += map(str, read_json(record.metadata[COLUMNS]))
            elif isinstance(record, Message):
                topic = topics.get(record.channel_id, "nowhere")
                if topic not in CHANNELS_OF_LOG:
                    _refuse(str(path), f"this is not a log of ticks: it has a channel {shortened(topic)}")
                yield topic, flat(_object(record.data.decode(errors="replace"), f"{path}, record {number}"))
    except UnreadableError as error:
        _refuse(str(path), str(error))


def _object(text: str, where: str) -> dict[str, Any]:
    """Return a JSON object. Raises RecordingError: it is not one, or a number is not valid JSON."""
    try:
        found = read_json(text)
    except ValueError as error:
        _refuse(where, f"expected an object in JSON: {error}")
    if not isinstance(found, dict):
        _refuse(where, f"expected an object in JSON, found {shortened(text)}")
    return found


def _whole_lines(path: Path) -> tuple[bytes, str]:
    """Return the complete lines of a file, and a remark if there is more after them."""
    data = _bytes(path)
    # A killed process leaves an incomplete row, and a power failure zeros after it.
    end = data.rfind(b"\n", 0, len(data.rstrip(b"\0"))) + 1
    if not end:
        _refuse(str(path), "cannot be read as a log: it is empty" if not data else "expected whole lines, found none")
    return data[:end], _cut_off(path, "row") if end < len(data) else ""


def _cut_off(path: Path, what: str) -> str:
    return f"{path} was cut off: it was read up to its last complete {what}"


def _bytes(path: Path) -> bytes:
    try:
        return read_bytes(path)
    except UnreadableError as error:
        _refuse(str(path), f"cannot be read as a log: {error}")


def _text(path: Path, data: bytes) -> str:
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        _refuse(f"{path}:{line}", f"expected text in UTF-8, found byte 0x{data[error.start]:02x}")


def _refuse(where: str, text: str) -> NoReturn:
    raise RecordingError(f"{where}: {text}") from None


READERS: dict[str, Callable[[Path], Cells]] = {
    ".csv": read_csv, ".jsonl": read_json_lines, ".parquet": read_parquet, ".mcap": read_mcap
}  # fmt: skip
