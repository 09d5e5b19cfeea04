"""Logs read back, in any form: the same table from each."""

from __future__ import annotations

import math
import warnings
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn

from tenuto.analysis.log_files import READERS, Cells, is_text_column
from tenuto.basics.errors import CutOffWarning, RecordingError
from tenuto.basics.extras import needs
from tenuto.basics.frame import Frame, LinkCounts
from tenuto.basics.reasons import Reason
from tenuto.basics.text import parted, shortened
from tenuto.driving.guard import GuardStatus, State
from tenuto.driving.selection import Chosen
from tenuto.driving.telemetry import far_ends_of
from tenuto.driving.tick import Tick, is_whole
from tenuto.sinks.log_file import FORMAT, FORMAT_COLUMN
from tenuto.styles.mixing import Intent
from tenuto.vehicles.velocity import VelocityCommand

if TYPE_CHECKING:
    import pandas as pd

# Every tick has a number in these.
_KNOWN = frozenset(("time", "dt", "intent", "demand", "target", "command"))
# The columns of a log that an earlier version may lack, with their meaning in that case.
_NEEDED = (
    "time", "dt", "new_frame", "frame_age", "driver", "mode", "rates", "power", "send", "actions", "notices",
    "guard.state", "guard.codes", "guard.reasons", *(f"intent.{axis}" for axis in Intent._fields),
    *(f"{stage}.{axis}" for stage in ("demand", "target", "command") for axis in VelocityCommand._fields),
)  # fmt: skip
_NO_CHOICE = Chosen()
_LATER: dict[str, float | str] = {
    "link.quality": math.nan, "link.rssi": math.nan, "link.bad": math.nan, "link.lost": math.nan, "notice_codes": "",
    "level": _NO_CHOICE.level, "steering": _NO_CHOICE.steering, "rear_share": _NO_CHOICE.rear_share,
}  # fmt: skip
_STAGES = frozenset(
    ("link", "raw", "position", "shaped", "intent", "demand", "target", "command", "actuators", "wire", "output",
     "trim", "switch", "guard", "far")
)  # fmt: skip


def load_log(path: str | Path) -> pd.DataFrame:
    """Read a log: one row per tick, with the columns of docs/formats.md.

    The log of a killed process is read up to its end: an incomplete row is left out, and for Parquet the
    ``.unfinished`` stream is read; `CutOffWarning` reports it. Columns that an earlier version did not write are added
    with their meaning at that time.

    Args:
        path: a file with the suffix ``.csv``, ``.jsonl``, ``.parquet`` or ``.mcap``.

    Raises:
        RecordingError: it cannot be read, is not a log, or a later version wrote it; the message names the file, and
            the row and the column of the error.
    """
    needs("pandas")
    file = Path(path)
    reader = READERS.get(file.suffix)
    if reader is None:
        raise RecordingError(f"{path}: expected a log that ends in {', '.join(READERS)}")
    cells = reader(file)
    table = _checked(cells, str(path))
    if cells.remark:
        warnings.warn(cells.remark, CutOffWarning, stacklevel=2)
    return table


def _checked(cells: Cells, path: str) -> pd.DataFrame:
    """Return the table with the right types. Raises RecordingError."""
    import pandas as pd

    _check_columns(cells, path)
    table = {}
    for name in map(str, cells.table.columns):
        if name != FORMAT_COLUMN:
            column = cells.table[name]
            table[name] = _texts(cells, name, column) if is_text_column(name) else _numbers(cells, name, column)
    frame = pd.DataFrame(table)
    for name, meant in _LATER.items():
        if name not in table:
            frame[name] = meant
    back = frame["time"].diff() < 0.0
    if back.any():
        row = int(back.to_numpy().argmax())
        found = f"found {frame['time'][row]:g} s after {frame['time'][row - 1]:g} s"
        raise RecordingError(f"{cells.where(row)}: column time: expected times that do not go back, {found}")
    return frame


def _check_columns(cells: Cells, path: str) -> None:
    """Check that this version can read the columns. Raises RecordingError."""
    names = set(map(str, cells.table.columns))
    if "guard.state" not in names:
        raise RecordingError(f"{path}: this is not a log of ticks: it has no column guard.state")
    if FORMAT_COLUMN in names:
        for row, found in enumerate(cells.table[FORMAT_COLUMN][:1]):
            if str(found) != str(FORMAT):
                text = f"this version reads logs of format {FORMAT}, found format {shortened(str(found))}"
                raise RecordingError(f"{cells.where(row)}: column {FORMAT_COLUMN}: {text}: update Tenuto")
    missing = [name for name in _NEEDED if name not in names]
    if missing:
        raise RecordingError(f"{path}: expected a column {missing[0]}, found none")
    known = {*_NEEDED, *_LATER, FORMAT_COLUMN}
    odd = sorted(name for name in names - known if name.partition(".")[0] not in _STAGES or "." not in name)
    if odd:
        raise RecordingError(f"{path}: expected the columns of a log, found {shortened(odd[0])}")
    if not len(cells.table):
        raise RecordingError(f"{path}: expected at least one row, found none")


