"""Third stage, the style: what the controls of a profile mean for this robot."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass
from typing import NamedTuple

from tenuto.styles import mixing
from tenuto.styles.mixing import STEERING_KINDS, Intent
from tenuto.styles.speeds import Speeds, Turning
from tenuto.vehicles.thrusters import Thrusters
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand, field_to_body, four_wheel_demand


class Setting(NamedTuple):
    """What is chosen while driving, as far as a style needs to know it.

    Attributes:
        level: the share of all speeds, 0…1.
        steering: the steering kind of a four-wheel-steered robot, one of `mixing.STEERING_KINDS`.
        rear_share: how much of the stick's angle the rear wheels take with ``steering = "counter"``, 0…1.
        heading_zero: the heading that counts as the field's forward, rad.
    """

    level: float = 1.0
    steering: str = "front"
    rear_share: float = 1.0
    heading_zero: float = 0.0


class Style(ABC):
    """What the controls mean: from shaped positions to an intent, and from an intent to a velocity."""

    __slots__ = ()

    @abstractmethod
    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Read the intent from the shaped positions, control name → −1…1."""

    @abstractmethod
    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot, and so must be seen at rest before it may."""

    def demand(
        self, intent: Intent[float], speeds: Speeds, setting: Setting, shaped: Mapping[str, float]
    ) -> VelocityCommand:
        """Give the velocity that the driver asks for."""
        return speeds.demand(intent, setting.level)

    def aim(self, intent: Intent[float], setting: Setting) -> VelocityCommand | None:
        """Give the velocity that steered wheels should point for while the robot stands; None where that is unknown."""
        return None


class TurningStick(Style):
    """Styles in which a stick turns the robot: what it sets is up to ``turning``; None for the turning speed."""

    __slots__ = ()
    turning: Turning | None

    def demand(
        self, intent: Intent[float], speeds: Speeds, setting: Setting, shaped: Mapping[str, float]
    ) -> VelocityCommand:
        """Give the velocity, its turning as `Turning` says."""
        plain = speeds.demand(intent, setting.level)
        return plain if self.turning is None else self.turning.apply(plain, intent.turn)


class Steered(Style):
    """Styles with a throttle and a steering stick; the share of the latter is the intent's turn."""

    __slots__ = ()
    throttle: str
    steer: str

    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Read the intent from the shaped positions."""
        return Intent(shaped[self.throttle], 0.0, 0.0, shaped[self.steer])

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot."""
        return (self.throttle, self.steer)


@dataclass(frozen=True, slots=True)
class Arcade(TurningStick):
    """One control drives, one turns; ``sticks`` is 1 where both are axes of a single stick.

    Attributes:
        corner: see `mixing.in_corner`. turning: what the turning stick sets; None for the turning speed.
    """

    forward: str
    turn: str
    corner: str = "free"
    turning: Turning | None = None

    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Read the intent from the shaped positions."""
        forward, turn = shaped[self.forward], shaped[self.turn]
        if self.corner != "free":
            forward, turn = mixing.in_corner(forward, turn, self.corner)
        return Intent(forward, 0.0, 0.0, turn)

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot."""
        return (self.forward, self.turn)


@dataclass(frozen=True, slots=True)
class Pressed(TurningStick):
    """Triggers or the four ways of a pad: a control each for forward and backward; one or two to turn.

    Attributes:
        forward, backward: 0…1 each. left: turns left; right: turns right, or None where ``left`` goes both ways.
    """

    forward: str
    backward: str
    left: str
    right: str | None = None
    corner: str = "free"
    turning: Turning | None = None

    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Read the intent from the shaped positions."""
        turn = shaped[self.left] - (shaped[self.right] if self.right is not None else 0.0)
        forward, turn = mixing.in_corner(shaped[self.forward] - shaped[self.backward], turn, self.corner)
        return Intent(forward, 0.0, 0.0, turn)

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot."""
        return tuple(name for name in (self.forward, self.backward, self.left, self.right) if name is not None)


@dataclass(frozen=True, slots=True)
class Tank(Style):
    """A stick for each side."""

    left: str
    right: str

    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Read the intent from the shaped positions."""
        forward, turn = mixing.tank(shaped[self.left], shaped[self.right])
        return Intent(forward, 0.0, 0.0, turn)

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot."""
        return (self.left, self.right)


@dataclass(frozen=True, slots=True)
class Car(Steered):
    """Throttle and steering: the stick sets the radius of the arc, and keeps it when backing, as a car does.

    Attributes:
        radius: at the end of the stick, m.
    """

    throttle: str
    steer: str
    radius: float

    def demand(
        self, intent: Intent[float], speeds: Speeds, setting: Setting, shaped: Mapping[str, float]
    ) -> VelocityCommand:
        """Give the velocity: the yaw rate is the speed over the radius, with its sign."""
        vx, _, _, _ = speeds.demand(intent, setting.level)
        return VelocityCommand(vx, 0.0, 0.0, vx * intent.turn / self.radius)

    def aim(self, intent: Intent[float], setting: Setting) -> VelocityCommand | None:
        """Point the wheels for the arc that the stick shows, as a car at a stand does."""
        return VelocityCommand(1.0, 0.0, 0.0, intent.turn / self.radius)


