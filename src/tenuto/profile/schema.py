"""The tables and keys of a profile. The description of each key is what an error says was expected."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Annotated, Literal, get_args

from pydantic import BaseModel, ConfigDict, Field

from tenuto.calibration.store import Calibration, ControlCalibration
from tenuto.core.chassis import Differential
from tenuto.core.demand import Speeds
from tenuto.core.guard import GuardSettings
from tenuto.core.layouts import ControlInfo, control_info
from tenuto.core.limits import Limits
from tenuto.core.mixing import Arcade
from tenuto.core.pipeline import ControlPlan, Opposite, Plan
from tenuto.core.travel import Travel
from tenuto.profile.quantities import (
    Acceleration,
    Frequency,
    Length,
    Speed,
    Time,
    TurnAcceleration,
    TurnSpeed,
)

# Where the device's own range is not known: a number this far beyond the measured ends, as a share of the
# whole travel, did not come from this stick.
BEYOND_ENDS = 0.25

Name = Annotated[str, Field(min_length=1)]


class Table(BaseModel):
    """What all tables of a profile have in common: unknown keys are errors, and nothing is guessed."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True, allow_inf_nan=False)


SourceKind = Literal["gamepad", "sbus", "crsf", "ibus", "ppm", "pwm", "lines", "tilt", "keyboard"]


class SourceTable(Table):
    """``[source]``: where the sticks are read."""

    kind: SourceKind = Field(description="a kind of source: " + ", ".join(get_args(SourceKind)))
    device: Name | None = Field(default=None, description="the identity of a gamepad, from tenuto devices")
    port: Name | None = Field(default=None, description="a serial port, such as /dev/ttyAMA0")
    baud: int | None = Field(default=None, gt=0, description="a whole number of baud, such as 115200")
    columns: list[Name] | None = Field(default=None, description="a list of names, one a column")
    file: Name | None = Field(default=None, description="a file of edge times")


class ControlTable(Table):
    """``[controls.NAME]``: one control, under a name of the builder's own."""

    reads: Name = Field(description='what the device calls the control, such as "left_y"')
    minus: Name | None = Field(
        default=None, description="the control that goes the other way, where two triggers or buttons make one axis"
    )
    low: float | None = Field(default=None, description="the lowest raw number that the control reaches")
    centre: float | Literal["at start"] | None = Field(
        default=None, description='the raw number at which the control rests in its middle, or "at start"'
    )
    rests: Literal["middle", "end"] | None = Field(default=None, description='"middle" or "end" (its lowest number)')
    high: float | None = Field(default=None, description="the highest raw number that the control reaches")
    reverse: bool = Field(default=False, description="true or false")
    dead_zone: float = Field(default=0.0, ge=0.0, le=0.9, description="a share of the travel from 0 to 0.9")
    expo: float = Field(default=0.0, ge=0.0, le=1.0, description="a number from 0 (straight) to 1 (all cubic)")

    def travel(self, info: ControlInfo) -> Travel:
        """Give the measured travel, with what is usual for the device where nothing was measured.

        Raises:
            ValueError: when low, centre and high are not in rising order, or one is not known.
        """
        low, high = info.travel or (math.nan, math.nan)
        low, high = (end if own is None else own for own, end in ((self.low, low), (self.high, high)))
        return Travel(low, self._centre(info, low, high), high, reverse=self.reverse != info.counts_down)

    def _centre(self, info: ControlInfo, low: float, high: float) -> float | None:
        """Give the raw number in its middle, or None where it rests at its end."""
        if self.rests == "end":
            return None
        if isinstance(self.centre, (int, float)):
            return self.centre
        if info.travel is not None and info.kind == "stick" and self.centre is None:
            return info.rest
        return (low + high) / 2.0 if self.centre == "at start" or self.rests == "middle" else None

    def measured(self, control: ControlCalibration) -> ControlTable:
        """Give the same with what was measured in the place of what is not said."""
        found: dict[str, object] = {}
        if self.low is None and self.high is None:
            found = {"low": control.low, "high": control.high}
            if self.centre is None:
                found["centre"] = control.centre
        if self.rests is None and self.centre is None and control.kind in ("middle", "end"):
            found["rests"] = control.kind
        if "dead_zone" not in self.model_fields_set and control.kind == "middle":
            found["dead_zone"] = control.dead_zone
        return self.model_copy(update=found)

    def believable(self, info: ControlInfo) -> tuple[float, float]:
        """Give the range of raw numbers that are no fault: the device's, or the travel's with a margin."""
        travel = self.travel(info)
        margin = BEYOND_ENDS * (travel.high - travel.low)
        lowest = info.low if math.isfinite(info.low) else travel.low - margin
        return lowest, info.high if math.isfinite(info.high) else travel.high + margin


class StyleTable(Table):
    """``[style]``: what the controls mean for this robot."""

    kind: Literal["arcade"] = Field(description='a style: "arcade"')
    forward: Name = Field(description="the name of the control under [controls] that drives")
    turn: Name = Field(description="the name of the control under [controls] that turns")
    sticks: Literal[1, 2] = Field(default=2, description="1 when both are the axes of a single stick, otherwise 2")


class SpeedsTable(Table):
    """``[speeds]``: how fast the robot goes at the ends of the sticks."""

    forward: Speed = Field(description='a speed, such as "1.2 m/s"')
    backward: Speed | None = Field(default=None, description='a speed, such as "0.5 m/s"')
    turn: TurnSpeed = Field(description='a turning speed, such as "90 deg/s"')


