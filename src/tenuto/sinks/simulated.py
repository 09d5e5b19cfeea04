"""A sink that drives a simulated robot."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import ClassVar

from tenuto.driving.needs_plan import NOTHING_NEEDED
from tenuto.driving.plan import Plan
from tenuto.driving.telemetry import EVERYTHING, NOTHING_HEARD, Telemetry
from tenuto.driving.tick import Tick
from tenuto.sim.robots import Physics, SimulatedRobot, simulated_robot
from tenuto.sinks.base import Sink, SinkOptions
from tenuto.vehicles.base import Chassis, Quantity

# How long the robot may roll out after the last tick, simulated s.
_ROLL_OUT = 10.0
_SAYS = EVERYTHING - {"reasons", "distances", "round_trip", "loss", "waiting"}


class SimulatedSink(Sink):
    """Drives the simulated robot that belongs to a profile.

    Attributes:
        robot: the simulated robot, from `start` on.
    """

    name = "simulated robot"
    label = "simulated"
    says = _SAYS
    robot: SimulatedRobot

    def __init__(self, physics: Physics | None = None) -> None:
        """Set the physics of the robot; by default the usual values of its kind."""
        self._physics = physics
        self._chassis: Chassis | None = None
        self._needs = NOTHING_NEEDED
        self._telemetry = NOTHING_HEARD

    @property
    def telemetry(self) -> Telemetry:
        """Report the state of the robot. A battery and a mode, which it has not, are as ``guard.needs`` requires."""
        return self._telemetry

    def start(self, plan: Plan) -> None:
        """Place a robot with the measures of the profile at the origin; an existing one stays where it is."""
        self._needs = plan.guard.needs
        if self._chassis != plan.chassis:
            self._chassis = plan.chassis
            self._wheels = [name for name, one in plan.chassis.bounds().items() if one.quantity is Quantity.WHEEL_SPEED]
            self.robot = simulated_robot(plan.chassis, self._physics)
            self._time: float | None = None
        self._say()

    def write(self, tick: Tick) -> None:
        """Let the robot follow its old actuators until now, then set the new ones."""
        if self._time is not None and tick.time > self._time:
            self.robot.advance(tick.time - self._time)
        self._time = tick.time
        if tick.send:
            self.robot.command(tick.actuators, tick.valid_for, tick.power)
        self._say()

    def stop(self, tick: Tick) -> None:
        """Command standstill and let the robot roll out."""
        self.write(tick)
        rolled = 0.0
        while not self.robot.standing and rolled < _ROLL_OUT:
            self.robot.advance(0.02)
            rolled += 0.02

    def _say(self) -> None:
        robot, needs = self.robot, self._needs
        here, doing = robot.now, robot.actuators
        said = Telemetry(
            time=self.clock.now(),
            follows=robot.obeys,
            state="follows" if robot.obeys else "no command came in time",
            armed=True if needs.armed else None,
            mode=needs.modes[0] if needs.modes else "",
            wheels={name: doing[name] for name in self._wheels},
            voltage=needs.voltage_above if needs.voltage_above > 0.0 else math.nan,
            charge=1.0 if needs.charge_above > 0.0 else math.nan,
        )
        if robot.chassis.units.known:
            said = said._replace(
                flying=here.z > 0.0, height=here.z, x=here.x, y=here.y, heading=here.heading, vx=here.vx, vy=here.vy,
                vz=here.vz, yaw_rate=here.yaw_rate,
            )  # fmt: skip
        self._telemetry = said


@dataclass(frozen=True, kw_only=True)
class SimulatedSinkOptions(SinkOptions):
    """The simulated robot that belongs to a profile."""

    kind: ClassVar[str] = "simulated"

    @property
    def says(self) -> frozenset[str]:
        """Name what it can report: all except the values of a real line."""
        return _SAYS

    def turns(self, plan: Plan) -> dict[str, bool]:
        """Name all: it gets the actuators. Its wiring is correct, so ``reverse`` does not change its motion."""
        return dict.fromkeys(plan.chassis.bounds(), True)

    def open(self) -> Sink:
        """Return the sink; the robot is placed when the drive begins."""
        return SimulatedSink()
