"""The record of events: JSON lines, each on disk before the next tick, even if the program is killed."""

from __future__ import annotations

import json
import os
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import ClassVar

from tenuto.basics.errors import SinkError
from tenuto.driving.events import EventFinder
from tenuto.driving.plan import Plan
from tenuto.driving.tick import Tick
from tenuto.files import check_there, open_to_write
from tenuto.kinds.options import option
from tenuto.sinks.base import Sink, SinkOptions


class EventLog(Sink):
    """Appends a line for each event, and syncs it to disk at once (``fsync``).

    After a kill or a loss of power, every line is there except the one that was being written.
    An existing file is continued, so one file can hold the whole life of a robot.

    Raises:
        SinkError: the file cannot be written.
    """

    is_log = True

    def __init__(self, path: str | Path) -> None:
        self.name = f"events {path}"
        self._path = Path(path)
        self._events = EventFinder()
        self._new: list[tuple[str, str]] = []  # notes for the next tick
        self._begun = False
        try:
            # It stays open as long as the sink, and nothing is left in a buffer that a close would have to write.
            self._file = open_to_write(self._path, append=True)
            # After a loss of power the last line may be incomplete: begin a new one.
            if self._file.tell() and _last_byte(self._path) != b"\n":
                self._file.write(b"\n")
        except OSError as error:
            raise SinkError(f"{path}: cannot write events there: {error.strerror or error}") from error

    def start(self, plan: Plan) -> None:
        """Write the changes of a plan."""
        changes = self._events.start(plan)
        if not self._begun:
            utc = datetime.now(UTC).isoformat(timespec="seconds")
            self._new = [("begin", f"{utc}: a drive begins, {plan.driver} is first in rank")]
        elif changes:
            self._new = [("profile", changes)]
        self._begun = True

    def write(self, tick: Tick) -> None:
        """Write the events of a tick.

        Raises:
            SinkError: the file cannot be written, or was removed.
        """
        for what, text in self._new:
            self._note(tick.time, what, text)
        self._new = []
        for one in self._events.step(tick):
            self._note(*one)
        try:
            check_there(self._file)
        except OSError as error:
            raise SinkError(f"{self._path}: cannot write events: {error.strerror or error}") from error

    def stop(self, tick: Tick) -> None:
        """Write the events of the last tick, and the end."""
        self.write(tick)
        why = "; ".join(reason.text for reason in tick.guard.reasons)
        self._note(tick.time, "end", why)

    def close(self) -> None:
        """Close the file.

        Raises:
            SinkError: the disk did not accept the end of it.
        """
        try:
            self._file.close()
        except OSError as error:
            raise SinkError(f"{self._path}: cannot close the events: {error.strerror or error}") from error

    def _note(self, time: float, what: str, text: str) -> None:
        line = json.dumps({"time": round(time, 3), "what": what, "text": text}, ensure_ascii=False)
        try:
            left = memoryview(line.encode() + b"\n")
            while left:
                left = left[self._file.write(left) or 0 :]
            os.fsync(self._file.fileno())
        except OSError as error:
            raise SinkError(f"{self._path}: cannot write events: {error.strerror or error}") from error


def _last_byte(path: Path) -> bytes:
    with path.open("rb") as file:
        file.seek(-1, os.SEEK_END)
        return file.read()


@dataclass(frozen=True, kw_only=True)
class EventsOptions(SinkOptions):
    """One line per event: who enabled it, why it stopped, what was changed."""

    kind: ClassVar[str] = "events"
    file: str = option("a file that ends in .jsonl", word="FILE.jsonl", place=True)

    def turns(self, plan: Plan) -> None:
        """Return None: it moves nothing."""

    def open(self) -> Sink:
        """Open the file, or continue it.

        Raises:
            SinkError: the suffix is that of another kind of file, or it cannot be written.
        """
        if Path(self.file).suffix != ".jsonl":
            raise SinkError(f'expected events:FILE.jsonl; found "events:{self.file}"')
        return EventLog(self.file)
