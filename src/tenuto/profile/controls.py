"""The tables of a profile for reading and shaping controls."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import TYPE_CHECKING, Annotated, Any, Literal

from pydantic import BeforeValidator, Field, create_model
from pydantic_core import PydanticCustomError

from tenuto.basics.layouts import ControlInfo
from tenuto.calibration.store import ControlCalibration
from tenuto.curves.base import CURVES, Curve, Shape
from tenuto.kinds.table import Name, Table
from tenuto.profile.quantities import Time
from tenuto.sticks.travel import Travel

# The bits of the converters that measure voltages. A wire that is broken reads one of their ends.
_BITS = (8, 10, 12, 14, 16)
# An end of the travel touches an end of the converter if it is nearer than the first share of its range. Otherwise a
# number nearer than the second share is that of a broken wire.
_TOUCHES, _BROKEN = 0.01, 0.005


def converter_of(low: float, high: float) -> float | None:
    """Return the largest number of the converter that has measured these ends; None if they are of no converter."""
    if not (low >= 0.0 and high > 31.0 and low.is_integer() and high.is_integer()):
        return None
    return next((float(2**bits - 1) for bits in _BITS if 2**bits > high), None)


def touches(low: float, high: float) -> tuple[float, ...]:
    """Return the ends of the converter that the travel touches: there a broken wire looks like a stick at its end."""
    full = converter_of(low, high)
    if full is None:
        return ()
    return (0.0,) * (low < _TOUCHES * full) + (full,) * (high > (1.0 - _TOUCHES) * full)


class ControlTable(Table):
    """``[controls.NAME]``: one control, with a name of your own."""

    reads: Name = Field(description='the name of the control at the device, such as "left_y"')
    minus: Name | None = Field(
        default=None, description="the control of the opposite direction, if two triggers or buttons form one axis"
    )
    low: float | None = Field(default=None, description="the lowest raw number that the control reaches")
    centre: float | Literal["at start"] | None = Field(
        default=None, description='the raw number at which the control rests in its middle, or "at start"'
    )
    rests: Literal["middle", "end"] | None = Field(default=None, description='"middle" or "end" (its lowest number)')
    high: float | None = Field(default=None, description="the highest raw number that the control reaches")
    reverse: bool = Field(default=False, description="true or false")
    push_button: bool | None = Field(default=None, description="true (it springs back) or false (it stays)")
    dead_zone: float = Field(default=0.0, ge=0.0, le=0.9, description="a share of the travel from 0 to 0.9")
    outer_dead_zone: float = Field(default=0.0, ge=0.0, le=0.5, description="a share of the travel from 0 to 0.5")
    hysteresis: float = Field(default=0.0, ge=0.0, le=0.5, description="a share of the travel from 0 to 0.5")
    curve_free: bool = Field(default=False, description="true or false")
    scale: float = Field(default=1.0, gt=0.0, le=1.0, description="a share above 0, up to 1")
    margin: float = Field(default=0.1, ge=0.0, le=0.5, description="a share of the travel from 0 to 0.5")
    pull: Literal["up", "down"] | None = Field(default=None, description='"up" or "down"')
    spike_filter: bool = Field(default=False, description="true or false")
    smoothing: Time | None = Field(default=None, description='a time, such as "60 ms"')
    ramp_up: Time | None = Field(default=None, description='the time from rest to the end, such as "400 ms"')
    ramp_down: Time | None = Field(default=None, description='the time from the end to rest, such as "200 ms"')

    def springs_back(self, info: ControlInfo) -> bool:
        """Return whether it is a push-button. A column or a channel is a switch that stays, until the profile says."""
        return info.kind == "button" if self.push_button is None else self.push_button

    def travel(self, info: ControlInfo) -> Travel:
        """Return the measured travel, or the usual one of the device if it was not measured.

        Raises:
            ValueError: low, centre and high do not increase, or one is not known.
        """
        low, high = info.travel or (math.nan, math.nan)
        low, high = (end if own is None else own for own, end in ((self.low, low), (self.high, high)))
        return Travel(low, self._centre(info, low, high), high, reverse=self.reverse != info.counts_down)

    def _centre(self, info: ControlInfo, low: float, high: float) -> float | None:
        """Return the raw number in its middle, or None if it rests at its end."""
        if self.rests == "end":
            return None
        if isinstance(self.centre, (int, float)):
            return self.centre
        if info.travel is not None and info.kind == "stick" and self.centre is None:
            return info.rest
        return (low + high) / 2.0 if self.centre == "at start" or self.rests == "middle" else None

    def measured(self, control: ControlCalibration) -> ControlTable:
        """Return the same with measured values for missing keys."""
        found: dict[str, Any] = {}
        if self.low is None and self.high is None:
            found = {"low": control.low, "high": control.high}
            if self.centre is None:
                found["centre"] = control.centre
        if self.rests is None and self.centre is None and control.kind in ("middle", "end"):
            found["rests"] = control.kind
        elif self.rests == "middle" and self.centre is None and control.kind == "end":
            # A lever without a spring was down while it was measured: the profile says that its middle is zero.
            low, high = found.get("low", self.low), found.get("high", self.high)
            if low is not None and high is not None:
                found["centre"] = (low + high) / 2.0
        if "dead_zone" not in self.model_fields_set and control.kind == "middle":
            found["dead_zone"] = control.dead_zone
        return self.model_copy(update=found)

    def loses_a_direction(self, info: ControlInfo, control: ControlCalibration) -> bool:
        """Return whether a measurement would make a control with two directions one with a single direction."""
        two = self.rests is None and self.centre is None and info.travel is not None and info.kind == "stick"
        return two and self.minus is None and control.kind == "end"

    def believable(self, info: ControlInfo) -> tuple[float, float]:
        """Return the range of valid raw numbers: the device's, or the travel's with a margin.

        A converter's own ends are outside, unless the travel touches them: they are what a broken wire reads.
        """
        if math.isfinite(info.low) and math.isfinite(info.high):
            return info.low, info.high
        travel = self.travel(info)
        low, high = travel.low, travel.high
        margin, full, touched = self.margin * (high - low), converter_of(low, high), touches(low, high)
        lowest, highest = low - margin, high + margin
        if full is not None and 0.0 not in touched:
            lowest = max(lowest, _BROKEN * full)
        if full is not None and full not in touched:
            highest = min(highest, (1.0 - _BROKEN) * full)
        return lowest if math.isinf(info.low) else info.low, highest if math.isinf(info.high) else info.high

    def shape(self, *, one_way: bool = False, rates: RatesTable | None = None) -> Shape:
        """Return the shape after the dead zone.

        Args:
            one_way: the control rests at its end.
            rates: the chosen set of rates.

        Raises:
            ValueError: a point of the curve is invalid; the message names it.
        """
        scale, said = self.scale, curves_said(self)
        if rates is not None:
            scale *= rates.scale
            said = curves_said(rates) or said
        low = 0.0 if one_way else -1.0
        made = [CURVES.all[key].made(value, free=self.curve_free, low=low) for key, value in said.items()]
        return Shape(made[0] if made else None, scale)


class StickTable(Table):
    """``[sticks.NAME]``: two controls that are the axes of one stick."""

    x: Name = Field(description="the name of the control under [controls] that goes sideways")
    y: Name = Field(description="the name of the control under [controls] that goes up and down")
    zone: Literal["axes", "round", "square", "straight"] = Field(
        default="axes", description='"axes" (each by itself), "round", "square" or "straight"'
    )
    dead_zone: float = Field(default=0.0, ge=0.0, le=0.9, description="a share of the travel from 0 to 0.9")
    outer_dead_zone: float = Field(default=0.0, ge=0.0, le=0.5, description="a share of the travel from 0 to 0.5")
    hysteresis: float = Field(default=0.0, ge=0.0, le=0.5, description="a share of the travel from 0 to 0.5")
    growth: float = Field(default=0.15, ge=0.0, le=0.5, description="a share of the travel from 0 to 0.5")
    travel: Literal["", "round to square", "square to round"] = Field(
        default="", description='"round to square" or "square to round"'
    )


class RatesTable(Table):
    """``[rates.NAME]``: a set of rates."""

    scale: float = Field(default=1.0, gt=0.0, le=1.0, description="a share above 0, up to 1")
    controls: list[Name] | None = Field(default=None, description="a list of names under [controls]")


class TrimTable(Table):
    """``[trims.NAME]``: the trim of the control of that name."""

    begin: float = Field(default=0.0, ge=-1.0, le=1.0, description="a share of the travel from -1 to 1")
    step: float = Field(default=0.01, gt=0.0, le=0.5, description="a share of the travel above 0, up to 0.5")
    most: float = Field(default=0.2, gt=0.0, le=1.0, description="a share of the travel above 0, up to 1")
    up: Name | None = Field(default=None, description="a switch or control that is pressed")
    down: Name | None = Field(default=None, description="a switch or control that is pressed")
    knob: Name | None = Field(default=None, description="a control that is turned")
    keep: bool = Field(default=False, description="true or false")


def curves_said(table: ControlTable | RatesTable) -> dict[str, Any]:
    """Return kind → value of the curves of a table."""
    return {key: value for key in CURVES.all if (value := getattr(table, key)) is not None}


def _reader(curve: type[Curve]) -> Callable[[object], Any]:
    def read(value: object) -> Any:
        try:
            return None if value is None else curve.checked(value)
        except ValueError as error:
            raise PydanticCustomError("quantity", "{hint}", {"hint": str(error)}) from None

    return read


def _with_curves(table: type[Table]) -> Any:
    """Add a key for every kind of curve to a table."""
    keys: dict[str, Any] = {
        name: (Annotated[Any, BeforeValidator(_reader(curve))], Field(default=None, description=curve.what))
        for name, curve in CURVES.all.items()
    }
    return create_model(table.__name__, __base__=table, __doc__=table.__doc__, **keys)


if not TYPE_CHECKING:
    ControlTable, RatesTable = _with_curves(ControlTable), _with_curves(RatesTable)
