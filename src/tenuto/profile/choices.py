"""The tables of a profile for switches, selections and actions."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from pydantic import Field

from tenuto.kinds.options import Role
from tenuto.kinds.table import Name, Table
from tenuto.kinds.tables import any_of
from tenuto.outputs.base import OUTPUTS, OutputOptions
from tenuto.profile.speeds import LimitsTable, SpeedsTable
from tenuto.styles.base import STYLES, StyleOptions
from tenuto.switches.base import SWITCHES, SwitchOptions

if TYPE_CHECKING:
    AnyStyle = StyleOptions
    AnySwitch = SwitchOptions
    AnyOutput = OutputOptions
else:
    AnyStyle = any_of(STYLES)
    AnySwitch = any_of(SWITCHES)
    AnyOutput = any_of(OUTPUTS)

_PRESSED = str(Role.PRESSED)


class ChoiceTable(Table):
    """``[choose.rates]``: the selection of a set of rates."""

    switch: Name = Field(description=_PRESSED)
    order: list[Name] = Field(min_length=2, description="a list of names, one a position of the switch")


class ModeChoiceTable(ChoiceTable):
    """``[choose.mode]``: the selection of a mode."""

    back: Name | None = Field(default=None, description=_PRESSED)
    through_rest: bool = Field(default=True, description="true or false")


class SteeringChoiceTable(Table):
    """``[choose.steering]``: the selection of a steering mode."""

    switch: Name = Field(description=_PRESSED)
    order: list[Literal["front", "rear", "counter", "crab"]] = Field(
        min_length=2, description='a list of "front", "rear", "counter" and "crab", one a position of the switch'
    )


class ChooseTable(Table):
    """``[choose]``: the selections by switches."""

    mode: ModeChoiceTable | None = Field(default=None, description="a table [choose.mode]")
    rates: ChoiceTable | None = Field(default=None, description="a table [choose.rates]")
    steering: SteeringChoiceTable | None = Field(default=None, description="a table [choose.steering]")


class LevelsTable(Table):
    """``[levels]``: shares of all speeds, selected in steps."""

    steps: list[float] = Field(min_length=2, description="a list of shares above 0, rising, up to 1")
    begin: float | None = Field(default=None, description="one of the steps")
    faster: Name = Field(description=_PRESSED)
    slower: Name = Field(description=_PRESSED)


class RearShareTable(Table):
    """``[rear_share]``: how much the rear wheels steer, selected in steps."""

    steps: list[float] = Field(min_length=2, description="a list of shares from 0 to 1, rising")
    begin: float | None = Field(default=None, description="one of the steps")
    more: Name = Field(description=_PRESSED)
    less: Name = Field(description=_PRESSED)


class ActionTable(Table):
    """``[actions.NAME]``: an event that a press fires once."""

    press: Name = Field(description=_PRESSED)
    when: Literal["driving", "any time"] = Field(default="driving", description='"driving" or "any time"')


class ModeTable(Table):
    """``[modes.NAME]``: the changes of a mode. Speeds, limits and outputs given here change only those keys."""

    fallback: bool = Field(default=False, description="true or false")
    may_start: bool = Field(default=True, description="true or false")
    style: AnyStyle | None = Field(default=None, description="a table like [style], whole")
    speeds: SpeedsTable | None = Field(default=None, description="a table like [speeds]")
    limits: LimitsTable | None = Field(default=None, description="a table like [limits]")
    rates: Name | None = Field(default=None, description="the name of a set of rates under [rates]")
    outputs: dict[Name, AnyOutput] = Field(default={}, description="tables like [outputs.NAME]")
    without: list[Name] = Field(default=[], description="a list of names under [outputs] that rest in this mode")
