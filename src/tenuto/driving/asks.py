"""What somebody at a source or a sink may ask of a drive, beside what controls and far ends say."""

from __future__ import annotations

from typing import Protocol


class Asks(Protocol):
    """What may be asked of a drive beside its controls; see `tenuto.DriveHandle`."""

    def emergency_stop(self, why: str) -> None:
        """Stop as the profile's emergency stop does."""
        ...

    def reset(self) -> None:
        """Permit a start after an emergency stop."""
        ...

    def note(self, text: str) -> None:
        """Note something with the next tick."""
        ...
