"""The common settings of inputs other than drivers."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

from tenuto.basics.frame import Frame
from tenuto.driving.telemetry import FarEnds


@dataclass(frozen=True, slots=True, kw_only=True)
class InputPlan:
    """One number from a sensor or a contact.

    Attributes:
        name: the builder's own name for it.
        reads: the source's name for the number.
        timeout: how old its newest number may be, s.
        own_source: it has a source; otherwise its number comes with the driver's sticks.
        far_end: the sink whose far end reports it, under the name ``reads``; None if it has another source.
        source_of: the other input whose source it shares, if any.
    """

    name: str
    reads: str
    timeout: float = 0.3
    own_source: bool = True
    source_of: str | None = None
    far_end: str | None = None

    @property
    def heard_from(self) -> str | None:
        """The name of its frames; None if its number comes with the driver's sticks."""
        return (self.source_of or self.name) if self.own_source else None


def frames_of(inputs: Iterable[InputPlan], far: FarEnds) -> dict[str, Frame]:
    """Return the values of inputs that far ends report, by the input's name; NaN if one was not reported."""
    return {
        one.name: Frame(heard.time, {one.reads: heard.number(one.reads)})
        for one in inputs
        if one.far_end is not None and (heard := far.get(one.far_end)) is not None and math.isfinite(heard.time)
    }
