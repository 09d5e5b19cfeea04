"""From the tables of a profile to the plan of a pipeline."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping

from tenuto.basics.layouts import ControlInfo
from tenuto.calibration.store import Calibration, ControlCalibration
from tenuto.driving.actions import ActionPlan
from tenuto.driving.distance import DistancePlan
from tenuto.driving.guard import GuardSettings
from tenuto.driving.modes import ChoicePlan, LevelPlan, ModePlan, TrimPlan
from tenuto.driving.plan import DriverPlan, Plan
from tenuto.driving.selection import NOTHING_TO_CHOOSE, SelectionPlan
from tenuto.kinds.options import Role, named
from tenuto.profile.choices import ModeTable
from tenuto.profile.controls import ControlTable
from tenuto.profile.drivers import reach_of
from tenuto.profile.schema import Tables
from tenuto.profile.speeds import full_velocity
from tenuto.sticks.control import ControlPlan, Opposite, StickPlan
from tenuto.styles.base import StyleOptions
from tenuto.switches.momentary import MomentaryPlan
from tenuto.vehicles import Chassis
from tenuto.vehicles.actuators import ActuatorPlan


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
        guard=GuardSettings(
            guard.hold_to_run,
            guard.link_timeout,
            guard.stop_deceleration or most,
            guard.stop_turn_deceleration or turn_most,
            guard.stop,
            guard.stop_vertical_deceleration or limits.vertical_acceleration,
            guard.enable,
            guard.emergency_stop,
            guard.reset,
            guard.released_category,
            guard.fault_category,
            guard.emergency_category,
            guard.link_good_for or 0.0,
            guard.least_quality,
            guard.command_timeout or profile.loop.stall_timeout,
            guard.frozen_after or math.inf,
            guard.on_link_loss,
            guard.descend_speed or 0.0,
            guard.descend_for or 0.0,
            guard.least_frame_rate or 0.0,
            guard.takes_over,
            guard.on_log_failure == "go on",
            guard.grace or 0.0,
        ),
        chassis=chassis,
        period=1.0 / profile.loop.rate,
        stall_timeout=profile.loop.stall_timeout,
        sticks=tuple(StickPlan(**table.model_dump()) for table in profile.sticks.values()),
        selection=builder.selection(trims),
        actions=tuple(
            ActionPlan(name, action.press, action.when == "any time") for name, action in profile.actions.items()
        ),
        actuators=tuple(actuator_plans(profile, chassis)),
        driver=profile.source.driver,
        below=tuple(_driver(profile, name, others.get(name)) for name in profile.drivers),
        distances=tuple(
            DistancePlan(
                name, table.reads, table.scale, table.towards, table.keep, reach_of(table),
                table.timeout or guard.link_timeout, table.source is not None,
            )
            for name, table in profile.distances.items()
        ),
        feedback=profile.feedback.by,
    )  # fmt: skip


def _driver(profile: Tables, name: str, calibration: Calibration | None) -> DriverPlan:
    """Give the plan of one of the other drivers."""
    table = profile.drivers[name]
    sticks = table.sends == "sticks"
    builder = _Builder(seen_by(profile, name), calibration) if sticks else None
    return DriverPlan(
        name,
        tuple(builder.controls.values()) if builder else (),
        builder.selection({}) if builder else NOTHING_TO_CHOOSE,
        table.given_by,
        table.permit,
        table.alone,
        table.speed_share,
        table.link_timeout or profile.guard.link_timeout,
    )


def seen_by(profile: Tables, name: str) -> Tables:
    """Give the profile as one of the other drivers has it: with that one's source and controls."""
    table = profile.drivers[name]
    controls: Mapping[str, ControlTable] = {**profile.controls, **table.controls}
    source = table.source or profile.source.another()
    return profile.model_copy(update={"source": source, "controls": controls, "drivers": {}, "distances": {}})


def actuator_plans(profile: Tables, chassis: Chassis) -> Iterator[ActuatorPlan]:
    """Give the form of each actuator of the chassis that has one; what is said of a group holds for all of it."""
    for name, bounds in chassis.bounds().items():
        tables = [profile.actuators.get(group) for group in (bounds.quantity.group, name)]
        said = {key: value for table in tables if table for key, value in table.model_dump(exclude_unset=True).items()}
        if said.get("form") is not None:
            yield ActuatorPlan(name, **{"full": bounds.most, **said})


def pressed_names(profile: Tables) -> Iterator[tuple[str, str]]:
    """List what is pressed to choose or do something: the key that says so, and the switch or control."""
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


def headings(profile: Tables) -> list[tuple[str, str, str | None]]:
    """List the styles that know a heading: the key of their table, what measures it, what sets its zero."""
    found = [(key, style.measured_heading()) for key, style in styles_of(profile)]
    return [(key, *heading) for key, heading in found if heading is not None]


def _pressed_for_outputs(profile: Tables) -> Iterator[tuple[str, str]]:
    places = [("", profile.outputs), *((f"modes.{name}.", mode.outputs) for name, mode in profile.modes.items())]
    for place, outputs in places:
        for name, output in outputs.items():
            yield from ((f"{place}outputs.{name}.{key}", switch) for key, switch in named(output, Role.PRESSED))


def read_names(profile: Tables) -> Iterator[tuple[str, str]]:
    """List the controls that are read without being under [controls] of need: the key, and the name."""
    for key in ("hold_to_run", "stop", "emergency_stop", "takes_over"):
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


