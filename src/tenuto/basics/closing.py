"""The base of everything that is opened with ``with`` and closed at its end."""

from __future__ import annotations

from types import TracebackType
from typing import Self


class Closing:
    """Something that has to be closed. ``with`` does it, even after an exception."""

    def close(self) -> None:
        """Release what was opened. May be called twice."""

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
