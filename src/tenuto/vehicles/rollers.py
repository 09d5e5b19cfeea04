"""Wheels with rollers: mecanum, and omni wheels at any place and angle."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import ClassVar, NamedTuple

import numpy as np

from tenuto.basics.findings import Finding, unexpected
from tenuto.basics.number import Value, larger, weighted
from tenuto.kinds.options import About, option
from tenuto.kinds.quantities import ANGLE, LENGTH
from tenuto.vehicles.base import (
    PLACE,
    TRACK,
    WHEEL_BEGINS,
    WHEELBASE,
    Beginning,
    Bounds,
    Chassis,
    Drawing,
    Part,
    Quantity,
    Sides,
    WheelsOptions,
)
from tenuto.vehicles.velocity import VelocityCommand

# The least sideways freedom of a wheel with rollers, as the sine of their angle.
_ACROSS = 0.1
# Wheels that constrain a robot less than this share of one wheel do not constrain it.
_FREE = 0.02


class RollerWheel(NamedTuple):
    """A wheel with rollers around its rim.

    Attributes:
        name: such as "front_left".
        x, y: its position from the reference point, m.
        angle: the direction in which it rolls when its motor turns forward, rad from straight ahead, left positive.
        roller: the direction in which its rollers let it slide freely, rad from that: ±90° for an omni wheel, ±45° for
            a mecanum wheel.
    """

    name: str
    x: float
    y: float
    angle: float
    roller: float = math.pi / 2.0


@dataclass(frozen=True)
class RollerWheels(Chassis):
    """Any number of wheels with rollers; three that do not all point the same way move in any direction.

    A wheel turns by the motion that its rollers do not pass: with n across the free direction and d along the wheel,
    speed = (v + yaw rate × place)·n / (radius·d·n). See "Introduction to Autonomous Mobile Robots", MIT Press, 2nd
    edition, section 3.2.3 (Swedish wheel).

    Attributes:
        wheels: see `RollerWheel`. wheel_radius: m. max_wheel_speed: rad/s.
    """

    wheels: tuple[RollerWheel, ...]
    wheel_radius: float
    max_wheel_speed: float = math.inf

    @property
    def lessens(self) -> bool:
        """Whether each axis alone can also be reduced: if the rows of all wheels differ in signs only."""
        sizes = [tuple(map(abs, row)) for row in self.rows]
        signs = {tuple(math.copysign(1.0, part * row[0]) for part in row) for row in self.rows}
        same = all(math.isclose(a, b) for size in sizes for a, b in zip(size, sizes[0], strict=True))
        return same and len(signs) == 4

    @cached_property
    def rows(self) -> tuple[tuple[float, float, float], ...]:
        """For each wheel, its speed for 1 m/s forward, 1 m/s to the left, and 1 rad/s."""
        rows = []
        for wheel in self.wheels:
            free = wheel.angle + wheel.roller
            across = (math.sin(free), -math.cos(free))
            scale = self.wheel_radius * (math.cos(wheel.angle) * across[0] + math.sin(wheel.angle) * across[1])
            turn = -wheel.y * across[0] + wheel.x * across[1]
            rows.append((across[0] / scale, across[1] / scale, turn / scale))
        return tuple(rows)

    def sides(self) -> Sides | None:
        """Return the wheels on the left and on the right, if all of a side turn alike to go forward and to turn."""
        if any(abs(ahead) < _ACROSS / self.wheel_radius for ahead, _, _ in self.rows):
            return None
        out = sorted(turn / ahead for ahead, _, turn in self.rows)
        two = all(math.isclose(place, out[0]) or math.isclose(place, out[-1]) for place in out)
        return Sides(-out[0], out[-1]) if two and out[0] < 0.0 < out[-1] else None

    @property
    def holds(self) -> bool:
        """Whether the wheels constrain all three axes of the robot."""
        furthest = max(max(math.hypot(wheel.x, wheel.y) for wheel in self.wheels), 1e-6)
        held = [(a, b, c / furthest) for a, b, c in self.rows]
        alike = [[part / math.hypot(*row[:2]) for part in row] for row in held]
        return int(np.linalg.matrix_rank(np.array(alike), tol=_FREE)) == 3

    @cached_property
    def _inverse_rows(self) -> tuple[tuple[float, ...], ...]:
        matrix = np.linalg.pinv(np.array(self.rows))
        return tuple(tuple(float(cell) for cell in row) for row in matrix)

    @cached_property
    def _projection(self) -> tuple[tuple[float, ...], ...] | None:
        """The matrix that keeps the possible part of a velocity with too few wheels; None if all of it is possible."""
        matrix = np.array(self._inverse_rows) @ np.array(self.rows)
        if np.allclose(matrix, np.eye(3), atol=1e-9):
            return None
        return tuple(tuple(float(cell) for cell in row) for row in matrix)

    def inverse(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> dict[str, Value]:
        """Return the speed of each wheel, rad/s."""
        return {
            f"{wheel.name}_wheel": a * vx + b * vy + c * yaw_rate
            for wheel, (a, b, c) in zip(self.wheels, self.rows, strict=True)
        }

    def forward(self, actuators: Mapping[str, Value]) -> tuple[Value, Value, Value, Value]:
        """Return the velocity that fits all wheels best."""
        speeds = [actuators[f"{wheel.name}_wheel"] for wheel in self.wheels]
        vx, vy, yaw_rate = (weighted(row, speeds) for row in self._inverse_rows)
        return vx, vy, 0.0 * vx, yaw_rate

    def load(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> Value:
        """Return the speed of the fastest wheel as a share of its limit."""
        most = 0.0 * vx
        for a, b, c in self.rows:
            most = larger(most, abs(a * vx + b * vy + c * yaw_rate))
        return most / self.max_wheel_speed

    def bounds(self) -> dict[str, Bounds]:
        """Return the limits of each wheel, rad/s."""
        most = Bounds(-self.max_wheel_speed, self.max_wheel_speed, Quantity.WHEEL_SPEED)
        return {f"{wheel.name}_wheel": most for wheel in self.wheels}

    def drawing(self) -> Drawing:
        """Return its wheels with their rollers."""
        parts = tuple(Part(one.name, one.x, one.y, one.angle, "roller", roller=one.roller) for one in self.wheels)
        return Drawing(parts, radius=self.wheel_radius)

    def possible(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> tuple[Value, Value, Value, Value]:
        """Leave out the vertical part, and what too few wheels, or wheels that all point alike, cannot do."""
        if self._projection is None:
            return vx, vy, 0.0 * vz, yaw_rate
        x, y, turn = (a * vx + b * vy + c * yaw_rate for a, b, c in self._projection)
        return x, y, 0.0 * vz, turn


def mecanum(wheelbase: float, track: float, wheel_radius: float, max_wheel_speed: float = math.inf) -> RollerWheels:
    """Make four mecanum wheels whose rollers, seen from above, point to the middle of the robot.

    With half the wheelbase a and half the track b, a wheel's speed is (vx ∓ vy ∓ (a + b)·yaw rate)/radius.

    Args:
        wheelbase: between the axles, m. track: between the middles of the wheels of an axle, m.
        wheel_radius: m. max_wheel_speed: rad/s.
    """
    a, b = wheelbase / 2.0, track / 2.0
    diagonal = math.pi / 4.0
    return RollerWheels(
        (
            RollerWheel("front_left", a, b, 0.0, diagonal),
            RollerWheel("front_right", a, -b, 0.0, -diagonal),
            RollerWheel("rear_left", -a, b, 0.0, -diagonal),
            RollerWheel("rear_right", -a, -b, 0.0, diagonal),
        ),
        wheel_radius,
        max_wheel_speed,
    )


def omni(count: int, radius: float, wheel_radius: float, max_wheel_speed: float = math.inf) -> RollerWheels:
    """Make omni wheels evenly on a circle, each rolling along it anticlockwise, the first one straight ahead.

    Args:
        count: 3 or more. radius: of the circle, m. wheel_radius: m. max_wheel_speed: rad/s.
    """
    turns = [math.tau * number / count for number in range(count)]
    wheels = tuple(
        RollerWheel(f"wheel_{number + 1}", radius * math.cos(turn), radius * math.sin(turn), turn + math.pi / 2.0)
        for number, turn in enumerate(turns)
    )
    return RollerWheels(wheels, wheel_radius, max_wheel_speed)


# Any direction is possible, so each needs a speed.
_SPEEDS_BEGIN = (("forward", "0.4 m/s"), ("backward", "0.3 m/s"), ("sideways", "0.3 m/s"), ("turn", "45 deg/s"))


@dataclass(frozen=True, kw_only=True)
class MecanumOptions(WheelsOptions):
    """Four mecanum wheels."""

    kind: ClassVar[str] = "mecanum"
    picture: ClassVar[tuple[str, ...]] = ("\\.---./", " |   | ", "/'---'\\")
    beginning: ClassVar[Beginning | None] = Beginning(
        'wheelbase = "0.4 m"        # measure: between the axles\n'
        'track = "0.4 m"            # measure: between the middles of the wheels of one axle\n' + WHEEL_BEGINS,
        "any_direction",
        _SPEEDS_BEGIN,
    )
    wheelbase: float = option(WHEELBASE, dimension=LENGTH)
    track: float = option(TRACK, dimension=LENGTH)

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Return the vehicle."""
        return mecanum(self.wheelbase, self.track, self.wheel_radius, self.fastest)