class _Builder:
    """Builds the parts of a plan that need to know each other."""

    def __init__(self, profile: Tables, calibration: Calibration | None) -> None:
        self.profile = profile
        self.calibration = calibration
        tables = dict(profile.controls)
        # A control may be one of [controls], or be named as the device names it.
        for _, name in read_names(profile):
            tables.setdefault(name, ControlTable(reads=name))
        self.controls = {name: self._control(name, table) for name, table in tables.items()}

    def _control(self, name: str, table: ControlTable) -> ControlPlan:
        info, measured = self._known(table.reads)
        if measured is not None:
            table = table.measured(measured)
        minus = None
        if table.minus is not None:
            other, measured_other = self._known(table.minus)
            opposite = ControlTable(reads=table.minus)
            if measured_other is not None:
                opposite = opposite.measured(measured_other)
            minus = Opposite(table.minus, opposite.travel(other), opposite.believable(other))
        travel = table.travel(info)
        one_way = travel.centre is None and minus is None
        return ControlPlan(
            name,
            table.reads,
            travel,
            table.believable(info),
            table.dead_zone,
            table.outer_dead_zone,
            table.hysteresis,
            table.shape(one_way=one_way),
            {
                rates: table.shape(one_way=one_way, rates=rate)
                for rates, rate in self.profile.rates.items()
                if name in (self.profile.controls if rate.controls is None else rate.controls)
            },
            table.spike_filter,
            table.smoothing or 0.0,
            1.0 / table.ramp_up if table.ramp_up else 0.0,
            1.0 / table.ramp_down if table.ramp_down else 0.0,
            rest_band=measured.dead_zone if measured is not None else None,
            centre_at_start=table.centre == "at start",
            minus=minus,
            noise=measured.noise if measured is not None and measured.kind == "middle" else 0.0,
        )

    def _known(self, reads: str) -> tuple[ControlInfo, ControlCalibration | None]:
        """Give what is known of a control of the device, and what was measured of it."""
        info = self.profile.source.control(reads)
        if info is None:
            raise ValueError(f"a {self.profile.source.kind} has no control {reads}")
        return info, self.calibration.controls.get(reads) if self.calibration is not None else None

    def modes(self, chassis: Chassis) -> tuple[ModePlan, ...]:
        """Give the modes; a profile without any has one without a name."""
        profile = self.profile
        tables = profile.modes or {"": ModeTable(fallback=True)}
        return tuple(
            ModePlan(
                name,
                (mode.style or profile.style).style(chassis),
                (mode.speeds or profile.speeds).speeds(),
                (mode.limits or profile.limits).limits(),
                tuple(
                    mode.outputs.get(output, table).plan(output)
                    for output, table in profile.outputs.items()
                    if output not in mode.without
                ),
                mode.rates,
                mode.fallback or len(tables) == 1,
                mode.may_start,
            )
            for name, mode in tables.items()
        )

    def selection(self, trims: Mapping[str, float]) -> SelectionPlan:
        """Give the switches and what they choose."""
        profile, choose = self.profile, self.profile.choose
        mode = rates = ChoicePlan(("",), "")
        through_rest = True
        fallback = next((name for name, mode in profile.modes.items() if mode.fallback), next(iter(profile.modes), ""))
        if choose.mode is not None:
            mode = ChoicePlan(tuple(choose.mode.order), fallback, choose.mode.switch, choose.mode.back)
            through_rest = choose.mode.through_rest
        elif fallback:
            mode = ChoicePlan((fallback,), fallback)
        if choose.rates is not None:
            rates = ChoicePlan(tuple(choose.rates.order), choose.rates.order[0], choose.rates.switch)
        levels = LevelPlan()
        if profile.levels is not None:
            steps = tuple(profile.levels.steps)
            begin = steps.index(profile.levels.begin) if profile.levels.begin is not None else 0
            levels = LevelPlan(steps, begin, profile.levels.faster, profile.levels.slower)
        steering = ChoicePlan(("",), "")
        if choose.steering is not None:
            order: tuple[str, ...] = tuple(choose.steering.order)
            steering = ChoicePlan(order, order[0], choose.steering.switch)
        rear = LevelPlan()
        if (share := profile.rear_share) is not None:
            begin = share.steps.index(share.begin) if share.begin is not None else len(share.steps) - 1
            rear = LevelPlan(tuple(share.steps), begin, share.more, share.less)
        _, heading, heading_zero = next(iter(headings(profile)), ("", None, None))
        pressed = dict.fromkeys(name for _, name in pressed_names(profile) if name not in profile.switches)
        return SelectionPlan(
            (
                *(switch.plan(name, self) for name, switch in profile.switches.items()),
                *(MomentaryPlan(name=name, reads=name) for name in pressed),
            ),
            mode,
            through_rest,
            rates,
            levels,
            steering,
            rear,
            heading,
            heading_zero,
            tuple(
                TrimPlan(name, trims.get(name, trim.begin), trim.step, trim.most, trim.up, trim.down, trim.knob)
                for name, trim in profile.trims.items()
            ),
        )

    def control(self, name: str) -> ControlPlan:
        """Return a control; see `tenuto.switches.base.SwitchFacts`."""
        return self.controls[name]

    def measured_positions(self, name: str) -> tuple[float, ...]:
        """Return the raw numbers at which a control was measured to stand."""
        _, measured = self._known(self.controls[name].reads)
        return measured.positions if measured is not None else ()

    def positions_used(self, switch: str) -> int:
        """Return how many positions a switch needs for what it chooses."""
        return positions_used(self.profile, switch) or 2


def positions_used(profile: Tables, switch: str) -> int:
    """Return how many positions of a switch something is chosen by; 0 where nothing is."""
    choices = (profile.choose.mode, profile.choose.rates, profile.choose.steering)
    needs = [len(choice.order) for choice in choices if choice is not None and choice.switch == switch]
    return max([*needs, *(output.positions_used(switch) for output in profile.outputs.values())], default=0)
