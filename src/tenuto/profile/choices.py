"""The tables of a profile about switches, and about what they choose and do."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Literal

from pydantic import Field

from tenuto.profile.kind_tables import any_of
from tenuto.profile.quantities import Time
from tenuto.profile.speeds import LimitsTable, SpeedsTable
from tenuto.profile.table import Name, Table
from tenuto.styles.base import STYLES, StyleOptions

if TYPE_CHECKING:
    AnyStyle = StyleOptions
else:
    AnyStyle = any_of(STYLES)

_READS = "a control of the device, or the name of one under [controls]"
_PRESSED = "a switch, or a control that is pressed"


class SwitchTable(Table):
    """What all kinds of switch have in common."""

    debounce: Time = Field(default=0.03, description='a time, such as "30 ms"')
    at_start: bool = Field(default=False, description="true or false")


class ContactTable(SwitchTable):
    """``[switches.NAME]`` of a kind that reads one control as on or off."""

    kind: Literal["momentary", "latch"] = Field(description="a kind of switch")
    reads: Name = Field(description=_READS)
    on_above: float = Field(default=0.6, ge=-1.0, le=1.0, description="a position from -1 to 1")
    off_below: float = Field(default=0.4, ge=-1.0, le=1.0, description="a position from -1 to 1")


class TimedTable(ContactTable):
    """A press that lasts, or two within a time."""

    kind: Literal["held", "double"] = Field(description="a kind of switch")  # type: ignore[assignment]
    time: Time = Field(description='a time, such as "1 s"')


class CycleTable(ContactTable):
    """A press goes on to the next position."""

    kind: Literal["cycle"] = Field(description="a kind of switch")  # type: ignore[assignment]
    positions: int | None = Field(default=None, ge=2, le=16, description="a whole number from 2 to 16")


class PositionsTable(SwitchTable):
    """A control that stands in one of several positions."""

    kind: Literal["positions"] = Field(description="a kind of switch")
    reads: Name = Field(description=_READS)
    positions: int | None = Field(default=None, ge=2, le=16, description="a whole number from 2 to 16")
    at: list[float] | None = Field(default=None, min_length=2, description="a list of raw numbers, one a position")
    hysteresis: float = Field(default=0.1, ge=0.0, le=0.4, description="a share of the way between positions, to 0.4")


class GestureTable(SwitchTable):
    """Sticks that are held somewhere for a time."""

    kind: Literal["gesture"] = Field(description="a kind of switch")
    sticks: dict[Name, Literal["low", "high"]] = Field(
        min_length=1, description='controls and where they are held, such as { climb = "low", turn = "high" }'
    )
    time: Time = Field(default=1.0, description='a time, such as "1 s"')


AnySwitch = Annotated[
    ContactTable | TimedTable | CycleTable | PositionsTable | GestureTable, Field(discriminator="kind")
]


class ChoiceTable(Table):
    """``[choose.rates]``: which set of rates holds."""

    switch: Name = Field(description=_PRESSED)
    order: list[Name] = Field(min_length=2, description="a list of names, one a position of the switch")


class ModeChoiceTable(ChoiceTable):
    """``[choose.mode]``: which mode holds."""

    back: Name | None = Field(default=None, description=_PRESSED)
    through_rest: bool = Field(default=True, description="true or false")


class SteeringChoiceTable(Table):
    """``[choose.steering]``: how a four-wheel-steered robot steers."""

    switch: Name = Field(description=_PRESSED)
    order: list[Literal["front", "rear", "counter", "crab"]] = Field(
        min_length=2, description='a list of "front", "rear", "counter" and "crab", one a position of the switch'
    )


class ChooseTable(Table):
    """``[choose]``: what switches choose."""

    mode: ModeChoiceTable | None = Field(default=None, description="a table [choose.mode]")
    rates: ChoiceTable | None = Field(default=None, description="a table [choose.rates]")
    steering: SteeringChoiceTable | None = Field(default=None, description="a table [choose.steering]")


class LevelsTable(Table):
    """``[levels]``: shares of all speeds, gone through in steps."""

    steps: list[float] = Field(min_length=2, description="a list of shares above 0, rising, up to 1")
    begin: float | None = Field(default=None, description="one of the steps")
    faster: Name = Field(description=_PRESSED)
    slower: Name = Field(description=_PRESSED)


class RearShareTable(Table):
    """``[rear_share]``: how much of the stick's angle the rear wheels take, gone through in steps."""

    steps: list[float] = Field(min_length=2, description="a list of shares from 0 to 1, rising")
    begin: float | None = Field(default=None, description="one of the steps")
    more: Name = Field(description=_PRESSED)
    less: Name = Field(description=_PRESSED)


class OutputTable(Table):
    """What all kinds of output have in common."""

    when_stopped: Literal["idle", "keep"] = Field(default="idle", description='"idle" or "keep"')


_LEVEL = "a number from -1 to 1"


class PairOutput(OutputTable):
    """``[outputs.NAME]``: up while one switch is pressed, down while the other is."""

    kind: Literal["pair"] = Field(description="a kind of output")
    up: Name = Field(description=_PRESSED)
    down: Name = Field(description=_PRESSED)
    up_level: float = Field(default=1.0, ge=-1.0, le=1.0, description=_LEVEL)
    down_level: float = Field(default=-1.0, ge=-1.0, le=1.0, description=_LEVEL)
    idle: float = Field(default=0.0, ge=-1.0, le=1.0, description=_LEVEL)


class LevelsOutput(OutputTable):
    """A level for each position of a switch: a winch, a gripper, a lamp."""

    kind: Literal["levels"] = Field(description="a kind of output")
    switch: Name = Field(description=_PRESSED)
    levels: list[Annotated[float, Field(ge=-1.0, le=1.0)]] = Field(
        min_length=2, description="a list of numbers from -1 to 1, one a position of the switch"
    )
    idle: float = Field(default=0.0, ge=-1.0, le=1.0, description=_LEVEL)


class ContactOutput(OutputTable):
    """On or off as a control is pushed one way, for what knows only contacts."""

    kind: Literal["contact"] = Field(description="a kind of output")
    control: Name = Field(description="the name of a control under [controls]")
    side: Literal["positive", "negative"] = Field(default="positive", description='"positive" or "negative"')
    on_above: float = Field(default=0.5, gt=0.0, le=1.0, description="a share above 0, up to 1")
    off_below: float = Field(default=0.4, gt=0.0, le=1.0, description="a share above 0, up to 1")


AnyOutput = Annotated[PairOutput | LevelsOutput | ContactOutput, Field(discriminator="kind")]


class ActionTable(Table):
    """``[actions.NAME]``: something that is done once a press."""

    press: Name = Field(description=_PRESSED)
    when: Literal["driving", "any time"] = Field(default="driving", description='"driving" or "any time"')


class ModeTable(Table):
    """``[modes.NAME]``: what is different in a mode. Speeds, limits and outputs given here change only those keys."""

    fallback: bool = Field(default=False, description="true or false")
    may_start: bool = Field(default=True, description="true or false")
    style: AnyStyle | None = Field(default=None, description="a table like [style], whole")
    speeds: SpeedsTable | None = Field(default=None, description="a table like [speeds]")
    limits: LimitsTable | None = Field(default=None, description="a table like [limits]")
    rates: Name | None = Field(default=None, description="the name of a set of rates under [rates]")
    outputs: dict[Name, AnyOutput] = Field(default={}, description="tables like [outputs.NAME]")
    without: list[Name] = Field(default=[], description="a list of names under [outputs] that rest in this mode")
