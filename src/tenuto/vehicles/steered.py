"""Wheels that steer: cars, four-wheel steering, and modules that each turn and drive.

All are one thing: a rigid body. A wheel at (x, y) moves over the ground with (vx − yaw rate·y, vy + yaw rate·x); it
must point that way and roll at that speed, so all wheels turn about one instantaneous centre. See "Introduction to
Autonomous Mobile Robots", MIT Press, 2nd edition, section 3.2; for cars this is Ackermann's geometry with an
electronic differential.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import ClassVar, Literal, NamedTuple

from tenuto.basics.number import Value, arctan2, cos, hypot, larger, ratio, side_of, sin, smaller
from tenuto.kinds.options import option
from tenuto.kinds.quantities import ANGLE, LENGTH, TURN_SPEED
from tenuto.vehicles.actuators import middle_angle
from tenuto.vehicles.base import (
    TRACK,
    WHEEL_BEGINS,
    WHEELBASE,
    Arcs,
    Axle,
    Beginning,
    Bounds,
    Chassis,
    ChassisLimits,
    Drawing,
    Part,
    Quantity,
    Way,
    WheelsOptions,
)
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

_QUARTER = math.pi / 2.0


class Wheel(NamedTuple):
    """A wheel of a steered chassis.

    Attributes:
        name: such as "front_left".
        x, y: its position from the reference point, m: forward and left positive.
        max_angle: the greatest angle to each side, rad; 0 for a fixed wheel.
        driven: whether a motor turns it.
    """

    name: str
    x: float
    y: float
    max_angle: float
    driven: bool = True


@dataclass(frozen=True)
class SteeredWheels(Chassis):
    """Wheels that steer up to an angle, on a rigid body.

    Attributes:
        wheels: see `Wheel`.
        wheel_radius: m. max_wheel_speed: rad/s. steering_rate: of the wheels, rad/s.
    """

    wheels: tuple[Wheel, ...]
    wheel_radius: float
    max_wheel_speed: float = math.inf
    steering_rate: float = math.inf

    @property
    def ramp_way(self) -> Way:
        """Its wheels steer at standstill too, at a rate of their own."""
        return self._arcs

    @property
    def jerks(self) -> frozenset[str]:
        """The jerk of the forward speed; the turn is limited by the steering rate."""
        return frozenset(("jerk",))

    @cached_property
    def _arcs(self) -> _WheelArcs:
        places = tuple((wheel.x, wheel.y) for wheel in self.steers)
        return _WheelArcs(places, self.steering_rate)

    @cached_property
    def steers(self) -> tuple[Wheel, ...]:
        """The wheels that steer."""
        return tuple(wheel for wheel in self.wheels if wheel.max_angle > 0.0)

    @cached_property
    def _fixed(self) -> tuple[Wheel, ...]:
        return tuple(wheel for wheel in self.wheels if wheel.max_angle == 0.0)

    @cached_property
    def _driven(self) -> tuple[tuple[float, float], ...]:
        """The positions of the driven wheels."""
        return tuple((wheel.x, wheel.y) for wheel in self.wheels if wheel.driven)

    @cached_property
    def _slopes(self) -> tuple[tuple[float, float, float], ...]:
        """The positions of the steered wheels, and the tangent of the greatest angle of each."""
        return tuple((one.x, one.y, math.tan(min(one.max_angle, _QUARTER - 1e-9))) for one in self.steers)

    def inverse(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> dict[str, Value]:
        """Return the angle of each steered wheel, rad, left positive, and the speed of each driven one, rad/s."""
        if type(vx) is float and type(vy) is float and type(yaw_rate) is float:
            return self._told(vx, vy, yaw_rate)
        found: dict[str, Value] = {}
        for wheel in self.wheels:
            # + 0.0 makes −0.0 a plain 0: the angle of standstill is 0, not half a turn.
            ahead, left = vx - yaw_rate * wheel.y + 0.0, vy + yaw_rate * wheel.x + 0.0
            if wheel.max_angle > 0.0:
                # A wheel never points backwards: it rolls backwards instead.
                back = side_of(ahead)
                found[f"{wheel.name}_angle"] = arctan2(left * back, ahead * back)
                speed = back * hypot(ahead, left)
            else:
                speed = ahead
            if wheel.driven:
                found[f"{wheel.name}_wheel"] = speed / self.wheel_radius
        return found

    @cached_property
    def _names(self) -> tuple[tuple[str, str, float, float], ...]:
        """Name, angle and speed of each wheel, empty if it has none, and its position."""
        return tuple(
            (
                f"{one.name}_angle" if one.max_angle > 0.0 else "",
                f"{one.name}_wheel" if one.driven else "",
                one.x,
                one.y,
            )
            for one in self.wheels
        )

    def _told(self, vx: float, vy: float, yaw_rate: float) -> dict[str, float]:
        """Return `inverse` for plain floats, but faster."""
        found: dict[str, float] = {}
        radius = self.wheel_radius
        for angle, rolls, x, y in self._names:
            speed = ahead = vx - yaw_rate * y + 0.0
            if angle:
                left = vy + yaw_rate * x + 0.0
                back = -1.0 if ahead < 0.0 else 1.0
                found[angle] = math.atan2(left * back, ahead * back)
                speed = back * math.hypot(ahead, left)
            if rolls:
                found[rolls] = speed / radius
        return found

    def forward(self, actuators: Mapping[str, Value]) -> tuple[Value, Value, Value, Value]:
        """Return the velocity that fits angles and speeds best: least squares over the equations of each wheel.

        A driven wheel gives its speed along its direction; every wheel gives that it does not slide across it.
        """
        none = 0.0 * next(iter(actuators.values()))
        sums, sides = [[none] * 3 for _ in range(3)], [none] * 3
        for wheel in self.wheels:
            angle = actuators.get(f"{wheel.name}_angle", none)
            c, s = cos(angle), sin(angle)
            rows = [((-s, c, wheel.x * c + wheel.y * s), none)]
            if wheel.driven:
                rows.append(((c, s, wheel.x * s - wheel.y * c), actuators[f"{wheel.name}_wheel"] * self.wheel_radius))
            for row, value in rows:
                for i in range(3):
                    sides[i] = sides[i] + row[i] * value
                    for j in range(3):
                        sums[i][j] = sums[i][j] + row[i] * row[j]
        vx, vy, yaw_rate = _solved(sums, sides)
        return vx, vy, 0.0 * vx, yaw_rate

    def load(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> Value:
        """Return the speed of the fastest wheel as a share of its limit."""
        if type(vx) is float and type(vy) is float and type(yaw_rate) is float:
            fastest = 0.0
            for x, y in self._driven:
                ahead, left = vx - yaw_rate * y, vy + yaw_rate * x
                square = ahead * ahead + left * left
                if square > fastest:
                    fastest = square
            return math.sqrt(fastest) / (self.max_wheel_speed * self.wheel_radius)
        most = 0.0 * vx
        for x, y in self._driven:
            most = larger(most, hypot(vx - yaw_rate * y, vy + yaw_rate * x))
        return most / (self.max_wheel_speed * self.wheel_radius)

    def possible(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> tuple[Value, Value, Value, Value]:
        """Keep the forward speed, and reduce sideways and turn by one share, until no wheel exceeds its angle.

        With t the tangent of the greatest angle, a wheel's own condition is |vy + w·x| ≤ t·|vx − w·y|, on the side to
        which vx goes; for a share s of vy and w this is s·(|vy + w·x| + t·w·y·sign(vx)) ≤ t·|vx|.
        """
        for wheel in self._fixed:
            # A fixed wheel cannot be pushed sideways: the turn decides, because the driver steers it.
            vy = -yaw_rate * wheel.x
        if type(vx) is float and type(vy) is float and type(yaw_rate) is float:
            kept = self._kept(vx, vy, yaw_rate)
            return vx, vy * kept, 0.0 * vz, yaw_rate * kept
        share = 1.0 + 0.0 * vx
        side = side_of(vx)
        for x, y, slope in self._slopes:
            need = abs(vy + yaw_rate * x) + slope * yaw_rate * y * side
            most = ratio(slope * abs(vx), larger(need, 0.0 * need), math.inf)
            share = smaller(share, most)
        return vx, vy * share, 0.0 * vz, yaw_rate * share

    def _kept(self, vx: float, vy: float, yaw_rate: float) -> float:
        """Return the share of `possible` for plain floats: the ramp calls this many times a tick."""
        kept, ahead, turn = 1.0, abs(vx), -yaw_rate if vx < 0.0 else yaw_rate
        for x, y, slope in self._slopes:
            need = abs(vy + yaw_rate * x) + slope * turn * y
            if need > 0.0 and slope * ahead < kept * need:
                kept = slope * ahead / need
        return kept

    def bounds(self) -> dict[str, Bounds]:
        """Return the limits of each angle, rad, and wheel, rad/s."""
        most = Bounds(-self.max_wheel_speed, self.max_wheel_speed, Quantity.WHEEL_SPEED)
        found: dict[str, Bounds] = {}
        for wheel in self.wheels:
            if wheel.max_angle > 0.0:
                found[f"{wheel.name}_angle"] = Bounds(-wheel.max_angle, wheel.max_angle, Quantity.STEERING_ANGLE)
            if wheel.driven:
                found[f"{wheel.name}_wheel"] = most
        return found

    def axles(self) -> dict[str, Axle]:
        """Name ``front_axle`` and ``rear_axle``, if both wheels of it steer."""
        # Where all wheels steer, they turn farther in crab steering than in the tightest turn.
        tightest, sideways = (
            self.inverse(*self.possible(1.0, vy, 0.0, yaw_rate)) for vy, yaw_rate in ((0.0, 1e6), (1e6, 0.0))
        )
        found: dict[str, Axle] = {}
        for end in ("front", "rear"):
            names = f"{end}_left_angle", f"{end}_right_angle"
            if all(name in tightest for name in names):
                angles = [middle_angle(*(float(way[name]) for name in names)) for way in (tightest, sideways)]
                found[f"{end}_axle"] = Axle(names, max(map(abs, angles)))
        return found

    def drawing(self) -> Drawing:
        """Return its wheels."""
        return Drawing(tuple(Part(one.name, one.x, one.y) for one in self.wheels), radius=self.wheel_radius)

    def limits(self) -> ChassisLimits:
        """Describe the greatest speed and turn, and the smallest radius of the reference point's path."""
        vx, vy, _, yaw_rate = self.possible(1.0, 0.0, 0.0, 1e6)
        radius = math.hypot(vx, vy) / yaw_rate
        straight = 1.0 / self.load(1.0, 0.0, 0.0, 0.0) if self.max_wheel_speed < math.inf else math.inf
        turn = yaw_rate / self.load(vx, vy, 0.0, yaw_rate) if self.max_wheel_speed < math.inf else math.inf
        return ChassisLimits(straight, 0.0, 0.0, turn, radius)

    def actuators(
        self,
        command: VelocityCommand,
        before: Mapping[str, float] | None = None,
        dt: float = 0.0,
        aim: VelocityCommand | None = None,
    ) -> dict[str, float]:
        """Return angles and speeds. At standstill the wheels point in the direction of ``aim``, or stay as they are.

        While a wheel is still steering, no faster than ``steering_rate``, it only rolls with the part of its speed
        along its direction.
        """
        if command == STANDSTILL:
            found = dict.fromkeys(self.inverse(*command), 0.0)
            angles = self.inverse(*self.possible(*aim)) if aim is not None and aim != STANDSTILL else before
            if angles:
                found |= {f"{wheel.name}_angle": angles[f"{wheel.name}_angle"] for wheel in self.steers}
        else:
            found = self.inverse(*command)
        if before and self.steering_rate < math.inf:
            for wheel in self.steers:
                self._steer(found, before, wheel.name, self.steering_rate * dt)
        return found

    def _steer(self, found: dict[str, float], before: Mapping[str, float], name: str, most: float) -> None:
        """Turn one wheel by at most this angle, rad, and let it roll by the part along its direction."""
        wanted, was = found[f"{name}_angle"], before[f"{name}_angle"]
        angle = min(max(wanted, was - most), was + most)
        found[f"{name}_angle"] = angle
        if f"{name}_wheel" in found:
            found[f"{name}_wheel"] *= max(0.0, math.cos(wanted - angle))


