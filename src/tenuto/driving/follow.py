"""The robot's end of a link: it follows velocities from another machine, with its own pipeline.

The link carries velocities, whether somebody drives at the other end (`FOLLOWED`), the levels of outputs, and actions.
`follow_plan` makes a plan from the robot's own profile, with these as controls. So the guard, the limits, the chassis
and the reasons are those of any other drive, and a link loss is handled like the loss of a radio link.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

from tenuto.basics.errors import TenutoError
from tenuto.basics.layouts import ControlInfo
from tenuto.driving.actions import ActionPlan
from tenuto.driving.limits import Limits
from tenuto.driving.modes import ModePlan
from tenuto.driving.plan import Plan
from tenuto.driving.selection import SelectionPlan
from tenuto.outputs.base import OutputPlan
from tenuto.outputs.followed import FollowedPlan
from tenuto.sticks.control import ControlPlan
from tenuto.sticks.travel import Travel
from tenuto.styles.base import Setting, Style
from tenuto.styles.mixing import Intent
from tenuto.styles.speeds import Speeds
from tenuto.switches.momentary import MomentaryPlan
from tenuto.vehicles.units import NO_METRES
from tenuto.vehicles.velocity import VelocityCommand

AXES = VelocityCommand._fields
# Besides the velocity: somebody holds and drives at the other end; its emergency stop is on; it is off again.
DRIVES, EMERGENCY, CLEAR = "hold_to_run", "emergency_stop", "reset"
FOLLOWED = (
    *(ControlInfo(axis, -math.inf, math.inf, 0.0) for axis in AXES),
    *(ControlInfo(name, 0.0, 1.0, 0.0) for name in (DRIVES, EMERGENCY, CLEAR)),
)
# The range of an axis whose speed the profile does not have, such as the turn of a car, m/s and rad/s.
_UNKNOWN = 10.0
# The prefix of a control that fires an action.
_ACTION = "action "
# A velocity beyond this multiple of the full speed is invalid.
_BEYOND = 2.0


@dataclass(frozen=True, slots=True)
class Followed(Style):
    """Controls that are velocities.

    Attributes:
        ends: axis → the velocity at the end of its travel, m/s and rad/s.
    """

    ends: Mapping[str, float]

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot."""
        return AXES

    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Read the shares of the travels."""
        return Intent(*(shaped[axis] for axis in AXES))

    def demand(
        self, intent: Intent[float], speeds: Speeds, setting: Setting, shaped: Mapping[str, float]
    ) -> VelocityCommand:
        """Return the velocity, reduced on its arc to the speeds of the robot's own profile."""
        asked = VelocityCommand(*(share * self.ends[axis] for axis, share in zip(AXES, intent, strict=True)))
        return speeds.slow(asked)


def output_control(name: str) -> str:
    """Name the control that is the level of an output."""
    return f"output {name}"


def action_control(name: str) -> str:
    """Name the control that fires an action."""
    return f"{_ACTION}{name}"


def outputs_of(plan: Plan) -> dict[str, OutputPlan]:
    """Return the outputs of a robot by name. If modes differ about one, the first mode that has it counts."""
    found: dict[str, OutputPlan] = {}
    for mode in plan.modes:
        for output in mode.outputs:
            found.setdefault(output.name, output)
    return found


def followed_controls(plan: Plan) -> tuple[ControlInfo, ...]:
    """Describe all that may be sent to a robot that is driven by hand by this plan."""
    outputs = (ControlInfo(output_control(name), -1.0, 1.0, one.idle) for name, one in outputs_of(plan).items())
    actions = (ControlInfo(action_control(action.name), 0.0, 1.0, 0.0) for action in plan.actions)
    return (*FOLLOWED, *outputs, *actions)