@dataclass(frozen=True, slots=True)
class FourWheel(Steered):
    """Throttle and steering of a robot that steers both axles; which way the rear one steers is chosen while driving.

    Attributes:
        max_angle: of the axles at the end of the stick, rad. wheelbase: m.
        steering: "front", "rear", "counter" or "crab"; None for what is chosen.
    """

    throttle: str
    steer: str
    max_angle: float
    wheelbase: float
    steering: str | None = None

    def demand(
        self, intent: Intent[float], speeds: Speeds, setting: Setting, shaped: Mapping[str, float]
    ) -> VelocityCommand:
        """Give the velocity at which both axles move along their wheels."""
        return self._at(speeds.demand(intent, setting.level).vx, intent.turn, setting)

    def aim(self, intent: Intent[float], setting: Setting) -> VelocityCommand | None:
        """Point the wheels where the stick shows."""
        return self._at(1.0, intent.turn, setting)

    def _at(self, vx: float, steer: float, setting: Setting) -> VelocityCommand:
        kind = self.steering or setting.steering
        front, rear = STEERING_KINDS[kind]
        if kind == "counter":
            rear *= setting.rear_share
        return four_wheel_demand(vx, steer, front, rear, self.max_angle, self.wheelbase)


@dataclass(frozen=True, slots=True)
class AnyDirection(Style):
    """Two translations and a turn.

    Attributes:
        heading: a control whose position is the robot's heading, −1…1 for −180…180 deg, left positive: forward is the
            field's forward then, however the robot is turned. None: forward is where the robot faces.
    """

    forward: str
    sideways: str
    turn: str
    heading: str | None = None

    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Read the intent from the shaped positions."""
        return Intent(shaped[self.forward], shaped[self.sideways], 0.0, shaped[self.turn])

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot."""
        return (self.forward, self.sideways, self.turn)

    def demand(
        self, intent: Intent[float], speeds: Speeds, setting: Setting, shaped: Mapping[str, float]
    ) -> VelocityCommand:
        """Give the velocity, turned from the field's axes to the robot's where a heading is known."""
        asked = speeds.demand(intent, setting.level)
        if self.heading is None:
            return asked
        return field_to_body(asked, shaped[self.heading] * math.pi - setting.heading_zero)


@dataclass(frozen=True, slots=True)
class Flight(Style):
    """A control each for climbing, turning, forward and sideways; any but ``climb`` may be left out."""

    climb: str
    turn: str | None = None
    forward: str | None = None
    sideways: str | None = None

    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Read the intent from the shaped positions."""
        return Intent(
            shaped[self.forward] if self.forward is not None else 0.0,
            shaped[self.sideways] if self.sideways is not None else 0.0,
            shaped[self.climb],
            shaped[self.turn] if self.turn is not None else 0.0,
        )

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot."""
        return tuple(name for name in (self.climb, self.turn, self.forward, self.sideways) if name is not None)


@dataclass(frozen=True, slots=True)
class ThrusterSticks(Style):
    """Each thruster on its own stick.

    Attributes:
        each: thruster → control. chassis: the boat, which says what velocity the thrusters make.
    """

    each: tuple[tuple[str, str], ...]
    chassis: Thrusters

    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Give the velocity of the thrusters as shares of the fastest along each axis."""
        velocity = self.chassis.velocity_of({thruster: shaped[control] for thruster, control in self.each})
        straight, sideways, up, turn, _ = self.chassis.limits()
        most = (straight, sideways, up, turn)
        return Intent(*(axis / full if full else 0.0 for axis, full in zip(velocity, most, strict=True)))

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot."""
        return tuple(control for _, control in self.each)

    def demand(
        self, intent: Intent[float], speeds: Speeds, setting: Setting, shaped: Mapping[str, float]
    ) -> VelocityCommand:
        """Give the velocity of the thrusters, all of it slowed by one share where a part is faster than its speed."""
        velocity = self.chassis.velocity_of({thruster: shaped[control] for thruster, control in self.each})
        ends = speeds.demand(Intent(*(math.copysign(1.0, axis) for axis in velocity)), 1.0)
        share = min(
            (abs(end / axis) for axis, end in zip(velocity, ends, strict=True) if abs(axis) > abs(end)), default=1.0
        )
        if velocity == STANDSTILL:
            return STANDSTILL
        return VelocityCommand(*(setting.level * share * axis for axis in velocity))