class LimitsTable(Table):
    """``[limits]``: how fast the command may change while somebody drives."""

    acceleration: Acceleration = Field(description='an acceleration, such as "0.8 m/s^2"')
    turn_acceleration: TurnAcceleration = Field(
        default=math.pi, description='a turning acceleration, such as "180 deg/s^2"'
    )


class GuardTable(Table):
    """``[guard]``: what must be true for the robot to move."""

    hold_to_run: Name = Field(description="a control that must be held to drive, such as left_shoulder")
    stop: Name | None = Field(default=None, description="a control that stops everything while it is on, such as east")
    link_timeout: Time = Field(description='the longest silence to drive through, such as "300 ms"')
    stop_deceleration: Acceleration | None = Field(default=None, description='an acceleration, such as "1.5 m/s^2"')
    stop_turn_deceleration: TurnAcceleration | None = Field(
        default=None, description='a turning acceleration, such as "360 deg/s^2"'
    )


class ChassisTable(Table):
    """``[chassis]``: the vehicle and its measures."""

    kind: Literal["differential"] = Field(description='a kind of vehicle: "differential"')
    track: Length = Field(description='the distance between the middles of the tyres, such as "0.62 m"')
    wheel_radius: Length = Field(description='a length, such as "0.11 m"')
    max_wheel_speed: TurnSpeed | None = Field(default=None, description='a turning speed, such as "120 rev/min"')


class LoopTable(Table):
    """``[loop]``: how often a tick is made."""

    rate: Frequency = Field(default=50.0, le=1000.0, description='a frequency up to 1 kHz, such as "50 Hz"')
    stall_timeout: Time = Field(default=0.2, description='a time, such as "200 ms"')


class Profile(Table):
    """How one robot is driven. Load one with `tenuto.load_profile`; all quantities are in SI."""

    format: Literal[1] = Field(description="the number 1, the format this version reads")
    name: Name = Field(description="a name for the robot")
    source: SourceTable = Field(description="a table [source]")
    controls: dict[str, ControlTable] = Field(description="tables [controls.NAME]")
    style: StyleTable = Field(description="a table [style]")
    speeds: SpeedsTable = Field(description="a table [speeds]")
    limits: LimitsTable = Field(description="a table [limits]")
    guard: GuardTable = Field(description="a table [guard]")
    chassis: ChassisTable = Field(description="a table [chassis]")
    loop: LoopTable = Field(default=LoopTable(), description="a table [loop]")

    def calibrated(self, calibration: Calibration) -> CalibratedProfile:
        """Give the profile together with a measurement of its device."""
        return CalibratedProfile(self, calibration)

    def plan(self, calibration: Calibration | None = None) -> Plan:
        """Turn the profile into what the stages of a pipeline need to know.

        Args:
            calibration: what was measured of the device; what the profile says itself goes before it.
        """
        hold = self.guard.hold_to_run
        tables = dict(self.controls)
        # Hold-to-run and stop may be controls of [controls], or be named as the device names it.
        for name in (hold, self.guard.stop):
            if name is not None:
                tables.setdefault(name, ControlTable(reads=name))
        stop = self.guard.stop_deceleration or self.limits.acceleration
        stop_turn = self.guard.stop_turn_deceleration or self.limits.turn_acceleration
        return Plan(
            controls=tuple(self._control(name, table, calibration) for name, table in tables.items()),
            style=Arcade(self.style.forward, self.style.turn, self.style.sticks),
            speeds=Speeds(self.speeds.forward, self.speeds.backward or self.speeds.forward, self.speeds.turn),
            limits=Limits(self.limits.acceleration, self.limits.turn_acceleration),
            guard=GuardSettings(hold, self.guard.link_timeout, stop, stop_turn, self.guard.stop),
            chassis=Differential(
                self.chassis.track, self.chassis.wheel_radius, self.chassis.max_wheel_speed or math.inf
            ),
            period=1.0 / self.loop.rate,
            stall_timeout=self.loop.stall_timeout,
        )

    def _control(self, name: str, table: ControlTable, calibration: Calibration | None) -> ControlPlan:
        info, measured = self._known(table.reads, calibration)
        if measured is not None:
            table = table.measured(measured)
        minus = None
        if table.minus is not None:
            other, measured_other = self._known(table.minus, calibration)
            opposite = ControlTable(reads=table.minus)
            if measured_other is not None:
                opposite = opposite.measured(measured_other)
            minus = Opposite(table.minus, opposite.travel(other), opposite.believable(other))
        return ControlPlan(
            name,
            table.reads,
            table.travel(info),
            table.believable(info),
            table.dead_zone,
            table.expo,
            rest_band=measured.dead_zone if measured is not None else None,
            centre_at_start=table.centre == "at start",
            minus=minus,
        )

    def _known(self, reads: str, calibration: Calibration | None) -> tuple[ControlInfo, ControlCalibration | None]:
        """Give what is known of a control of the device, and what was measured of it."""
        info = control_info(self.source.kind, reads)
        if info is None:
            raise ValueError(f"a {self.source.kind} has no control {reads}")
        return info, calibration.controls.get(reads) if calibration is not None else None


@dataclass(frozen=True, slots=True)
class CalibratedProfile:
    """A profile together with a measurement of its device; a pipeline takes it as it takes a profile."""

    profile: Profile
    calibration: Calibration

    def plan(self) -> Plan:
        """Give the plan, with the measured travels."""
        return self.profile.plan(self.calibration)
