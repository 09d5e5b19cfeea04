"""From the tables of a profile to the plan of a pipeline."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from typing import Any

from tenuto.basics.errors import CalibrationError
from tenuto.basics.layouts import ControlInfo
from tenuto.calibration.store import Calibration, ControlCalibration
from tenuto.driving.actions import ActionPlan
from tenuto.driving.distance import DistancePlan
from tenuto.driving.guard import GuardSettings
from tenuto.driving.inhibits import InhibitPlan
from tenuto.driving.measured import MeasuredPlan
from tenuto.driving.modes import ChoicePlan, LevelPlan, ModePlan, TrimPlan
from tenuto.driving.plan import DriverPlan, Plan
from tenuto.driving.selection import NOTHING_TO_CHOOSE, SelectionPlan
from tenuto.kinds.options import Role, named
from tenuto.profile.choices import ModeTable
from tenuto.profile.controls import ControlTable
from tenuto.profile.drivers import InhibitTable, reach_of
from tenuto.profile.schema import Tables
from tenuto.profile.speeds import full_velocity
from tenuto.sticks.control import ControlPlan, Opposite, StickPlan
from tenuto.sticks.travel import Travel
from tenuto.styles.base import StyleOptions
from tenuto.switches.momentary import MomentaryPlan
from tenuto.vehicles import Chassis
from tenuto.vehicles.actuators import ActuatorPlan

# The keys of [guard] that name a control.
GUARD_CONTROLS = ("hold_to_run", "hold_to_run_2", "stop", "emergency_stop", "emergency_stop_2", "takes_over")

_ONE_DIRECTION = (
    "calibration: {reads} rested at its low end, so controls.{name} would have one direction only, and no stick asks "
    'for the other. Set controls.{name}.rests to "middle" (its middle is zero) or to "end" (its low end is zero), '
    "or calibrate again with --zero {reads}=middle"
)


def build_plan(
    profile: Tables, calibration: Calibration | None, trims: Mapping[str, float], others: Mapping[str, Calibration]
) -> Plan:
    """Make the plan; the profile has been checked."""
    builder = _Builder(profile, calibration)
    guard = profile.guard
    limits = profile.limits.limits()
    most = max(limits.acceleration, limits.deceleration or 0.0)
    turn_most = max(limits.turn_acceleration, limits.turn_deceleration or 0.0)
    chassis = profile.chassis.chassis(full_velocity(profile.speeds.speeds()))
    return Plan(
        controls=tuple(builder.controls.values()),
        modes=builder.modes(chassis),
        priority=goes_first(profile),
        guard=GuardSettings(
            hold_to_run=guard.hold_to_run,
            link_timeout=guard.link_timeout,
            stop_deceleration=guard.stop_deceleration or most,
            stop_turn_deceleration=guard.stop_turn_deceleration or turn_most,
            stop=guard.stop,
            stop_vertical_deceleration=guard.stop_vertical_deceleration or limits.vertical_acceleration,
            enable=guard.enable,
            enable_stays=bool(enable_stays(profile)),
            emergency_stop=guard.emergency_stop,
            reset=guard.reset,
            released_category=guard.released_category,
            fault_category=guard.fault_category,
            emergency_category=guard.emergency_category,
            link_good_for=guard.link_good_for or 0.0,
            least_quality=guard.least_quality,
            command_timeout=guard.command_timeout or profile.loop.stall_timeout,
            frozen_after=guard.frozen_after,
            on_link_loss=guard.on_link_loss,
            descend_speed=guard.descend_speed or 0.0,
            descend_for=guard.descend_for or 0.0,
            least_frame_rate=guard.least_frame_rate or 0.0,
            takes_over=guard.takes_over,
            hold_to_run_2=guard.hold_to_run_2,
            emergency_stop_2=guard.emergency_stop_2,
            discrepancy_time=guard.discrepancy_time,
            pressed_through=guard.pressed_through or math.inf,
            attention=guard.attention or math.inf,
            test_at_start=tuple(guard.test_at_start),
            goes_on_without_log=guard.on_log_failure == "go on",
            start_warning=guard.start_warning or 0.0,
            grace=guard.grace or 0.0,
            needs=guard.needs.plan(),
        ),
        chassis=chassis,
        period=1.0 / profile.loop.rate,
        stall_timeout=profile.loop.stall_timeout,
        sticks=tuple(StickPlan(**table.model_dump()) for table in profile.sticks.values()),
        selection=builder.selection(trims),
        actions=tuple(
            ActionPlan(name=name, press=action.press, any_time=action.when == "any time")
            for name, action in profile.actions.items()
        ),
        actuators=tuple(actuator_plans(profile, chassis)),
        driver=profile.source.driver,
        below=tuple(_driver(profile, name, others.get(name)) for name in profile.drivers),
        distances=tuple(
            DistancePlan(
                name=name, reads=table.reads, scale=table.scale, towards=table.towards, keep=table.keep,
                reach=reach_of(table), timeout=table.timeout or guard.link_timeout, own_source=table.has_source,
                source_of=table.source_of, far_end=table.far_end,
            )
            for name, table in profile.distances.items()
        ),
        inhibits=tuple(
            InhibitPlan(
                name=name, reads=table.reads, on_from=table.on_from, closed=table.normally == "closed",
                timeout=table.timeout or guard.link_timeout, share=table.speed_share or 1.0,
                category=_category_of(table, guard.fault_category), own_source=table.has_source,
                source_of=table.source_of, far_end=table.far_end,
            )
            for name, table in profile.inhibits.items()
        ),
        measured=tuple(
            MeasuredPlan(
                name=name, reads=table.reads, of=table.of, scale=table.scale, tolerance=table.tolerance,
                within=table.within, timeout=table.timeout or guard.link_timeout, own_source=table.has_source,
                source_of=table.source_of, far_end=table.far_end,
            )
            for name, table in profile.measured.items()
        ),
        feedback=profile.feedback.by,
    )  # fmt: skip


def _rest_band(measured: ControlCalibration | None, travel: Travel) -> float | None:
    """Return the measured distance from its rest; None if none was measured, as for the middle of a lever."""
    if measured is None or (measured.kind == "end" and travel.centre is not None):
        return None
    return measured.dead_zone or None


def _category_of(table: InhibitTable, fault_category: int) -> int | None:
    """Return the category of the stop of an inhibit; None if it only lowers the speed."""
    if table.speed_share is not None:
        return None
    return fault_category if table.stop_category is None else table.stop_category


def _driver(profile: Tables, name: str, calibration: Calibration | None) -> DriverPlan:
    """Return the plan of one of the other drivers."""
    table = profile.drivers[name]
    sticks = table.sends == "sticks"
    builder = _Builder(seen_by(profile, name), calibration) if sticks else None
    return DriverPlan(
        name=name,
        controls=tuple(builder.controls.values()) if builder else (),
        selection=builder.selection({}) if builder else NOTHING_TO_CHOOSE,
        given_by=table.given_by,
        permit=table.permit,
        alone=table.alone,
        share=table.speed_share,
        link_timeout=table.link_timeout or profile.guard.link_timeout,
    )


def seen_by(profile: Tables, name: str) -> Tables:
    """Return the profile of one of the other drivers: with the source and controls of that driver."""
    table = profile.drivers[name]
    controls: Mapping[str, ControlTable] = {**profile.controls, **table.controls}
    source = table.source or profile.source.another()
    return profile.model_copy(
        update={"source": source, "controls": controls, "drivers": {}, "distances": {}, "inhibits": {}, "measured": {}}
    )


def actuator_plans(profile: Tables, chassis: Chassis) -> Iterator[ActuatorPlan]:
    """Return the form of each actuator that has one, of axles, and of outputs.

    The settings of a group of actuators apply to all of it.
    """
    for name, bounds in chassis.bounds().items():
        tables = [profile.actuators.get(group) for group in (bounds.quantity.group, name)]
        said = {key: value for table in tables if table for key, value in table.model_dump(exclude_unset=True).items()}
        if said.get("form") is not None:
            yield ActuatorPlan(name=name, **{"full": bounds.most, **said})
    others: dict[str, dict[str, Any]] = {
        name: {"level": True, "idle": output.plan(name).idle} for name, output in profile.outputs.items()
    }
    others |= {name: {"of": axle.of, "full": axle.most} for name, axle in chassis.axles().items()}
    for name, more in others.items():
        table = profile.actuators.get(name)
        if table is not None and table.form is not None:
            yield ActuatorPlan(name=name, **{**more, **table.model_dump(exclude_unset=True)})


def pressed_names(profile: Tables) -> Iterator[tuple[str, str]]:
    """List everything that is pressed for a selection or an action: its key, and the switch or control."""
    choose, levels = profile.choose, profile.levels
    pressed = {
        "guard.enable": profile.guard.enable,
        "guard.reset": profile.guard.reset,
        "choose.mode.switch": choose.mode.switch if choose.mode else None,
        "choose.mode.back": choose.mode.back if choose.mode else None,
        "choose.rates.switch": choose.rates.switch if choose.rates else None,
        "levels.faster": levels.faster if levels else None,
        "levels.slower": levels.slower if levels else None,
        "choose.steering.switch": choose.steering.switch if choose.steering else None,
        "rear_share.more": profile.rear_share.more if profile.rear_share else None,
        "rear_share.less": profile.rear_share.less if profile.rear_share else None,
    }
    for name, trim in profile.trims.items():
        pressed |= {f"trims.{name}.up": trim.up, f"trims.{name}.down": trim.down}
    for place, style in styles_of(profile):
        pressed |= {f"{place}.{key}": name for key, name in named(style, Role.PRESSED)}
    pressed |= {f"actions.{name}.press": action.press for name, action in profile.actions.items()}
    pressed |= {f"drivers.{name}.given_by": driver.given_by for name, driver in profile.drivers.items()}
    yield from ((key, name) for key, name in pressed.items() if name is not None)
    yield from _pressed_for_outputs(profile)


def styles_of(profile: Tables) -> list[tuple[str, StyleOptions]]:
    """List the styles of a profile and of its modes, with the key of their table."""
    own = [(f"modes.{name}.style", mode.style) for name, mode in profile.modes.items()]
    return [("style", profile.style), *((key, style) for key, style in own if style is not None)]


def goes_first(profile: Tables) -> str:
    """Return the priority; by default the arc if a style moves parts separately."""
    apart = any(style.apart for _, style in styles_of(profile))
    return profile.chassis.priority or ("arc" if apart else profile.chassis.usual_priority)


def headings(profile: Tables) -> list[tuple[str, str, str | None]]:
    """List the styles with a heading: the key of their table, the control that measures it, the switch for its zero."""
    found = [(key, style.measured_heading()) for key, style in styles_of(profile)]
    return [(key, *heading) for key, heading in found if heading is not None]


def _pressed_for_outputs(profile: Tables) -> Iterator[tuple[str, str]]:
    places = [("", profile.outputs), *((f"modes.{name}.", mode.outputs) for name, mode in profile.modes.items())]
    for place, outputs in places:
        for name, output in outputs.items():
            yield from ((f"{place}outputs.{name}.{key}", switch) for key, switch in named(output, Role.PRESSED))


def read_names(profile: Tables) -> Iterator[tuple[str, str]]:
    """List the controls that may be read without a table under [controls]: the key, and the name."""
    for key in GUARD_CONTROLS:
        if (name := getattr(profile.guard, key)) is not None:
            yield f"guard.{key}", name
    for driver, table in profile.drivers.items():
        if table.permit is not None:
            yield f"drivers.{driver}.permit", table.permit
    for name, switch in profile.switches.items():
        yield from ((f"switches.{name}.{key}", control) for key, control in switch.controls())
    for name, trim in profile.trims.items():
        if trim.knob is not None:
            yield f"trims.{name}.knob", trim.knob
    yield from ((key, name) for key, name in pressed_names(profile) if name not in profile.switches)


def control_table(profile: Tables, name: str) -> ControlTable:
    """Return the table of a control: one of [controls], or of a control with the device's name."""
    return profile.controls.get(name) or ControlTable(reads=name)