@dataclass(frozen=True, slots=True)
class _WheelArcs(Arcs):
    """The arcs of steered wheels.

    Attributes:
        places: of the wheels that steer, m. rate: of steering, rad/s.
    """

    places: tuple[tuple[float, float], ...]
    rate: float

    def share(self, start: tuple[float, float], end: tuple[float, float], dt: float) -> float:
        """Return how far the slowest wheel lets the arc change.

        On the straight way from one arc to another the tangent of a wheel's angle is (a + b·s)/(c + d·s), which rises
        or falls all the way; the share s for the angle that it can reach is solved for.
        """
        if self.rate == math.inf:
            return 1.0
        most, share = self.rate * dt, 1.0
        for x, y in self.places:
            a, c = start[0] + start[1] * x, 1.0 - start[1] * y
            b, d = end[0] + end[1] * x - a, 1.0 - end[1] * y - c
            now, then = math.atan2(a, c), math.atan2(a + b, c + d)
            if abs(then - now) > most:
                slope = math.tan(now + math.copysign(most, then - now))
                share = min(share, (slope * c - a) / (b - slope * d))
        return max(share, 0.0)


def _solved(sums: list[list[Value]], sides: list[Value]) -> tuple[Value, Value, Value]:
    """Solve three equations by Cramer's rule, numbers or arrays; undetermined values are 0."""
    (a, b, c), (d, e, f), (g, h, i) = sums
    x, y, z = sides
    whole = a * (e * i - f * h) - b * (d * i - f * g) + c * (d * h - e * g)
    return (
        ratio(x * (e * i - f * h) - b * (y * i - f * z) + c * (y * h - e * z), whole, 0.0),
        ratio(a * (y * i - f * z) - x * (d * i - f * g) + c * (d * z - y * g), whole, 0.0),
        ratio(a * (e * z - y * h) - b * (d * z - y * g) + x * (d * h - e * g), whole, 0.0),
    )


