"""The settings of one robot and its drivers for the stages: made from a profile, or in code."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, fields, replace
from hashlib import sha256
from typing import Protocol

from tenuto.driving.actions import ActionPlan
from tenuto.driving.distance import DistancePlan
from tenuto.driving.guard import GuardSettings
from tenuto.driving.holding import HELD_FROM as HELD_FROM
from tenuto.driving.inhibits import InhibitPlan
from tenuto.driving.input_plan import InputPlan
from tenuto.driving.limits import Limits
from tenuto.driving.measured import MeasuredPlan
from tenuto.driving.modes import ModePlan
from tenuto.driving.needs_plan import NOTHING_NEEDED
from tenuto.driving.selection import NOTHING_TO_CHOOSE, SelectionPlan
from tenuto.sticks.control import ControlPlan, StickPlan
from tenuto.styles.base import Style
from tenuto.styles.speeds import Speeds
from tenuto.vehicles.actuators import ActuatorPlan, Wire
from tenuto.vehicles.base import Chassis
from tenuto.vehicles.priority import settle
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# A stick with a narrower dead zone than this still counts as at rest within it, as a share of its travel.
REST_BAND = 0.03


@dataclass(frozen=True, slots=True, kw_only=True)
class DriverPlan:
    """A further driver, of a lower rank than the driver of the `Plan`.

    Attributes:
        name: the builder's own name.
        controls: of another device, under the same names as those of the plan; empty for what sends velocities itself
            (``vx``, ``vy``, ``vz`` in m/s, ``yaw_rate`` in rad/s): a script, a planner.
        selection: like that of the plan, with this device's own switches.
        given_by: a switch of the first in rank that hands the robot to this driver when it is pressed.
        permit: a control of the first in rank that must be on while this driver drives; switching it on hands over.
        alone: may enable and drive by its own hold-to-run while no driver above drives. Otherwise the first in rank
            must hold too, all the time.
        share: of all speeds that this driver gets, 0…1.
        link_timeout: s without a good frame after which it counts as gone.
        at_once: gets the robot as soon as the first in rank has enabled it.
    """

    name: str
    controls: tuple[ControlPlan, ...] = ()
    selection: SelectionPlan = NOTHING_TO_CHOOSE
    given_by: str | None = None
    permit: str | None = None
    alone: bool = False
    share: float = 1.0
    link_timeout: float = 0.3
    at_once: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan:
    """Everything that the stages need, checked and in SI units.

    Attributes:
        controls: all controls that are read, the one of ``guard.hold_to_run`` among them.
        modes: one or more; exactly one is the fallback, and the initial mode.
        period: seconds between two ticks as planned.
        stall_timeout: seconds between two ticks after which the loop counts as stalled.
        sticks: the controls that are axes of one stick and share a dead zone or a travel.
        selection: switches, and what they select. actions: done once a press.
        actuators: the form of each actuator; empty if the sink decides.
        driver: the name of the driver with these controls, the first in rank.
        below: the other drivers, by decreasing rank. distances: sensors that lower a speed. inhibits: inputs that stop
            the robot, or lower all speeds. measured: speeds that are compared with the command.
        feedback: the signals to the driver: "rumble", "bell", "both" or "nothing".
        priority: what is kept if a command exceeds the vehicle: see `tenuto.vehicles.priority`.
    """

    controls: tuple[ControlPlan, ...]
    modes: tuple[ModePlan, ...]
    guard: GuardSettings
    chassis: Chassis
    period: float
    stall_timeout: float
    sticks: tuple[StickPlan, ...] = ()
    selection: SelectionPlan = NOTHING_TO_CHOOSE
    actions: tuple[ActionPlan, ...] = ()
    actuators: tuple[ActuatorPlan, ...] = ()
    driver: str = "driver"
    below: tuple[DriverPlan, ...] = ()
    distances: tuple[DistancePlan, ...] = ()
    inhibits: tuple[InhibitPlan, ...] = ()
    measured: tuple[MeasuredPlan, ...] = ()
    feedback: str = "nothing"
    priority: str = "arc"

    def within_reach(self, demand: VelocityCommand) -> VelocityCommand:
        """Return the demand reduced to what the vehicle can do."""
        return settle(self.chassis, demand, self.priority)

    @property
    def inputs(self) -> tuple[InputPlan, ...]:
        """All inputs except drivers: distance sensors, inhibits, measured speeds."""
        return (*self.distances, *self.inhibits, *self.measured)

    def without_far_end(self) -> Plan:
        """Return the plan without requirements on a far end, for replays and simulations, which have none."""
        return replace(self, guard=replace(self.guard, needs=NOTHING_NEEDED))

    def alone(self) -> Plan:
        """Return the plan for the sticks of the first in rank alone: without other drivers and without inputs."""
        return replace(self, below=(), distances=(), inhibits=(), measured=())

    def digest(self) -> str:
        """Return eight characters that identify the plan; generated code carries them."""
        return sha256(repr(self).encode()).hexdigest()[:8]

    def plan(self) -> Plan:
        """Return itself, so that a `Pipeline` takes a plan as well as a profile."""
        return self

    @property
    def mode(self) -> ModePlan:
        """The initial mode, which is the fallback."""
        return next(mode for mode in self.modes if mode.fallback)

    @property
    def style(self) -> Style:
        """The style of the initial mode."""
        return self.mode.style

    @property
    def speeds(self) -> Speeds:
        """The speeds of the initial mode."""
        return self.mode.speeds

    @property
    def limits(self) -> Limits:
        """The limits of the initial mode."""
        return self.mode.limits

    def full_speeds(self) -> Speeds:
        """Return the top speed of all modes in each direction."""
        all_speeds = [mode.speeds for mode in self.modes]
        return Speeds(**{
            axis.name: max(getattr(speeds, axis.name) for speeds in all_speeds) for axis in fields(Speeds)
        })  # fmt: skip

    def wire_at_rest(self) -> dict[str, float]:
        """Return the numbers that are sent at standstill with power, name → number."""
        return Wire(self.actuators).step(self.chassis.actuators(STANDSTILL))

    def output_names(self) -> tuple[str, ...]:
        """Name the outputs of all modes."""
        return tuple(dict.fromkeys(output.name for mode in self.modes for output in mode.outputs))

    def driving_controls(self) -> tuple[str, ...]:
        """Name the controls that drive in any mode."""
        return tuple(dict.fromkeys(name for mode in self.modes for name in mode.style.controls()))

    def permitting_controls(self) -> tuple[str, ...]:
        """Name the controls that permit driving while they are on: hold-to-run, and a lever that enables."""
        guard = self.guard
        levers = [one.reads for one in self.selection.switches if guard.enable_stays and one.name == guard.enable]
        return tuple(name for name in (guard.hold_to_run, guard.hold_to_run_2, *levers) if name)


class Planned(Protocol):
    """An object with a plan: a `tenuto.Profile`, or a `Plan` itself."""

    def plan(self) -> Plan:
        """Return the plan."""
        ...


def rest_bands(plan: Plan, controls: Iterable[ControlPlan] | None = None) -> dict[str, float]:
    """Return, for each driving control, the distance from its middle that still counts as at rest.

    Args:
        plan: says which controls drive. controls: those of the plan if none are given.
    """
    zones = {name: stick.dead_zone for stick in plan.sticks if stick.zone != "axes" for name in (stick.x, stick.y)}
    driving = plan.driving_controls()
    return {
        control.name: max(
            zones.get(control.name, control.dead_zone) if control.rest_band is None else control.rest_band, REST_BAND
        )
        for control in (plan.controls if controls is None else controls)
        if control.name in driving
    }
