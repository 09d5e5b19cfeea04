"""Ctrl-C and SIGTERM as a result instead of an exception, for commands that end by them."""

from __future__ import annotations

import signal
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType


@contextmanager
def ctrl_c() -> Iterator[list[int]]:
    """Collect Ctrl-C and SIGTERM in a list instead of aborting."""
    asked: list[int] = []

    def note(number: int, _: FrameType | None) -> None:
        asked.append(number)

    before = {number: signal.signal(number, note) for number in (signal.SIGINT, signal.SIGTERM)}
    try:
        yield asked
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
