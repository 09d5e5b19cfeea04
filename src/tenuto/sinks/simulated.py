"""A sink that drives a simulated robot."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from tenuto.driving.plan import Plan
from tenuto.driving.tick import Tick
from tenuto.sim.robots import Physics, SimulatedRobot, simulated_robot
from tenuto.sinks.base import Sink, SinkOptions
from tenuto.vehicles import Chassis

# How long the robot may take to roll out after the last tick, in simulated seconds.
_ROLL_OUT = 10.0


class SimulatedSink(Sink):
    """Drives the simulated robot that belongs to a profile.

    Attributes:
        robot: the simulated robot, there from `start` on.
    """

    name = "simulated robot"
    robot: SimulatedRobot

    def __init__(self, physics: Physics | None = None) -> None:
        """Say how far from ideal the robot is; as is usual for its kind if nothing is given."""
        self._physics = physics
        self._chassis: Chassis | None = None

    def start(self, plan: Plan) -> None:
        """Place a robot with the measures of the profile at the origin; one that is there already stays where it is."""
        if self._chassis == plan.chassis:
            return
        self._chassis = plan.chassis
        self.robot = simulated_robot(plan.chassis, self._physics)
        self._time: float | None = None

    def write(self, tick: Tick) -> None:
        """Let the robot follow its old actuators up to now, then give it the new ones."""
        if self._time is not None and tick.time > self._time:
            self.robot.advance(tick.time - self._time)
        self._time = tick.time
        if tick.send:
            self.robot.command(tick.actuators, tick.valid_for, tick.power)

    def stop(self, tick: Tick) -> None:
        """Command standstill and let the robot roll out."""
        self.write(tick)
        rolled = 0.0
        while not self.robot.standing and rolled < _ROLL_OUT:
            self.robot.advance(0.02)
            rolled += 0.02


@dataclass(frozen=True, kw_only=True)
class SimulatedSinkOptions(SinkOptions):
    """The simulated robot that belongs to a profile."""

    kind: ClassVar[str] = "simulated"

    def turns(self, plan: Plan) -> dict[str, bool]:
        """Name all: it is told the actuators. Its wiring is right, so a motor that is reversed turns as before."""
        return dict.fromkeys(plan.chassis.bounds(), True)

    def open(self) -> Sink:
        """Return it; it is placed when the drive begins."""
        return SimulatedSink()