@dataclass(frozen=True, kw_only=True)
class PlacedWheel:
    """``[chassis.wheels.NAME]``: a wheel with rollers."""

    x: float = option(PLACE, dimension=LENGTH, signed=True)
    y: float = option(PLACE, dimension=LENGTH, signed=True)
    angle: float = option('an angle, left positive, such as "90 deg"', 0.0, dimension=ANGLE, signed=True)
    roller: float = option('an angle, such as "90 deg" or "-45 deg"', math.pi / 2.0, dimension=ANGLE, signed=True)


@dataclass(frozen=True, kw_only=True)
class OmniOptions(WheelsOptions):
    """Omni wheels: on a circle, or each at its own position."""

    kind: ClassVar[str] = "omni"
    picture: ClassVar[tuple[str, ...]] = ("  /-\\  ", " |   | ", "  \\_/  ")
    beginning: ClassVar[Beginning | None] = Beginning(
        "count = 3                  # wheels, evenly spread: the first stands ahead\n"
        'radius = "0.2 m"           # measure: from the middle of the robot to that of a wheel\n' + WHEEL_BEGINS,
        "any_direction",
        _SPEEDS_BEGIN,
    )
    turns_by: ClassVar[str] = "radius"
    count: int | None = option("a whole number from 3 to 12", None, low=3, high=12)
    radius: float | None = option('the radius of their circle, such as "0.2 m"', None, dimension=LENGTH)
    wheels: dict[str, PlacedWheel] = field(
        default_factory=dict, metadata={"about": About("tables [chassis.wheels.NAME]")}
    )

    def missing(self) -> str | None:
        """Require a circle, or wheels."""
        if self.wheels or (self.count is not None and self.radius is not None):
            return None
        return "radius" if self.count is not None else "count"

    def errors(self) -> Iterator[Finding]:
        """Refuse rollers that point along their wheel: it would slide in that direction, and not roll."""
        yield from super().errors()
        along = {name: one for name, one in self.wheels.items() if abs(math.sin(one.roller)) < _ACROSS}
        for name, wheel in along.items():
            found = f"{math.degrees(wheel.roller):.0f} deg"
            yield unexpected(f"wheels.{name}.roller", "an angle across the wheel, 6 to 174 deg", found)
        if self.wheels and not along and not self._placed().holds:
            found = f"{len(self.wheels)} that do not"
            yield unexpected("wheels", "three or more that together drive ahead, sideways and round", found)

    def _placed(self) -> RollerWheels:
        """Return the wheels with their positions."""
        placed = (RollerWheel(name, one.x, one.y, one.angle, one.roller) for name, one in self.wheels.items())
        return RollerWheels(tuple(placed), self.wheel_radius, self.fastest)

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Return the vehicle."""
        if not self.wheels:
            return omni(self.count or 3, self.radius or 1.0, self.wheel_radius, self.fastest)
        return self._placed()
