"""Turns each motor alone, slowly, while a key is held: does the left one go forward?

A held key is a driver: the motor is turned by the guard and the loop of any robot, with a profile of one
motor. So a release, Ctrl-C, a terminal that hangs and a fault stop it as they stop a robot.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace

from tenuto.basics.frame import Frame
from tenuto.basics.layouts import ControlInfo
from tenuto.driving.plan import Plan
from tenuto.driving.tick import Tick
from tenuto.profile.load import parse_profile
from tenuto.profile.profile import Profile
from tenuto.sinks import Sink
from tenuto.sources import Source
from tenuto.vehicles.actuators import Wire

# The share of a motor's greatest speed that is used, and the speed if the greatest is unknown, rad/s.
SHARE, _SLOW = 0.2, 2.0
# How long the key must be held before the motor turns, s.
_HELD = 0.15
_PROFILE = """
format = 1
name = "one motor"
source = {{ kind = "gamepad" }}
style = {{ kind = "arcade", forward = "left_y", turn = "right_x" }}
controls.left_y.dead_zone = 0.0
speeds = {{ forward = "{share:.0f} %", turn = "1 %" }}
limits = {{ acceleration = "2 s" }}
guard = {{ hold_to_run = "left_shoulder", link_timeout = "300 ms", stop_deceleration = "0.3 s" }}
chassis = {{ kind = "motors", mix.motor.forward = 1.0 }}
"""


class HeldKey(Source):
    """A key as the driver of one motor: a held key is hold-to-run, and a moment later also the stick."""

    name = "held key"

    def __init__(self, held: Callable[[float], bool | None]) -> None:
        """Read whether it is held, at a time in s; None at the user's end of the test."""
        self._held = held
        self._since: float | None = None
        self._over = False

    def controls(self) -> tuple[ControlInfo, ...]:
        """Describe its controls."""
        return tuple(ControlInfo(name, -32768.0, 32767.0, 0.0) for name in ("left_y", "right_x", "left_shoulder"))

    @property
    def finished(self) -> bool:
        """Whether the user has ended the test."""
        return self._over

    def poll(self, now: float) -> Frame:
        """Return the present state of the key."""
        held = self._held(now)
        self._over = self._over or held is None
        self._since = (now if self._since is None else self._since) if held else None
        pushed = self._since is not None and now - self._since > _HELD
        return Frame(now, {"left_y": -32768.0 * pushed, "right_x": 0.0, "left_shoulder": float(bool(held))})


class OneMotor(Sink):
    """Passes the ticks of one motor to a sink as those of a robot whose other motors stand.

    Attributes:
        moved: whether the motor was commanded to turn at all.
    """

    def __init__(self, inner: Sink, plan: Plan, actuator: str) -> None:
        """Turn an actuator of a plan, at a sink that is open and stays open."""
        self.name, self.period, self._inner, self._plan = inner.name, inner.period, inner, plan
        self._actuator, self._wire = actuator, Wire(plan.actuators)
        bounds = plan.chassis.bounds()
        self._rest = dict.fromkeys(bounds, 0.0)
        most = bounds[actuator].most
        self._most = most if most < float("inf") else _SLOW / SHARE
        self.moved = False

    @property
    def problem(self) -> str:
        """The report of the far end."""
        return self._inner.problem

    def start(self, plan: Plan) -> None:
        """Prepare the sink for the robot."""
        self._inner.clock = self.clock
        self._inner.start(self._plan)

    def write(self, tick: Tick) -> None:
        """Pass a tick on."""
        self._inner.write(self._robot(tick))

    def stop(self, tick: Tick) -> None:
        """Pass the stop on."""
        self._inner.stop(self._robot(tick))

    def _robot(self, tick: Tick) -> Tick:
        share = tick.actuators["motor"]
        self.moved = self.moved or share != 0.0
        does = {**self._rest, self._actuator: share * self._most}
        velocity = self._plan.chassis.forward(does)
        command = type(tick.command)(*(float(axis) for axis in velocity))
        return tick._replace(command=command, actuators=does, wire=self._wire.step(does, tick.power), outputs={})


def motors_of(plan: Plan) -> list[str]:
    """Name the motors of a robot that can be turned alone: all actuators by which it moves."""
    return [name for name, bound in plan.chassis.bounds().items() if bound.quantity.drives]


def turned_alone(profile: Profile) -> dict[str, bool]:
    """Return the motors that every moving sink sends separately, so that one can turn alone.

    A sink that sends velocities leaves the motors to the far end. Without a sink, each can turn alone.

    Returns:
        name → whether ``reverse`` reverses it: it has a form or can have one, and each of those sinks sends that.
    """
    plan = profile.plan()
    bounds, formed = plan.chassis.bounds(), {one.name for one in plan.actuators}
    told = [turns for sink in profile.sinks.values() if (turns := sink.turns(plan)) is not None]
    names = [name for name in motors_of(plan) if all(name in one for one in told)]
    able = {name for name in names if name in formed or math.isfinite(bounds[name].most)}
    return {name: name in able and all(one[name] for one in told) for name in names}


def one_motor_plan() -> Plan:
    """Return the plan for a held key that turns one motor."""
    plan = parse_profile(_PROFILE.format(share=100.0 * SHARE)).plan()
    return replace(plan, driver="the key")
