"""Logs read back, whatever their form: the same table from each."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator
from contextlib import suppress
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING, Any

from tenuto.basics.errors import RecordingError
from tenuto.basics.extras import needs
from tenuto.basics.frame import Frame, LinkCounts
from tenuto.basics.reasons import Reason
from tenuto.driving.guard import GuardStatus, State
from tenuto.driving.selection import Chosen
from tenuto.driving.telemetry import far_ends_of, is_text
from tenuto.driving.tick import Tick
from tenuto.sinks.log_file import UNFINISHED
from tenuto.styles.mixing import Intent
from tenuto.vehicles.velocity import VelocityCommand

if TYPE_CHECKING:
    import pandas as pd

# Columns that are text, and those that are whole numbers; all others are numbers.
_TEXT = (
    "driver",
    "mode",
    "rates",
    "steering",
    "actions",
    "notices",
    "notice_codes",
    "guard.state",
    "guard.codes",
    "guard.reasons",
)
_WHOLE = ("new_frame", "power", "send")


def load_log(path: str | Path) -> pd.DataFrame:
    """Read a log: a row a tick, columns as in docs/formats.md.

    What a killed process left is read as far as it goes: half a row at the end is left out, and of a Parquet log the
    ``.unfinished`` stream is read.

    Args:
        path: a file that ends in ``.csv``, ``.jsonl``, ``.parquet`` or ``.mcap``.

    Raises:
        RecordingError: it cannot be read, or is no log.
    """
    needs("pandas")
    import pandas as pd

    file = Path(path)
    reader = _READERS.get(file.suffix)
    if reader is None:
        raise RecordingError(f"{path}: expected a log that ends in {', '.join(_READERS)}")
    try:
        table = reader(file)
    except (OSError, ValueError, KeyError) as error:
        raise RecordingError(f"{path}: cannot be read as a log: {error}") from error
    if "guard.state" not in table.columns:
        raise RecordingError(f"{path}: this is no log of ticks: it has no column guard.state")
    for name in table.columns:
        if name in _TEXT or is_text(str(name)):
            table[name] = table[name].fillna("").astype(str)
        elif name in _WHOLE or name.startswith("switch."):
            table[name] = table[name].astype("int64")
        else:
            table[name] = pd.to_numeric(table[name]).astype("float64")
    return table


def ticks_of(table: pd.DataFrame) -> Iterator[Tick]:
    """Return the ticks of a log again, as far as it holds them.

    A log has not the frames themselves, nor the hands of other drivers, and six digits of each number. Several reasons
    are taken apart where that can be told.

    Args:
        table: as `load_log` gives it.
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
    counts = None if math.isnan(bad) else LinkCounts(bad=int(bad), lost=int(lost))
    frame = None if math.isnan(age) else Frame(row["time"] - age, {}, counts=counts)
    switches = {name: int(value) for name, value in part("switch").items()}
    chosen = Chosen(row["mode"], row["rates"], row["level"], part("trim"), switches, row["steering"], row["rear_share"])
    return Tick(
        row["time"], row["dt"], frame, bool(row["new_frame"]), part("raw"), part("position"), part("shaped"),
        Intent(**part("intent")), velocity("demand"),
        GuardStatus(State(row["guard.state"]), _reasons(row["guard.codes"], row["guard.reasons"])),
        velocity("target"), velocity("command"), part("actuators"), chosen, part("output"),
        tuple(name for name in row["actions"].split("; ") if name),
        _reasons(row.get("notice_codes", ""), row["notices"]), part("wire"), bool(row["power"]),
        send=bool(row["send"]), driver=row["driver"], far=far_ends_of(part("far")),
    )  # fmt: skip


def _reasons(codes: str, texts: str) -> tuple[Reason, ...]:
    """Take reasons apart; a text may have a "; " of its own, and then they stay together under all their codes."""
    if not texts:
        return ()
    each, words = codes.split("; "), texts.split("; ")
    if len(each) == len(words):
        return tuple(Reason(code, text) for code, text in zip(each, words, strict=True))
    return (Reason(each[0], texts),)


def _csv(path: Path) -> pd.DataFrame:
    import pandas as pd

    text = path.read_bytes()
    whole = text[: text.rfind(b"\n") + 1]  # a killed process may leave half a row
    if not whole:
        raise ValueError("it is empty")
    return pd.read_csv(BytesIO(whole), keep_default_na=False, na_values={}, dtype=str).replace({"nan": None, "": None})


def _json_lines(path: Path) -> pd.DataFrame:
    import pandas as pd

    lines = path.read_text(encoding="utf-8").split("\n")[:-1]
    return pd.DataFrame([json.loads(line) for line in lines])


def _parquet(path: Path) -> pd.DataFrame:
    import pandas as pd

    unfinished = Path(f"{path}{UNFINISHED}")
    if not unfinished.exists():
        return pd.read_parquet(path)
    import pyarrow as pa

    batches, written = [], unfinished.read_bytes()
    if not written:
        raise ValueError("it is empty: its first second was not written yet")
    stream = pa.ipc.open_stream(written)
    with suppress(OSError, pa.ArrowInvalid):  # the last one was being written
        batches.extend(stream)
    table: pd.DataFrame = pa.Table.from_batches(batches, stream.schema).to_pandas()
    return table


def _mcap(path: Path) -> pd.DataFrame:
    import pandas as pd

    rows: list[dict[str, Any]] = []
    for row in _mcap_messages(path):
        if rows and row["time"] == rows[-1]["time"] and not set(row) & (set(rows[-1]) - {"time"}):
            rows[-1] |= row
        else:
            rows.append(row)
    return pd.DataFrame([row for row in rows if len(row) == len(rows[0])])


def _mcap_messages(path: Path) -> Iterator[dict[str, Any]]:
    from mcap.exceptions import McapError
    from mcap.records import Message
    from mcap.stream_reader import StreamReader

    from tenuto.sinks.mcap_log import flat

    with path.open("rb") as file:
        try:
            for record in StreamReader(file).records:
                if isinstance(record, Message):
                    yield flat(json.loads(record.data))
        except McapError:
            return  # half a record at the end


_READERS = {".csv": _csv, ".jsonl": _json_lines, ".parquet": _parquet, ".mcap": _mcap}
