"""What a robot hears besides its drivers: what all such inputs have in common."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class InputPlan:
    """One number from a sensor or a contact.

    Attributes:
        name: the builder's own name for it.
        reads: what its source calls the number.
        timeout: how old its newest number may be, s.
        own_source: it has a source; otherwise its number comes with the driver's sticks.
        source_of: the other input whose source it is, where it shares one.
    """

    name: str
    reads: str
    timeout: float = 0.3
    own_source: bool = True
    source_of: str | None = None

    @property
    def heard_from(self) -> str | None:
        """The name that its frames come under; None where its number comes with the driver's sticks."""
        return (self.source_of or self.name) if self.own_source else None
