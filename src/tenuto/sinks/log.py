"""A log: one row per tick, in one of four formats."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

from tenuto.basics.errors import SinkError
from tenuto.driving.plan import Plan
from tenuto.kinds.options import option
from tenuto.kinds.texts import form_of
from tenuto.sinks.base import Sink, SinkOptions


@dataclass(frozen=True, kw_only=True)
class LogOptions(SinkOptions):
    """One row per tick, in the format of the file's suffix."""

    kind: ClassVar[str] = "log"
    file: str = option(
        "a file that ends in .csv, .jsonl, .parquet or .mcap", word="FILE.csv|.jsonl|.parquet|.mcap", place=True
    )

    def turns(self, plan: Plan) -> None:
        """Return None: it moves nothing."""

    def packages(self) -> tuple[str, ...]:
        """Return the writer of its format."""
        module = {".parquet": "pyarrow", ".mcap": "mcap"}.get(Path(self.file).suffix)
        return () if module is None else (module,)

    def open(self) -> Sink:
        """Create the file.

        Raises:
            SinkError: the suffix is unknown, or the file cannot be written.
        """
        from tenuto.sinks.log_file import CsvLog, JsonLinesLog, ParquetLog
        from tenuto.sinks.mcap_log import McapLog

        logs: dict[str, Callable[[str], Sink]] = {
            ".csv": CsvLog, ".jsonl": JsonLinesLog, ".parquet": ParquetLog, ".mcap": McapLog,
        }  # fmt: skip
        log = logs.get(Path(self.file).suffix)
        if log is None:
            raise SinkError(f'expected {form_of(type(self))}; found "log:{self.file}"')
        return log(self.file)
