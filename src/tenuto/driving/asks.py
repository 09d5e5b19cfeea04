"""Requests to a drive from a source or a sink, in addition to controls and telemetry."""

from __future__ import annotations

from typing import Protocol


class Asks(Protocol):
    """The requests to a drive in addition to its controls; see `tenuto.DriveHandle`."""

    def emergency_stop(self, why: str) -> None:
        """Stop as the profile's emergency stop does."""
        ...

    def reset(self) -> None:
        """Permit a start after an emergency stop."""
        ...

    def note(self, text: str) -> None:
        """Note something with the next tick."""
        ...
