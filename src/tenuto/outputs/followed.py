"""Followed: a level from another machine; it is not available in profiles."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from tenuto.outputs.base import OutputPlan
from tenuto.switches.base import Switch


@dataclass(frozen=True, kw_only=True)
class FollowedPlan(OutputPlan):
    """A control that is the level."""

    control: str

    def asked(self, switches: Mapping[str, Switch], shaped: Mapping[str, float], before: float) -> float:
        """Return the demanded level."""
        return shaped[self.control]
