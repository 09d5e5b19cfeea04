"""Simulated robots: motors that lag, stick and saturate, bodies with mass, and a pose on the ground or in the air.

The model is just good enough that a wrong sign, a missing limit or a jump shows on the path. Same seed, same path.
"""

from __future__ import annotations

import math
import random
from collections.abc import Mapping
from dataclasses import dataclass
from typing import NamedTuple

from tenuto.driving.watchdog import CommandWatchdog
from tenuto.motion.odometry import along_arc
from tenuto.vehicles import Chassis
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# Actuators and speeds count as constant for this long, s, while the pose is integrated.
_SUBSTEP = 0.005
# A body slower than this, m/s and rad/s, counts as standing.
_STANDING_BELOW = 1e-3


class PathPoint(NamedTuple):
    """The state of a robot at one time: s, m, m, rad (left positive), m/s, rad/s; then values that few robots have."""

    time: float
    x: float
    y: float
    heading: float
    vx: float
    yaw_rate: float
    vy: float = 0.0
    z: float = 0.0
    vz: float = 0.0


@dataclass(frozen=True, slots=True)
class Physics:
    """The deviations of a simulated robot from an ideal one.

    Attributes:
        motor_lag: time constant of motors and steering, s: w' = (command − w)/lag; 0 for none.
        friction: a standing motor does not start below this share of its largest command so far.
        slip: the share of its speed that a wheel loses to slip, different from wheel to wheel and over time.
        body_lag: time constant with which the body follows its wheels (mass over the grip of its tyres), s.
        mass: of a boat, kg. inertia: of a boat, kg·m². With the drag, they determine its motion under thrust.
        seed: of the random numbers.
    """

    motor_lag: float = 0.12
    friction: float = 0.0
    slip: float = 0.0
    body_lag: float = 0.0
    mass: float = 30.0
    inertia: float = 8.0
    seed: int = 1


