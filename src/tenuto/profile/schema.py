"""The tables and keys of a profile. The description of each key is what an error says was expected."""

from __future__ import annotations

import math
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from tenuto.core.calibration import Travel
from tenuto.core.chassis import Differential
from tenuto.core.demand import Speeds
from tenuto.core.guard import GuardSettings
from tenuto.core.layouts import gamepad_control
from tenuto.core.limits import Limits
from tenuto.core.mixing import Arcade
from tenuto.core.pipeline import ControlPlan, Plan
from tenuto.profile.quantities import (
    Acceleration,
    Frequency,
    Length,
    Speed,
    Time,
    TurnAcceleration,
    TurnSpeed,
)

Name = Annotated[str, Field(min_length=1)]


class Table(BaseModel):
    """What all tables of a profile have in common: unknown keys are errors, and nothing is guessed."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True, allow_inf_nan=False)


class SourceTable(Table):
    """``[source]``: where the sticks are read."""

    kind: Literal["gamepad"] = Field(description='a kind of source: "gamepad"')


class ControlTable(Table):
    """``[controls.NAME]``: one control, under a name of the builder's own."""

    reads: Name = Field(description='what the device calls the control, such as "left_y"')
    low: float | None = Field(default=None, description="the lowest raw number that the control reaches")
    centre: float | None = Field(
        default=None, description="the raw number at which the control rests in its middle"
    )
    high: float | None = Field(default=None, description="the highest raw number that the control reaches")
    reverse: bool = Field(default=False, description="true or false")
    dead_zone: float = Field(default=0.0, ge=0.0, le=0.9, description="a share of the travel from 0 to 0.9")
    expo: float = Field(
        default=0.0, ge=0.0, le=1.0, description="a number from 0 (straight) to 1 (all cubic)"
    )

    def travel(self) -> Travel:
        """Give the measured travel, with the device's whole range where nothing was measured.

        Raises:
            ValueError: when low, centre and high are not in rising order.
        """
        info = gamepad_control(self.reads)
        if info is None:
            raise ValueError(f"no control is called {self.reads}")
        rests_in_the_middle = info.low < info.rest < info.high
        centre = info.rest if self.centre is None and rests_in_the_middle else self.centre
        low = info.low if self.low is None else self.low
        high = info.high if self.high is None else self.high
        return Travel(low, centre, high, reverse=self.reverse != info.counts_down)


class StyleTable(Table):
    """``[style]``: what the controls mean for this robot."""

    kind: Literal["arcade"] = Field(description='a style: "arcade"')
    forward: Name = Field(description="the name of the control under [controls] that drives")
    turn: Name = Field(description="the name of the control under [controls] that turns")
    sticks: Literal[1, 2] = Field(
        default=2, description="1 when both are the axes of a single stick, otherwise 2"
    )


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
    link_timeout: Time = Field(description='the longest silence to drive through, such as "300 ms"')
    stop_deceleration: Acceleration | None = Field(
        default=None, description='an acceleration, such as "1.5 m/s^2"'
    )
    stop_turn_deceleration: TurnAcceleration | None = Field(
        default=None, description='a turning acceleration, such as "360 deg/s^2"'
    )


class ChassisTable(Table):
    """``[chassis]``: the vehicle and its measures."""

    kind: Literal["differential"] = Field(description='a kind of vehicle: "differential"')
    track: Length = Field(description='the distance between the middles of the tyres, such as "0.62 m"')
    wheel_radius: Length = Field(description='a length, such as "0.11 m"')
    max_wheel_speed: TurnSpeed | None = Field(
        default=None, description='a turning speed, such as "120 rev/min"'
    )


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

    def plan(self) -> Plan:
        """Turn the profile into what the stages of a pipeline need to know."""
        hold = self.guard.hold_to_run
        tables = dict(self.controls)
        # Hold-to-run may be a control of [controls], or be named as the device names it.
        tables.setdefault(hold, ControlTable(reads=hold))
        stop = self.guard.stop_deceleration or self.limits.acceleration
        stop_turn = self.guard.stop_turn_deceleration or self.limits.turn_acceleration
        return Plan(
            controls=tuple(
                ControlPlan(name, table.reads, table.travel(), table.dead_zone, table.expo)
                for name, table in tables.items()
            ),
            style=Arcade(self.style.forward, self.style.turn, self.style.sticks),
            speeds=Speeds(self.speeds.forward, self.speeds.backward or self.speeds.forward, self.speeds.turn),
            limits=Limits(self.limits.acceleration, self.limits.turn_acceleration),
            guard=GuardSettings(hold, self.guard.link_timeout, stop, stop_turn),
            chassis=Differential(
                self.chassis.track, self.chassis.wheel_radius, self.chassis.max_wheel_speed or math.inf
            ),
            period=1.0 / self.loop.rate,
            stall_timeout=self.loop.stall_timeout,
        )
