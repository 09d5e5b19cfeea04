"""``[guard.needs]``: the conditions at the far end."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Annotated

from pydantic import BeforeValidator, Field

from tenuto.driving.needs_plan import NeedsPlan
from tenuto.kinds.quantities import SHARE
from tenuto.kinds.table import Name, Table, quantity
from tenuto.profile.quantities import Length, Time, Voltage

# The default for a far end that reports once a second: it has missed two.
USUAL_ANSWERS = 2.0


def _listed(value: object) -> object:
    """Make a list of a single name."""
    return [value] if isinstance(value, str) else value


class NeedsTable(Table):
    """``[guard.needs]``: the conditions at the far end before an enable, and during a drive."""

    answers: Time | None = Field(default=None, description='the longest silence of the far end, such as "500 ms"')
    armed: bool = Field(default=False, description="true or false")
    mode: Annotated[list[Name], BeforeValidator(_listed)] = Field(
        default=[], description='a mode of the far end, or a list, such as "guided"'
    )
    position: bool = Field(default=False, description="true or false")
    voltage_above: Voltage | None = Field(default=None, description='a voltage, such as "10.5 V"')
    charge_above: Annotated[float, BeforeValidator(quantity(SHARE))] | None = Field(
        default=None, lt=1.0, description='a share of the battery below 100 %, such as "20 %"'
    )
    height_from: Length | None = Field(default=None, description='a height, such as "0.5 m"')
    height_below: Length | None = Field(default=None, description='a height, such as "30 m"')
    within: Length | None = Field(default=None, description='a distance, such as "40 m"')

    def plan(self) -> NeedsPlan:
        """Return the settings for the guard."""
        inf = math.inf
        made = NeedsPlan(
            armed=self.armed, modes=tuple(self.mode), position=self.position, within=self.within or inf,
            voltage_above=self.voltage_above or -inf, charge_above=self.charge_above or -inf,
            height_from=self.height_from or -inf, height_below=self.height_below or inf,
        )  # fmt: skip
        answers = self.answers or (USUAL_ANSWERS if made.wanted else inf)
        return replace(made, answers=answers)