class SimulatedRobot:
    """A robot that follows its actuators.

    Its speed is what the chassis makes of its actuators (`Chassis.forward`); its pose is integrated along exact arcs.

    Attributes:
        path: its states, one for each call of `advance`, and the start.
        actuators: their present values.
        history: the actuators at each point of the path.
    """

    def __init__(self, chassis: Chassis, physics: Physics | None = None) -> None:
        """Place a robot at the origin, facing along x."""
        self.chassis = chassis
        self.physics = physics or Physics()
        self._random = random.Random(self.physics.seed)
        self._command = dict.fromkeys(chassis.actuators(STANDSTILL), 0.0)
        self._bounds = chassis.bounds()
        self._steers = frozenset(name for name, one in self._bounds.items() if not one.quantity.drives)
        self._largest = dict.fromkeys(self._command, 0.0)
        self.actuators = dict(self._command)
        self._body = STANDSTILL
        self._watchdog = CommandWatchdog()
        self._watchdog.feed(0.0, math.inf, standstill=True)  # it starts at standstill
        self.path = [PathPoint(0.0, 0.0, 0.0, 0.0, 0.0, 0.0)]
        self.history = [dict(self.actuators)]

    @property
    def now(self) -> PathPoint:
        """The present state of the robot."""
        return self.path[-1]

    @property
    def standing(self) -> bool:
        """Whether it stands, and none of its driving actuators still moves."""
        moving = (value for name, value in self.actuators.items() if name not in self._steers)
        return max(map(abs, (*self._body, *moving)), default=0.0) < _STANDING_BELOW

    @property
    def obeys(self) -> bool:
        """Whether its last command is still valid."""
        return self._watchdog.may_move(self.now.time)

    def command(self, actuators: Mapping[str, float], valid_for: float = math.inf, power: bool = True) -> None:
        """Set the command of each actuator; it is limited to what the actuator can do.

        Args:
            actuators: name → value.
            valid_for: after this time without another command the robot stops by itself, s.
            power: without it the robot rolls out as if nothing were commanded.
        """
        drives = [value for name, value in actuators.items() if name not in self._steers]
        self._watchdog.feed(self.now.time, valid_for, not any(drives))
        if not power or not self._watchdog.may_move(self.now.time):
            actuators = {name: value if name in self._steers else 0.0 for name, value in actuators.items()}
        for name, value in actuators.items():
            low, high, _ = self._bounds[name]
            self._command[name] = min(max(value, low), high)
            self._largest[name] = max(self._largest[name], abs(value))

    def advance(self, seconds: float) -> PathPoint:
        """Advance the time, and return the new state."""
        time, x, y, heading, _, _, _, z, _ = self.now
        steps = max(1, math.ceil(seconds / _SUBSTEP))
        dt = seconds / steps
        for step in range(steps):
            if not self._watchdog.may_move(time + step * dt):
                self._command |= {name: 0.0 for name in self._command if name not in self._steers}
            self._turn_motors(dt)
            self._body = vx, vy, vz, yaw_rate = self._move(dt)
            x, y, heading = along_arc(x, y, heading, vx * dt, vy * dt, yaw_rate * dt)
            z += vz * dt
        vx, vy, vz, yaw_rate = self._body
        self.path.append(PathPoint(time + seconds, x, y, heading, vx, yaw_rate, vy, z, vz))
        self.history.append(dict(self.actuators))
        return self.now

    def touch_down(self) -> None:
        """Stand on the ground, at height 0, at the present position."""
        self._command = dict.fromkeys(self._command, 0.0)
        self.actuators = dict(self._command)
        self._body = STANDSTILL
        self.path[-1] = self.now._replace(z=0.0, vx=0.0, vy=0.0, vz=0.0, yaw_rate=0.0)

    def _turn_motors(self, dt: float) -> None:
        """Let every actuator follow its command; a standing one needs more than its friction to start."""
        share = 1.0 - math.exp(-dt / self.physics.motor_lag) if self.physics.motor_lag > 0.0 else 1.0
        for name, command in self._command.items():
            value = self.actuators[name]
            stuck = abs(command) < self.physics.friction * self._largest[name] and name not in self._steers
            self.actuators[name] = value + share * ((0.0 if stuck else command) - value)

    def _move(self, dt: float) -> VelocityCommand:
        """Return the body's velocity after ``dt`` s."""
        slip = self.physics.slip
        felt = self.actuators
        if slip:
            felt = {
                name: value if name in self._steers else value * (1.0 - slip * self._random.uniform(0.0, 2.0))
                for name, value in felt.items()
            }
        driven = self.chassis.forward(felt)
        if self.physics.body_lag <= 0.0:
            return VelocityCommand(*driven)
        share = 1.0 - math.exp(-dt / self.physics.body_lag)
        return VelocityCommand(*(v + share * (w - v) for v, w in zip(self._body, driven, strict=True)))


class SimulatedBoat(SimulatedRobot):
    """A floating vehicle: thrust against mass and linear drag, m·v' = F − d·v, exact over each step."""

    def _move(self, dt: float) -> VelocityCommand:
        """Let the velocity approach the one at which the drag balances the thrust."""
        steady, drags = self.chassis.forward(self.actuators), self.chassis.inertia().drag or (0.0,) * 4
        masses = (self.physics.mass, self.physics.mass, self.physics.mass, self.physics.inertia)
        return VelocityCommand(
            *(
                end + (v - end) * math.exp(-dt * drag / mass)
                for v, end, drag, mass in zip(self._body, steady, drags, masses, strict=True)
            )
        )


def simulated_robot(chassis: Chassis, physics: Physics | None = None) -> SimulatedRobot:
    """Make the simulated robot for a chassis; without physics, with the usual values of its kind."""
    inertia = chassis.inertia()
    physics = physics or Physics(motor_lag=inertia.motor_lag, body_lag=inertia.body_lag)
    return (SimulatedBoat if inertia.drag is not None else SimulatedRobot)(chassis, physics)