def car(
    wheelbase: float,
    track: float,
    wheel_radius: float,
    max_steering: float,
    max_wheel_speed: float = math.inf,
    steering_rate: float = math.inf,
    driven: str = "rear",
) -> SteeredWheels:
    """Make a car: two fixed wheels at the rear, two steered in front; its reference point is the rear axle's middle.

    Args:
        wheelbase: between the axles, m. track: between the middles of the tyres of an axle, m. wheel_radius: m.
        max_steering: the angle of the inner wheel at full lock, rad.
        max_wheel_speed, steering_rate: rad/s. driven: "rear", "front" or "all".
    """
    half = track / 2.0
    front, rear = driven in ("front", "all"), driven in ("rear", "all")
    return SteeredWheels(
        (
            Wheel("front_left", wheelbase, half, max_steering, front),
            Wheel("front_right", wheelbase, -half, max_steering, front),
            Wheel("rear_left", 0.0, half, 0.0, rear),
            Wheel("rear_right", 0.0, -half, 0.0, rear),
        ),
        wheel_radius,
        max_wheel_speed,
        steering_rate,
    )


def four_wheel_steer(
    wheelbase: float,
    track: float,
    wheel_radius: float,
    max_steering: float,
    max_wheel_speed: float = math.inf,
    steering_rate: float = math.inf,
) -> SteeredWheels:
    """Make a chassis that steers and drives all four wheels. Its reference point is its middle; arguments as `car`."""
    return SteeredWheels(
        tuple(
            Wheel(f"{end}_{side}", x * wheelbase / 2.0, y * track / 2.0, max_steering)
            for end, x in (("front", 1.0), ("rear", -1.0))
            for side, y in (("left", 1.0), ("right", -1.0))
        ),
        wheel_radius,
        max_wheel_speed,
        steering_rate,
    )