def _texts(cells: Cells, name: str, column: pd.Series[Any]) -> pd.Series[Any]:
    states = {str(state) for state in State}
    for row, cell in enumerate(column):
        if not isinstance(cell, str) or (name == "guard.state" and cell not in states):
            _wrong_cell(cells, row, name, "a state of the guard" if name == "guard.state" else "text", cell)
    return column.astype(str)


def _numbers(cells: Cells, name: str, column: pd.Series[Any]) -> pd.Series[Any]:
    """Return a column of numbers; "nan", or an empty cell, stands for unknown. Raises RecordingError."""
    import numpy as np
    import pandas as pd

    if pd.api.types.is_numeric_dtype(column):
        given = column
    else:
        given = column.astype(object)
        given = given.where(~given.isin(("nan", "")), math.nan)
    numbers = pd.to_numeric(given, errors="coerce").astype("float64")
    whole = is_whole(name)
    wrong = np.isinf(numbers.to_numpy()) | (numbers.isna() & given.notna()).to_numpy()
    if whole or name.partition(".")[0] in _KNOWN:
        wrong |= numbers.isna().to_numpy()
    if whole:
        wrong |= (numbers != numbers.round()).to_numpy()
    if wrong.any():
        row = int(wrong.argmax())
        _wrong_cell(cells, row, name, "a whole number" if whole else "a number", column.iloc[row])
    return numbers.astype("int64") if whole else numbers


def _wrong_cell(cells: Cells, row: int, name: str, expected: str, cell: object) -> NoReturn:
    found = "nothing" if cell is None or cell == "" else shortened(str(cell))
    raise RecordingError(f"{cells.where(row)}: column {name}: expected {expected}, found {found}")


def ticks_of(table: pd.DataFrame) -> Iterator[Tick]:
    """Return the ticks of a log again, as far as it holds them.

    A log has neither the frames nor the hands of other drivers, and six digits of each number. Several reasons
    are separated if that is possible.

    Args:
        table: as returned by `load_log`.
    """
    for row in table.to_dict("records"):
        yield _tick({str(name): value for name, value in row.items()})


def _tick(row: dict[str, Any]) -> Tick:
    parts: dict[str, dict[str, Any]] = {}
    for column, value in row.items():
        stage, _, name = column.partition(".")
        parts.setdefault(stage, {})[name] = value

    def part(stage: str) -> dict[str, Any]:
        return parts.get(stage, {})

    def velocity(stage: str) -> VelocityCommand:
        return VelocityCommand(**part(stage))

    age = row["frame_age"]
    bad, lost = row.get("link.bad", math.nan), row.get("link.lost", math.nan)
    counts = None if math.isnan(bad) or math.isnan(lost) else LinkCounts(bad=int(bad), lost=int(lost))
    frame = None if math.isnan(age) else Frame(row["time"] - age, {}, counts=counts)
    switches = {name: int(value) for name, value in part("switch").items()}
    chosen = Chosen(row["mode"], row["rates"], row["level"], part("trim"), switches, row["steering"], row["rear_share"])
    return Tick(
        row["time"], row["dt"], frame, bool(row["new_frame"]), part("raw"), part("position"), part("shaped"),
        Intent(**part("intent")), velocity("demand"),
        GuardStatus(State(row["guard.state"]), _reasons(row["guard.codes"], row["guard.reasons"])),
        velocity("target"), velocity("command"), part("actuators"), chosen, part("output"),
        parted(row["actions"]),
        _reasons(row.get("notice_codes", ""), row["notices"]), part("wire"), bool(row["power"]),
        send=bool(row["send"]), driver=row["driver"], far=far_ends_of(part("far")),
    )  # fmt: skip


def _reasons(codes: str, texts: str) -> tuple[Reason, ...]:
    """Separate reasons; in a log of 1.0.0 a text may contain "; ", and then all stay together under the first code."""
    if not texts:
        return ()
    each, words = codes.split("; "), parted(texts)
    if len(each) == len(words):
        return tuple(Reason(code, text) for code, text in zip(each, words, strict=True))
    return (Reason(each[0], texts),)
