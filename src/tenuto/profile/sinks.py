"""The tables of a profile about where commands and logs go."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Literal, get_args

from pydantic import Field

from tenuto.core.errors import Problem
from tenuto.profile.quantities import Frequency, Time
from tenuto.profile.table import Name, Table

SinkKind = Literal["simulated", "log", "serial", "sbus", "ibus"]
# Which keys mean something for which kinds, and which they need.
_KEYS: Mapping[str, tuple[str, ...]] = {
    "file": ("log",),
    "port": ("serial", "sbus", "ibus"),
    "baud": ("serial",),
    "rate": ("serial", "sbus", "ibus"),
    "answers": ("serial",),
    "line": ("serial",),
    "channels": ("sbus", "ibus"),
}
_NEEDED = ("file", "port")


class SinkTable(Table):
    """``[sinks.NAME]``: somewhere that the ticks go."""

    kind: SinkKind = Field(description="a kind of sink: " + ", ".join(get_args(SinkKind)))
    file: Name | None = Field(default=None, description="a file that ends in .csv, .jsonl, .parquet or .mcap")
    port: Name | None = Field(default=None, description="a serial port, such as /dev/ttyUSB0")
    baud: int | None = Field(default=None, gt=0, description="a whole number of baud, such as 115200")
    rate: Frequency | None = Field(default=None, description='a frequency, such as "25 Hz"')
    answers: Time | None = Field(default=None, description='a time, such as "500 ms"')
    line: Name | None = Field(
        default=None, description='a line with fields in braces, such as "{vx:.3f} {yaw_rate:.3f}"'
    )
    channels: list[Name] | None = Field(default=None, description="a list of actuators, from channel 1 on")

    def options(self) -> dict[str, object]:
        """Give what is said besides kind, file and port."""
        given = self.model_dump(exclude_none=True, exclude={"kind", "file", "port"})
        return given | ({"channels": tuple(self.channels)} if self.channels else {})


def sinks_problems(sinks: Mapping[str, SinkTable]) -> Iterator[Problem]:
    """List what is wrong with the keys of the sinks."""
    for name, table in sinks.items():
        for key, kinds in _KEYS.items():
            value, meant = getattr(table, key), table.kind in kinds
            if value is not None and not meant:
                yield Problem(f"sinks.{name}.{key}", f"nothing for kind {table.kind}", f"{value}", "take it out")
            elif value is None and meant and key in _NEEDED:
                expected = SinkTable.model_fields[key].description or ""
                yield Problem(f"sinks.{name}.{key}", expected, "nothing", "add it")