@dataclass(frozen=True, kw_only=True)
class SteeringOptions(WheelsOptions):
    """The options common to vehicles with steered wheels on two axles."""

    wheelbase: float = option(WHEELBASE, dimension=LENGTH)
    track: float = option(TRACK, dimension=LENGTH)
    max_steering: float = option('an angle, such as "30 deg"', dimension=ANGLE)
    steering_rate: float | None = option('a turning speed, such as "90 deg/s"', None, dimension=TURN_SPEED)


_AXLES_BEGIN = (
    'wheelbase = "0.5 m"        # measure: between the axles\n'
    'track = "0.4 m"            # measure: between the middles of the tyres of one axle\n'
    'max_steering = "25 deg"    # measure: the inner wheel at full lock\n'
) + WHEEL_BEGINS


@dataclass(frozen=True, kw_only=True)
class CarOptions(SteeringOptions):
    """Two fixed wheels behind, two steered ones in front."""

    kind: ClassVar[str] = "car"
    picture: ClassVar[tuple[str, ...]] = (" /.-./ ", "  | |  ", " ['-'] ")
    beginning: ClassVar[Beginning | None] = Beginning(_AXLES_BEGIN, "car")
    driven: Literal["rear", "front", "all"] = option('"rear", "front" or "all"', "rear")

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Return the vehicle."""
        return car(
            self.wheelbase, self.track, self.wheel_radius, self.max_steering, self.fastest,
            self.steering_rate or math.inf, self.driven,
        )  # fmt: skip


@dataclass(frozen=True, kw_only=True)
class FourWheelSteerOptions(SteeringOptions):
    """Four wheels that all steer and drive."""

    kind: ClassVar[str] = "four_wheel_steer"
    picture: ClassVar[tuple[str, ...]] = (" /.-./ ", "  | |  ", " \\'-'\\ ")
    beginning: ClassVar[Beginning | None] = Beginning(_AXLES_BEGIN, "four_wheel")

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Return the vehicle."""
        return four_wheel_steer(
            self.wheelbase, self.track, self.wheel_radius, self.max_steering, self.fastest,
            self.steering_rate or math.inf,
        )  # fmt: skip
