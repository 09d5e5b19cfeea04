"""The base class of vehicles, and what follows from it."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from enum import Enum
from typing import ClassVar, Literal, NamedTuple

from tenuto.basics.findings import Finding, unexpected
from tenuto.basics.number import Value
from tenuto.kinds.options import expected, option
from tenuto.kinds.quantities import LENGTH, TURN_SPEED
from tenuto.kinds.registry import Kinds
from tenuto.vehicles.units import DEGREES, DEGREES_A_SECOND, METRIC, Unit, Units
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# A command that was scaled to the limit is still within it after rounding.
ROUNDING = 1e-9
# A load above this is impossible at any speed.
NEVER = 1e6
# The expected position of a part, a track and a wheelbase.
PLACE = 'a length forward or to the left, such as "-0.3 m"'
TRACK = 'the distance between the middles of the tyres, such as "0.62 m"'
WHEELBASE = 'the distance between the axles, such as "0.8 m"'
# The forms of quantities without a unit.
LEVEL_FORMS = ("share", "duty", "pulse")
# A part of a velocity below this, m/s or rad/s, counts as zero.
_NOTHING = 1e-9


class Quantity(Enum):
    """The quantity of an actuator, with its unit; and the group of ``[actuators]`` to which it belongs."""

    WHEEL_SPEED = ("rad/s", "wheels")
    STEERING_ANGLE = ("rad", "angles")
    THRUST = ("N", "thrusts")
    SHARE = ("", "others")
    SPEED = ("m/s", "others")
    TURN_SPEED = ("rad/s ", "others")
    TILT = ("rad ", "others")
    STEERING_SHARE = (" ", "others")

    @property
    def unit(self) -> str:
        """Its unit in SI; empty for a share."""
        return self.value[0].strip()

    @property
    def shown(self) -> Unit:
        """The unit for people."""
        return {"rad": DEGREES, "rad/s": DEGREES_A_SECOND}.get(self.unit) or Unit(self.unit)

    def in_words(self, value: float) -> str:
        """Return a value for people, with its sign: whole degrees, a share without a unit."""
        unit = self.shown
        return f"{unit.number(value, '+.0f' if unit.name.startswith('deg') else '+.2f')} {unit.name}".rstrip()

    @property
    def group(self) -> str:
        """The group of all actuators of this quantity."""
        return self.value[1]

    @property
    def forms(self) -> tuple[str, ...]:
        """The forms in which it may be sent to an actuator, see `tenuto.vehicles.actuators.ActuatorPlan`."""
        if self is Quantity.WHEEL_SPEED:
            return ("rad/s", "rev/min", *LEVEL_FORMS, "contacts")
        return ("deg", *LEVEL_FORMS) if self is Quantity.STEERING_ANGLE else (*LEVEL_FORMS, "contacts")

    @property
    def drives(self) -> bool:
        """Whether the robot moves by it: all but steering."""
        return self not in (Quantity.STEERING_ANGLE, Quantity.STEERING_SHARE)


class Bounds(NamedTuple):
    """An actuator: its lowest and highest value, infinite if unknown, and its quantity."""

    low: float
    high: float
    quantity: Quantity

    @property
    def most(self) -> float:
        """The larger magnitude of both."""
        return max(abs(self.low), abs(self.high))


class Axle(NamedTuple):
    """Two steered wheels that one servo turns by a linkage.

    Attributes:
        of: their actuators. most: the largest angle midway between them in any motion, rad.
    """

    of: tuple[str, str]
    most: float


class Part(NamedTuple):
    """A part of a vehicle's drawing, seen from above.

    Attributes:
        name: of its actuators, without their suffix. x, y: m. angle: rad, if it does not steer.
        shape: "wheel", "roller" (a wheel with rollers), "track" or "thruster".
        most: of a thruster, N. roller: see `tenuto.vehicles.rollers.RollerWheel`, rad.
    """

    name: str
    x: float
    y: float
    angle: float = 0.0
    shape: str = "wheel"
    most: float = 1.0
    roller: float = 0.0


class Drawing(NamedTuple):
    """What to draw of a vehicle.

    Attributes:
        parts: its wheels or thrusters. body: "box" (around its wheels), "boat" (with a bow) or "disc".
        front: how far the box extends ahead of its reference point, m; None for as far as the wheels need.
        radius: of its wheels, m.
    """

    parts: tuple[Part, ...] = ()
    body: str = "box"
    front: float | None = None
    radius: float = 0.1


class Inertia(NamedTuple):
    """How a simulated vehicle follows its actuators.

    Attributes:
        motor_lag: time constant of the motors, s. body_lag: of the body, s; 0 for none.
        drag: of a floating vehicle: N per m/s along each axis and N·m per rad/s; None for others.
    """

    motor_lag: float = 0.12
    body_lag: float = 0.0
    drag: tuple[float, float, float, float] | None = None


class ChassisLimits(NamedTuple):
    """The greatest speeds of a vehicle.

    Attributes:
        straight: the fastest straight ahead, m/s. sideways, up: likewise; 0 if it cannot.
        turn: the fastest turn, on the spot if it can, rad/s.
        smallest_radius: of the path of its reference point, m; 0 if it turns on the spot.
    """

    straight: float
    sideways: float
    up: float
    turn: float
    smallest_radius: float


class Sides(NamedTuple):
    """The two sides of a robot that turns by their difference, as coordinates of its velocity.

    Attributes:
        left, right: distance of each from the reference point, m.
    """

    left: float
    right: float

    def of(self, velocity: VelocityCommand) -> tuple[float, float]:
        """Return the forward speeds of the left and the right side, m/s."""
        return velocity.vx - velocity.yaw_rate * self.left, velocity.vx + velocity.yaw_rate * self.right

    def velocity(self, left: float, right: float) -> VelocityCommand:
        """Return the velocity for two speeds of the sides, m/s."""
        track = self.left + self.right
        return VelocityCommand((left * self.right + right * self.left) / track, 0.0, 0.0, (right - left) / track)


class Arcs(ABC):
    """Forward speed and arc as coordinates of a velocity: the arc is sideways (1) and turn (rad/m) per 1 m/s forward.

    The arc is where the steered wheels point, so a robot at standstill has one too.

    Attributes:
        rate: the steering rate, rad/s.
    """

    __slots__ = ()
    rate: float

    @abstractmethod
    def share(self, start: tuple[float, float], end: tuple[float, float], dt: float) -> float:
        """Return how far the wheels get on the straight way from one arc to another in ``dt`` s, 0…1."""


# The coordinates in which the command of a vehicle changes: see `tenuto.driving.ramps.CommandRamp`.
Way = Literal["each", "straight"] | Sides | Arcs


class Chassis(ABC):
    """A vehicle: its inverse and forward kinematics, and its limits.

    The velocity is that of the reference point, in the robot's own frame (ISO 8855): see `VelocityCommand`.

    The velocities within its limits are one exact set: those that are `possible` with a `load` of at most 1. It is
    convex, except where a wheel steers and an arc has an end. `fits`, `within_reach` and the ramps all use it.
    """

    __slots__ = ()

    @property
    def units(self) -> Units:
        """The units for people; its own are m/s and rad/s, or shares if the units are %."""
        return METRIC

    @property
    def ramp_way(self) -> Way:
        """The coordinates in which its velocity changes, if the style has none of its own."""
        return "each"

    @property
    def jerks(self) -> frozenset[str]:
        """The jerk limits that it can keep: "jerk", "turn_jerk"."""
        return frozenset(("jerk", "turn_jerk"))

    def sides(self) -> Sides | None:
        """Return its two driven sides; None if it has none."""
        return None

    def follows(self, command: VelocityCommand, actuators: Mapping[str, float], dt: float) -> bool:
        """Return whether the parts that turn reach a command within ``dt`` s, from the present actuator values."""
        return True

    @property
    def couples(self) -> bool:
        """Whether a command along one axis also moves it along another."""
        return False

    @property
    def lessens(self) -> bool:
        """Whether, for each possible command, each axis alone can also be reduced."""
        return False

    @abstractmethod
    def inverse(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> dict[str, Value]:
        """Return the actuator values for a velocity; not limited here, see `within_reach`.

        Args:
            vx, vy, vz, yaw_rate: m/s and rad/s, numbers or arrays of one shape.

        Returns:
            Actuator → wheel speed (rad/s), wheel angle (rad), thrust (N) or share (−1…1), as its name says.
        """

    @abstractmethod
    def forward(self, actuators: Mapping[str, Value]) -> tuple[Value, Value, Value, Value]:
        """Return the velocity for actuator values: vx, vy, vz, yaw_rate. The inverse of `inverse`.

        With more actuators than axes, it is the least-squares fit if they disagree.
        """

    @abstractmethod
    def load(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> Value:
        """Return the load of the hardest-working actuator as a share of its limit."""

    @abstractmethod
    def bounds(self) -> dict[str, Bounds]:
        """Return the quantity and limits of each actuator, in the order of `inverse`."""

    def shared_limits(self) -> tuple[tuple[tuple[str, ...], float], ...]:
        """Return the actuators that share a limit, and the largest root of their summed squares; here: none do.

        It is in the unit of these actuators, and applies in addition to their `bounds`.
        """
        return ()

    def drawing(self) -> Drawing:
        """Return its drawing, seen from above; here: a disc."""
        return Drawing(body="disc")

    def inertia(self) -> Inertia:
        """Return how a simulated one follows its actuators."""
        return Inertia()

    def possible(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> tuple[Value, Value, Value, Value]:
        """Return the nearest velocity in a direction that is possible at some speed; here: the same velocity."""
        return vx, vy, vz, yaw_rate

    def limits(self) -> ChassisLimits:
        """Describe the fastest straight, sideways, up and turn, and the smallest radius."""

        def fastest(command: VelocityCommand) -> float:
            if max(map(abs, self.possible(*command))) < _NOTHING:
                return 0.0
            load = self.load(*command)
            return 1.0 / load if load > 0.0 else math.inf

        return ChassisLimits(
            fastest(VelocityCommand(vx=1.0)),
            fastest(VelocityCommand(vy=1.0)),
            fastest(VelocityCommand(vz=1.0)),
            fastest(VelocityCommand(yaw_rate=1.0)),
            0.0,
        )

    def actuators(
        self,
        command: VelocityCommand,
        before: Mapping[str, float] | None = None,
        dt: float = 0.0,
        aim: VelocityCommand | None = None,
    ) -> dict[str, float]:
        """Return the actuator values for a command that is within reach.

        Args:
            command: the velocity.
            before: the result of the last call, for parts that cannot change at once.
            dt: seconds since then.
            aim: at standstill, the velocity that steered wheels should point for; otherwise they stay as they are.
        """
        return self.inverse(*command)

    def fits(self, command: VelocityCommand) -> bool:
        """Return whether a command is within the limits."""
        possible = self.possible(*command)
        same = all(abs(a - b) <= ROUNDING for a, b in zip(possible, command, strict=True))
        return same and self.load(*command) <= 1.0 + ROUNDING

    def within_reach(self, command: VelocityCommand) -> tuple[VelocityCommand, float]:
        """Scale a velocity down to the limits, on the same arc: all of it by one share.

        Clipping only the fastest part would leave the arc.

        Returns:
            The velocity, and its share 0…1 of the one asked for: 1 if it was within the limits, 0 if the
            direction is impossible.
        """
        possible = VelocityCommand(*self.possible(*command))
        load = self.load(*possible)
        if load <= 1.0:
            return possible, 1.0
        if load > NEVER:
            return STANDSTILL, 0.0
        return VelocityCommand(*(axis / load for axis in possible)), 1.0 / load

    def cause(self, command: VelocityCommand) -> str:
        """Describe what prevents a command; empty if nothing does. For `explain` only."""
        kept, share = self.within_reach(command)
        if kept == command:
            return ""
        parts = self.cannot(command)
        said = [f"this vehicle cannot go {' and '.join(parts)} like that"] if parts else []
        if 0.0 < share < 1.0:
            does, bounds = self.inverse(*kept), self.bounds()
            full = [
                name for name, value in does.items()
                if min(abs(value - bounds[name].low), abs(value - bounds[name].high)) <= 1e-6 * bounds[name].most
            ]  # fmt: skip
            said.append(f"{', '.join(full) or 'it'} cannot do more: everything is slowed to {100 * share:.0f} %")
        return "; ".join(said) or "this vehicle cannot do that"

    def axles(self) -> Mapping[str, Axle]:
        """Name the axles whose wheels one servo can turn together; here: none."""
        return {}

    def cannot(self, command: VelocityCommand) -> tuple[str, ...]:
        """Name the parts of a velocity that are impossible as asked, such as ``("sideways",)``."""
        possible, share = self.within_reach(command)
        if share > 0.0:
            possible = VelocityCommand(*self.possible(*command))
        return tuple(
            name
            for name, asked, does in zip(("forward", "sideways", "up", "turn"), command, possible, strict=True)
            if abs(asked - does) > 1e-6
        )


class Beginning(NamedTuple):
    """The beginning of a profile for a vehicle, as TOML: slow, with measures to be filled in.

    Attributes:
        chassis: the lines of ``[chassis]`` below its kind; each measure with a comment about what to measure.
        style: the kind of style. speeds: of ``[speeds]``. acceleration: along the ground; of a
            vehicle without measures the time to full.
    """

    chassis: str
    style: str = "arcade"
    speeds: tuple[tuple[str, str], ...] = (("forward", "0.4 m/s"), ("backward", "0.3 m/s"), ("turn", "45 deg/s"))
    acceleration: str = "0.5 m/s^2"


# A measure of several vehicles, with its first value.
WHEEL_BEGINS = 'wheel_radius = "0.1 m"     # measure: from the middle of the axle to the ground\n'


@dataclass(frozen=True, kw_only=True)
class VehicleOptions(ABC):
    """The table ``[chassis]`` of a vehicle: the measures that a builder takes with a tape.

    Attributes:
        kind: its name in profiles.
        turns_by: the one measure between its wheels' speeds and its turning; empty if there are several. Where
            wheels steer, their angles and their speeds both turn the robot, and one scale cannot tell which is wrong.
        usual_priority: the priority if the profile sets none.
        beginning: the beginning of a profile; None if it can only be written by hand.
        picture: three lines of seven characters, seen from above, forward is up.
        in_shares: it has no measures, and all its speeds are shares of full.
        full_is_known: its greatest speed does not depend on the speeds in the profile.
    """

    kind: ClassVar[str]
    turns_by: ClassVar[str] = ""
    usual_priority: ClassVar[str] = "arc"
    beginning: ClassVar[Beginning | None] = None
    picture: ClassVar[tuple[str, ...]] = ("       ", "   ?   ", "       ")
    in_shares: ClassVar[bool] = False
    full_is_known: ClassVar[bool] = True
    priority: Literal["arc", "forward", "turn", "up"] | None = option(
        'what is kept if the command exceeds the vehicle: "arc", "forward", "turn" or "up"', None
    )

    @abstractmethod
    def chassis(self, full: VelocityCommand) -> Chassis:
        """Return the vehicle; ``full`` is the velocity at the ends of the sticks, all above 0."""

    def missing(self) -> str | None:
        """Name a required option that is missing; None if there is none."""
        return None

    def errors(self) -> Iterator[Finding]:
        """List the errors of the vehicle, with keys of its own table; here: missing options."""
        missing = self.missing()
        if missing is not None:
            yield unexpected(missing, expected(self, missing), "nothing", "add it")

    def turning_length(self) -> float | None:
        """Return the measure that ``turns_by`` names, m; None if the profile does not set it."""
        value = getattr(self, self.turns_by, None) if self.turns_by else None
        return value if isinstance(value, float) else None


@dataclass(frozen=True, kw_only=True)
class WheelsOptions(VehicleOptions):
    """The options common to vehicles on wheels."""

    wheel_radius: float = option('a length, such as "0.11 m"', dimension=LENGTH)
    max_wheel_speed: float | None = option('a turning speed, such as "120 rev/min"', None, dimension=TURN_SPEED)

    @property
    def fastest(self) -> float:
        """The greatest speed of a wheel, rad/s."""
        return self.max_wheel_speed or math.inf


VEHICLES: Kinds[VehicleOptions] = Kinds("a kind of vehicle", "tenuto.vehicles", VehicleOptions)
