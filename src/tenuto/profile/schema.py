"""The tables and keys of a profile. The description of a key is also the expectation in its error."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Literal

from pydantic import Field, model_validator

from tenuto.kinds.table import Name, Table
from tenuto.kinds.tables import any_of
from tenuto.profile.actuators import ActuatorTable
from tenuto.profile.choices import (
    ActionTable,
    AnyOutput,
    AnyStyle,
    AnySwitch,
    ChooseTable,
    LevelsTable,
    ModeTable,
    RearShareTable,
)
from tenuto.profile.controls import ControlTable, RatesTable, StickTable, TrimTable
from tenuto.profile.direct import with_direct_controls
from tenuto.profile.drivers import (
    AnySource,
    DistanceTable,
    DriverTable,
    FeedbackTable,
    InhibitTable,
    InputTable,
    MeasuredTable,
    filled_drivers,
)
from tenuto.profile.needs import NeedsTable
from tenuto.profile.quantities import Acceleration, Frequency, Speed, Time, TurnAcceleration
from tenuto.profile.shares import with_shares_settled
from tenuto.profile.speeds import LimitsTable, SpeedsTable
from tenuto.sinks.base import SINKS, SinkOptions
from tenuto.vehicles.base import VEHICLES, VehicleOptions

if TYPE_CHECKING:
    AnyVehicle = VehicleOptions
    AnySink = SinkOptions
else:
    AnyVehicle = any_of(VEHICLES)
    AnySink = any_of(SINKS)


class GuardTable(Table):
    """``[guard]``: what must be true for the robot to move."""

    hold_to_run: Name | None = Field(
        default=None, description="a control that must be held to drive, such as left_shoulder"
    )
    hold_to_run_2: Name | None = Field(default=None, description="a second control that must be held with hold_to_run")
    pressed_through: float | None = Field(
        default=None, gt=0.5, le=1.0, description="a share of the travel of hold_to_run, above 0.5, up to 1"
    )
    enable: Name | None = Field(default=None, description="a switch, or a control that is pressed, to enable")
    emergency_stop: Name | None = Field(default=None, description="a control that is the emergency stop while it is on")
    emergency_stop_2: Name | None = Field(default=None, description="a second control that is the emergency stop too")
    discrepancy_time: Time = Field(default=0.2, description='a time, such as "200 ms"')
    reset: Name | None = Field(default=None, description="a switch, or a control that is pressed")
    released_category: Literal[0, 1, 2] = Field(default=2, description="a stop category: 0, 1 or 2")
    fault_category: Literal[0, 1, 2] = Field(default=2, description="a stop category: 0, 1 or 2")
    emergency_category: Literal[0, 1] = Field(default=0, description="a stop category: 0 or 1")
    attention: Time | None = Field(default=None, description='a time, such as "60 s"')
    test_at_start: list[Literal["emergency stop", "link"]] = Field(
        default=[], description='a list of "emergency stop" and "link"'
    )
    start_warning: Time | None = Field(default=None, description='a time, such as "2 s"')
    link_good_for: Time | None = Field(default=None, description='a time, such as "500 ms"')
    least_quality: float = Field(default=0.0, ge=0.0, le=100.0, description="a number of % from 0 to 100")
    on_link_loss: Literal["stop", "descend", "silent"] = Field(
        default="stop", description='"stop", "descend" or "silent"'
    )
    descend_speed: Speed | None = Field(default=None, description='a speed, such as "0.3 m/s"')
    descend_for: Time | None = Field(default=None, description='a time, such as "20 s"')
    frozen_after: Time = Field(default=2.0, description='a time, such as "2 s"')
    command_timeout: Time | None = Field(default=None, description='a time, such as "200 ms"')
    stop: Name | None = Field(default=None, description="a control that stops everything while it is on, such as east")
    grace: Time | None = Field(default=None, description='a time, such as "200 ms"')
    takes_over: Name | None = Field(default=None, description="a control that takes the robot back while it is held")
    least_frame_rate: Frequency | None = Field(default=None, description='a frequency, such as "20 Hz"')
    on_log_failure: Literal["stop", "go on"] = Field(default="stop", description='"stop" or "go on"')
    needs: NeedsTable = Field(default=NeedsTable(), description="a table [guard.needs]")
    link_timeout: Time = Field(description='the longest silence to drive through, such as "300 ms"')
    stop_deceleration: Acceleration | None = Field(default=None, description='an acceleration, such as "1.5 m/s^2"')
    stop_vertical_deceleration: Acceleration | None = Field(
        default=None, description='an acceleration, such as "1 m/s^2"'
    )
    stop_turn_deceleration: TurnAcceleration | None = Field(
        default=None, description='a turning acceleration, such as "360 deg/s^2"'
    )


class LoopTable(Table):
    """``[loop]``: the rate of the ticks."""

    rate: Frequency = Field(default=50.0, le=1000.0, description='a frequency up to 1 kHz, such as "50 Hz"')
    stall_timeout: Time = Field(default=0.2, description='a time, such as "200 ms"')


class Tables(Table):
    """All tables of a profile; all quantities are in SI."""

    format: Literal[1] = Field(description="the number 1, the format this version reads")
    name: Name = Field(description="a name for the robot")
    source: AnySource = Field(description="a table [source]")
    controls: dict[str, ControlTable] = Field(default={}, description="tables [controls.NAME]")
    sticks: dict[str, StickTable] = Field(default={}, description="tables [sticks.NAME]")
    trims: dict[str, TrimTable] = Field(default={}, description="tables [trims.NAME]")
    rates: dict[str, RatesTable] = Field(default={}, description="tables [rates.NAME]")
    switches: dict[str, AnySwitch] = Field(default={}, description="tables [switches.NAME]")
    style: AnyStyle = Field(description="a table [style]")
    speeds: SpeedsTable = Field(description="a table [speeds]")
    limits: LimitsTable = Field(description="a table [limits]")
    guard: GuardTable = Field(description="a table [guard]")
    modes: dict[str, ModeTable] = Field(default={}, description="tables [modes.NAME]")
    choose: ChooseTable = Field(default=ChooseTable(), description="a table [choose]")
    levels: LevelsTable | None = Field(default=None, description="a table [levels]")
    rear_share: RearShareTable | None = Field(default=None, description="a table [rear_share]")
    outputs: dict[str, AnyOutput] = Field(default={}, description="tables [outputs.NAME]")
    actions: dict[str, ActionTable] = Field(default={}, description="tables [actions.NAME]")
    chassis: AnyVehicle = Field(description="a table [chassis]")
    actuators: dict[str, ActuatorTable] = Field(default={}, description="tables [actuators.NAME]")
    loop: LoopTable = Field(default=LoopTable(), description="a table [loop]")
    sinks: dict[str, AnySink] = Field(default={}, description="tables [sinks.NAME]")
    drivers: dict[str, DriverTable] = Field(default={}, description="tables [drivers.NAME]")
    distances: dict[str, DistanceTable] = Field(default={}, description="tables [distances.NAME]")
    inhibits: dict[str, InhibitTable] = Field(default={}, description="tables [inhibits.NAME]")
    measured: dict[str, MeasuredTable] = Field(default={}, description="tables [measured.NAME]")
    feedback: FeedbackTable = Field(default=FeedbackTable(), description="a table [feedback]")

    @property
    def inputs(self) -> dict[str, InputTable]:
        """All inputs except drivers, by name."""
        return {**self.distances, **self.inhibits, **self.measured}

    @model_validator(mode="before")
    @classmethod
    def _fill_modes(cls, tables: Any) -> Any:
        """Convert shares, and merge the profile's keys into modes and drivers: each is checked as a whole."""
        if isinstance(tables, dict):
            tables = with_direct_controls(with_shares_settled(tables))
        if isinstance(tables, dict) and isinstance(tables.get("drivers"), dict):
            tables = filled_drivers(tables)
        if not isinstance(tables, dict) or not isinstance(tables.get("modes"), dict):
            return tables
        modes = {name: _filled(mode, tables) for name, mode in tables["modes"].items()}
        return {**tables, "modes": modes}


def _filled(mode: Any, tables: dict[str, Any]) -> Any:
    if not isinstance(mode, dict):
        return mode
    filled = dict(mode)
    for key in ("speeds", "limits"):  # a style is not merged
        own, base = mode.get(key), tables.get(key)
        if isinstance(own, dict) and isinstance(base, dict):
            filled[key] = {**base, **own}
    outputs, base = mode.get("outputs"), tables.get("outputs")
    if isinstance(outputs, dict) and isinstance(base, dict):
        filled["outputs"] = {
            name: {**base[name], **own} if isinstance(own, dict) and isinstance(base.get(name), dict) else own
            for name, own in outputs.items()
        }
    return filled
