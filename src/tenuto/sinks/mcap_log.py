"""A log as MCAP, an open container that common viewers of robot data open.

Four channels, each with a JSON schema: ``/frames`` (the frames, and the values of each control), ``/commands``
(intent, demand, target, command, and the selection), ``/guard`` (state, reasons, notices, actions) and
``/actuators``. A name with dots is a nested object: ``command.vx`` is ``{"command": {"vx": …}}``. Every message
has ``time``, s.
"""

from __future__ import annotations

import json
import time
from pathlib import Path
from typing import IO, Any

from tenuto.basics.errors import SinkError
from tenuto.basics.extras import how_to_get
from tenuto.files import open_to_write
from tenuto.sinks.log_file import LogFile, Row, Type, type_of, without_nan

# The first part of a column's name → its channel; all others go with the commands.
CHANNELS = {
    **dict.fromkeys(("new_frame", "frame_age", "link", "raw", "position", "shaped", "switch", "trim"), "/frames"),
    **dict.fromkeys(("guard", "notices", "notice_codes", "actions"), "/guard"),
    **dict.fromkeys(("actuators", "wire", "output"), "/actuators"),
}
# The key of the names of all columns in their order, in the metadata of the first channel.
COLUMNS = "columns"
CHANNELS_OF_LOG = ("/frames", "/commands", "/guard", "/actuators")
_TYPES: dict[Type, str | list[str]] = {int: "integer", float: ["number", "null"], str: "string"}


def channel_of(column: str) -> str:
    """Return the channel of a column of a log."""
    return CHANNELS.get(column.split(".")[0], "/commands")


def nested(row: dict[str, Any]) -> dict[str, Any]:
    """Convert names with dots to nested objects."""
    result: dict[str, Any] = {}
    for name, cell in row.items():
        *path, last = name.split(".")
        place = result
        for part in path:
            place = place.setdefault(part, {})
        place[last] = cell
    return result


def flat(message: dict[str, Any], before: str = "") -> dict[str, Any]:
    """Undo `nested`."""
    result: dict[str, Any] = {}
    for name, cell in message.items():
        result |= flat(cell, f"{before}{name}.") if isinstance(cell, dict) else {f"{before}{name}": cell}
    return result


class McapLog(LogFile):
    """A log as MCAP, without chunks: the file of a killed process is readable up to its last second."""

    def __init__(self, path: str | Path) -> None:
        try:
            import mcap.writer
        except ImportError as error:
            raise SinkError(how_to_get("mcap")) from error
        self._mcap = mcap.writer
        super().__init__(path)

    def _open(self, path: Path) -> IO[Any]:
        return open_to_write(path)

    def _begin(self, row: Row) -> None:
        import tenuto

        assert self._file is not None
        self._writer = self._mcap.Writer(
            self._file, use_chunking=False, compression=self._mcap.CompressionType.NONE, enable_crcs=False
        )
        self._writer.start(profile="", library=f"tenuto {tenuto.__version__}")
        self._began = time.time()
        self._columns_of = {
            channel: ["time", *(name for name in row if channel_of(name) == channel and name != "time")]
            for channel in CHANNELS_OF_LOG
        }
        self._channels: dict[str, int] = {}
        for channel, columns in self._columns_of.items():
            schema = json.dumps(_schema({name: row[name] for name in columns})).encode()
            number = self._writer.register_schema(name=f"tenuto{channel}", encoding="jsonschema", data=schema)
            # The order of all columns, which their channels do not have.
            order = {COLUMNS: json.dumps(list(row))} if not self._channels else {}
            self._channels[channel] = self._writer.register_channel(channel, "json", number, metadata=order)

    def _put(self, row: Row) -> None:
        whole = without_nan(row)
        at = int((self._began + float(row["time"])) * 1e9)
        for channel, columns in self._columns_of.items():
            data = json.dumps(nested({name: whole[name] for name in columns}), ensure_ascii=False).encode()
            self._writer.add_message(self._channels[channel], log_time=at, data=data, publish_time=at)

    def _finish(self) -> None:
        if self._file is not None and self._columns:
            self._writer.finish()  # type: ignore[no-untyped-call]
        super()._finish()


def _schema(row: Row) -> dict[str, Any]:
    """Return the JSON schema of a channel's messages."""

    def of(value: Any) -> dict[str, Any]:
        if not isinstance(value, dict):
            return {"type": _TYPES[value]}
        return {"type": "object", "properties": {key: of(cell) for key, cell in value.items()}, "required": list(value)}

    types = nested({name: type_of(name, cell) for name, cell in row.items()})
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **of(types)}