def enable_stays(profile: Tables) -> bool | None:
    """Return whether the enabling switch keeps its position, as all do except a push-button.

    None if its device has no such control.
    """
    name = profile.guard.enable
    if name is None:
        return False
    switch = profile.switches.get(name)
    if switch is not None and not switch.returns:
        return True
    reads = name if switch is None else getattr(switch, "reads", "")
    if not reads:
        return False
    table = control_table(profile, reads)
    info = profile.source.control(table.reads)
    return None if info is None else not table.springs_back(info)


class _Builder:
    """Builds the parts of a plan that depend on each other."""

    def __init__(self, profile: Tables, calibration: Calibration | None) -> None:
        self.profile = profile
        self.calibration = calibration
        tables = dict(profile.controls)
        for _, name in read_names(profile):
            tables.setdefault(name, control_table(profile, name))
        # Controls whose two directions mean two things.
        self.directed = {name for _, style in styles_of(profile) for name in style.driving().values()}
        self.directed |= {trim.knob for trim in profile.trims.values() if trim.knob is not None}
        self.controls = {name: self._control(name, table) for name, table in tables.items()}

    def _control(self, name: str, table: ControlTable) -> ControlPlan:
        info, measured = self._known(table.reads)
        if measured is not None:
            if table.loses_a_direction(info, measured) and name in self.directed:
                raise CalibrationError(_ONE_DIRECTION.format(name=name, reads=table.reads))
            table = table.measured(measured)
        minus = None
        if table.minus is not None:
            other, measured_other = self._known(table.minus)
            opposite = ControlTable(reads=table.minus)
            if table.rests == "end":  # the profile sets this rest for both: the device does not report it
                opposite = ControlTable(reads=table.minus, low=table.low, high=table.high, rests="end")
            if measured_other is not None:
                opposite = opposite.measured(measured_other)
            minus = Opposite(reads=table.minus, travel=opposite.travel(other), believable=opposite.believable(other))
        travel = table.travel(info)
        one_way = travel.centre is None and minus is None
        return ControlPlan(
            name=name,
            reads=table.reads,
            travel=travel,
            believable=table.believable(info),
            dead_zone=table.dead_zone,
            outer_dead_zone=table.outer_dead_zone,
            hysteresis=table.hysteresis,
            shape=table.shape(one_way=one_way),
            rates={
                rates: table.shape(one_way=one_way, rates=rate)
                for rates, rate in self.profile.rates.items()
                if name in (self.profile.controls if rate.controls is None else rate.controls)
            },
            spike_filter=table.spike_filter,
            smoothing=table.smoothing or 0.0,
            ramp_up=1.0 / table.ramp_up if table.ramp_up else 0.0,
            ramp_down=1.0 / table.ramp_down if table.ramp_down else 0.0,
            rest_band=_rest_band(measured, travel),
            centre_at_start=table.centre == "at start",
            minus=minus,
            noise=measured.noise if measured is not None and measured.kind == "middle" else 0.0,
            keys=info.keys,
        )

    def _known(self, reads: str) -> tuple[ControlInfo, ControlCalibration | None]:
        """Return the description of a control of the device, and its measurement."""
        info = self.profile.source.control(reads)
        if info is None:
            raise ValueError(f"a {self.profile.source.kind} has no control {reads}")
        return info, self.calibration.controls.get(reads) if self.calibration is not None else None

    def modes(self, chassis: Chassis) -> tuple[ModePlan, ...]:
        """Return the modes; a profile without any has one without a name."""
        profile = self.profile
        tables = profile.modes or {"": ModeTable(fallback=True)}
        return tuple(
            ModePlan(
                name=name,
                style=(mode.style or profile.style).style(chassis),
                speeds=(mode.speeds or profile.speeds).speeds(),
                limits=(mode.limits or profile.limits).limits(),
                outputs=tuple(
                    mode.outputs.get(output, table).plan(output)
                    for output, table in profile.outputs.items()
                    if output not in mode.without
                ),
                rates=mode.rates,
                fallback=mode.fallback or len(tables) == 1,
                may_start=mode.may_start,
            )
            for name, mode in tables.items()
        )

    def selection(self, trims: Mapping[str, float]) -> SelectionPlan:
        """Return the switches and their selections."""
        profile, choose = self.profile, self.profile.choose
        mode = rates = ChoicePlan(order=("",), begin="")
        through_rest = True
        fallback = next((name for name, mode in profile.modes.items() if mode.fallback), next(iter(profile.modes), ""))
        if choose.mode is not None:
            mode = ChoicePlan(
                order=tuple(choose.mode.order), begin=fallback, switch=choose.mode.switch, back=choose.mode.back
            )
            through_rest = choose.mode.through_rest
        elif fallback:
            mode = ChoicePlan(order=(fallback,), begin=fallback)
        if choose.rates is not None:
            rates = ChoicePlan(order=tuple(choose.rates.order), begin=choose.rates.order[0], switch=choose.rates.switch)
        levels = LevelPlan()
        if profile.levels is not None:
            steps = tuple(profile.levels.steps)
            begin = steps.index(profile.levels.begin) if profile.levels.begin is not None else 0
            levels = LevelPlan(steps=steps, begin=begin, faster=profile.levels.faster, slower=profile.levels.slower)
        steering = ChoicePlan(order=("",), begin="")
        if choose.steering is not None:
            order: tuple[str, ...] = tuple(choose.steering.order)
            steering = ChoicePlan(order=order, begin=order[0], switch=choose.steering.switch)
        rear = LevelPlan()
        if (share := profile.rear_share) is not None:
            begin = share.steps.index(share.begin) if share.begin is not None else len(share.steps) - 1
            rear = LevelPlan(steps=tuple(share.steps), begin=begin, faster=share.more, slower=share.less)
        _, heading, heading_zero = next(iter(headings(profile)), ("", None, None))
        pressed = dict.fromkeys(name for _, name in pressed_names(profile) if name not in profile.switches)
        return SelectionPlan(
            switches=(
                *(switch.plan(name, self) for name, switch in profile.switches.items()),
                *(MomentaryPlan(name=name, reads=name) for name in pressed),
            ),
            mode=mode,
            through_rest=through_rest,
            rates=rates,
            levels=levels,
            steering=steering,
            rear_share=rear,
            heading=heading,
            heading_zero=heading_zero,
            trims=tuple(
                TrimPlan(
                    control=name,
                    begin=trims.get(name, trim.begin),
                    step=trim.step,
                    most=trim.most,
                    up=trim.up,
                    down=trim.down,
                    knob=trim.knob,
                )
                for name, trim in profile.trims.items()
            ),
        )

    def control(self, name: str) -> ControlPlan:
        """Return a control; see `tenuto.switches.base.SwitchFacts`."""
        return self.controls[name]

    def measured_positions(self, name: str) -> tuple[float, ...]:
        """Return the measured raw numbers of the positions of a control."""
        _, measured = self._known(self.controls[name].reads)
        return measured.positions if measured is not None else ()

    def positions_used(self, switch: str) -> int:
        """Return how many positions a switch needs for its selections."""
        return positions_used(self.profile, switch) or 2


def positions_used(profile: Tables, switch: str) -> int:
    """Return how many positions of a switch have a selection; 0 if none has."""
    choices = (profile.choose.mode, profile.choose.rates, profile.choose.steering)
    needs = [len(choice.order) for choice in choices if choice is not None and choice.switch == switch]
    needs += [output.positions_used(switch) for output in profile.outputs.values()]
    needs += [sink.positions_used(switch) for sink in profile.sinks.values()]
    return max(needs, default=0)