def follow_plan(plan: Plan, sent: Iterable[ControlInfo] = FOLLOWED) -> Plan:
    """Make the plan with which a robot follows velocities from its plan for driving by hand.

    Chassis, actuators, stops, timeouts, and sensors and inhibits with a source of their own stay; the speeds are the
    fastest of any mode, and the limits the loosest, because the sender applies those of its present mode.

    Args:
        plan: of the robot. sent: what is sent to it; outputs and actions that are not sent rest.

    Raises:
        TenutoError: the robot has no measures, so velocities mean nothing to it.
    """
    if not plan.chassis.units.known:
        raise TenutoError(f"{NO_METRES}, and the commands to follow are in m/s: set its dimensions in [chassis]")
    names = {info.name for info in sent}
    every = outputs_of(plan)
    by_guard = {name: one for name, one in every.items() if one.by_guard}  # of the robot's own guard
    outputs = {n: one for n, one in every.items() if output_control(n) in names and n not in by_guard}
    actions = [action for action in plan.actions if action_control(action.name) in names]
    speeds = plan.full_speeds()
    speeds = Speeds(**{
        axis: getattr(speeds, axis) or _UNKNOWN for axis in ("forward", "backward", "turn", "sideways", "up", "down")
    })  # fmt: skip
    most = (max(speeds.forward, speeds.backward), speeds.sideways, max(speeds.up, speeds.down), speeds.turn)
    ends = {axis: _BEYOND * speed for axis, speed in zip(AXES, most, strict=True)}
    controls = tuple(
        ControlPlan(name=axis, reads=axis, travel=Travel(-end, 0.0, end), believable=(-end, end))
        for axis, end in ends.items()
    )
    controls += tuple(
        ControlPlan(name=name, reads=name, travel=Travel(-1.0, 0.0, 1.0), believable=(-1.0, 1.0))
        for name in map(output_control, outputs)
    )
    pressed = [CLEAR, *(action_control(action.name) for action in actions)]
    controls += tuple(
        ControlPlan(name=name, reads=name, travel=Travel(0.0, None, 1.0), believable=(0.0, 1.0))
        for name in (DRIVES, EMERGENCY, *pressed)
    )
    guard = replace(
        plan.guard, hold_to_run=DRIVES, enable=None, stop=None, emergency_stop=EMERGENCY, reset=CLEAR,
        takes_over=None, least_quality=0.0, frozen_after=math.inf, hold_to_run_2=None, emergency_stop_2=None,
        pressed_through=math.inf, attention=math.inf, test_at_start=(),
    )  # fmt: skip
    return replace(
        plan,
        controls=controls,
        modes=(
            ModePlan(
                name="",
                style=Followed(ends),
                speeds=speeds,
                limits=_loosest(plan),
                outputs=tuple(_followed(one) for one in (*outputs.values(), *by_guard.values())),
            ),
        ),
        guard=guard,
        sticks=(),
        selection=SelectionPlan(switches=tuple(MomentaryPlan(name=name, reads=name, debounce=0.0) for name in pressed)),
        actions=tuple(
            ActionPlan(name=one.name, press=action_control(one.name), any_time=one.any_time) for one in actions
        ),
        driver="link",
        below=(),
        distances=tuple(sensor for sensor in plan.distances if sensor.own_source),
        inhibits=tuple(inhibit for inhibit in plan.inhibits if inhibit.own_source),
        measured=tuple(one for one in plan.measured if one.own_source),
        feedback="nothing",
    )


def line_plan(plan: Plan) -> Plan:
    """Return the plan of a board that reads velocity lines: they carry levels of outputs, but no actions.

    Raises:
        TenutoError: see `follow_plan`.
    """
    return follow_plan(plan, [info for info in followed_controls(plan) if not info.name.startswith(_ACTION)])


def _followed(one: OutputPlan) -> OutputPlan:
    if one.by_guard:
        return one
    return FollowedPlan(name=one.name, idle=one.idle, when_stopped=one.when_stopped, control=output_control(one.name))


def _loosest(plan: Plan) -> Limits:
    """Return limits that do not delay any mode, nor a stop at the other end."""
    guard = plan.guard
    level, _, vertical, turn = (
        tuple(max(axes) for axes in zip(*(mode.limits.axes[axis] for mode in plan.modes), strict=True))
        for axis in range(4)
    )
    return Limits(
        acceleration=level[0],
        turn_acceleration=turn[0],
        deceleration=max(level[1], guard.stop_deceleration),
        turn_deceleration=max(turn[1], guard.stop_turn_deceleration),
        vertical_acceleration=max(vertical[0], guard.stop_vertical_deceleration),
    )
