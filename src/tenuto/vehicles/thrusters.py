"""Boats and underwater robots: thrusters at any place and direction."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import ClassVar, Literal, NamedTuple

import numpy as np

from tenuto.basics.number import Value, weighted
from tenuto.kinds.options import option
from tenuto.kinds.quantities import ANGLE, FORCE, LENGTH
from tenuto.vehicles.allocation import Allocation
from tenuto.vehicles.base import (
    PLACE,
    ROUNDING,
    Beginning,
    Bounds,
    Chassis,
    Drawing,
    Inertia,
    Part,
    Quantity,
    Sides,
    VehicleOptions,
)
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# Less thrust than this, N, counts as zero; so does a speed within rounding, m/s or rad/s.
_NO_THRUST, _SLACK = 1e-9, 1e-8
# The load of 1 m/s or 1 rad/s in an impossible direction: not infinity, because 0 times infinity is NaN.
_NOT_AT_ALL = 1e300


class Thruster(NamedTuple):
    """A propeller or jet.

    Attributes:
        name: such as "left".
        x, y: its position from the reference point, m: forward and left positive.
        angle: the direction in which it pushes the robot when it turns forward, rad from straight ahead, left positive.
        tilt: the upward angle of that direction, rad; a quarter turn pushes straight up.
        most: its thrust forward, N. most_back: its thrust backward, N; 0 if it is not reversible.
    """

    name: str
    x: float
    y: float
    angle: float = 0.0
    tilt: float = 0.0
    most: float = 10.0
    most_back: float = 10.0


class Drag(NamedTuple):
    """The drag at a speed: N per m/s along each axis, and N·m per rad/s; the linear drag of slow craft.

    See T. I. Fossen, "Handbook of Marine Craft Hydrodynamics and Motion Control", Wiley, section 6.4.
    """

    forward: float
    sideways: float
    up: float
    turn: float


@dataclass(frozen=True)
class Thrusters(Chassis):
    """Any number of thrusters, which share the force that a velocity needs against the water's drag.

    The force is F = drag·velocity, along each axis. It is allocated by bounded least squares (see `Allocation`); if the
    thrusters cannot push as hard, all of it is reduced by one share, so its direction is kept.

    Attributes:
        thrusters: see `Thruster`. drag: see `Drag`.
    """

    thrusters: tuple[Thruster, ...]
    drag: Drag

    @cached_property
    def columns(self) -> tuple[tuple[float, float, float, float], ...]:
        """For each thruster: force forward, to the left and up, and moment about z, of 1 N; m for the moment."""
        found = []
        for thruster in self.thrusters:
            level = math.cos(thruster.tilt)
            ahead, left = level * math.cos(thruster.angle), level * math.sin(thruster.angle)
            found.append((ahead, left, math.sin(thruster.tilt), thruster.x * left - thruster.y * ahead))
        return tuple(found)

    @cached_property
    def allocation(self) -> Allocation:
        """The allocation of a force."""
        return Allocation(
            list(zip(*self.columns, strict=True)),
            [-thruster.most_back for thruster in self.thrusters],
            [thruster.most for thruster in self.thrusters],
        )

    def force(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> tuple[Value, Value, Value, Value]:
        """Return the force that a velocity needs: forward, left, up in N, and the moment about z in N·m."""
        drag = self.drag
        return vx * drag.forward, vy * drag.sideways, vz * drag.up, yaw_rate * drag.turn

    @cached_property
    def couples(self) -> bool:
        """Whether a command along one axis also moves it along another."""
        made = [self.possible(*(float(axis == one) for axis in range(4))) for one in range(4)]
        return any(abs(part) > 1e-9 for one, parts in enumerate(made) for axis, part in enumerate(parts) if axis != one)

    def inverse(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> dict[str, Value]:
        """Return the thrust of each thruster, N."""
        force = self.force(vx, vy, vz, yaw_rate)
        names = [f"{thruster.name}_thrust" for thruster in self.thrusters]
        return dict(zip(names, _each(self.allocation.thrusts, force), strict=True))

    def forward(self, actuators: Mapping[str, Value]) -> tuple[Value, Value, Value, Value]:
        """Return the velocity at which the drag balances the thrusts."""
        thrusts = [actuators[f"{thruster.name}_thrust"] for thruster in self.thrusters]
        vx, vy, vz, yaw_rate = (
            weighted([column[axis] for column in self.columns], thrusts) / drag for axis, drag in enumerate(self.drag)
        )
        return vx, vy, vz, yaw_rate

    def load(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> Value:
        """Return the force as a share of the most that is possible in its direction."""
        force = self.force(vx, vy, vz, yaw_rate)
        return _each(lambda one: (self.allocation.load(one),), force)[0]

    def bounds(self) -> dict[str, Bounds]:
        """Return the limits of each thruster, N."""
        return {f"{one.name}_thrust": Bounds(-one.most_back, one.most, Quantity.THRUST) for one in self.thrusters}

    def drawing(self) -> Drawing:
        """Return its thrusters, and a hull."""
        parts = tuple(Part(one.name, one.x, one.y, one.angle, "thruster", one.most) for one in self.thrusters)
        return Drawing(parts, body="boat")

    def inertia(self) -> Inertia:
        """Return the water's drag."""
        return Inertia(drag=self.drag)

    def possible(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> tuple[Value, Value, Value, Value]:
        """Leave out the directions in which no thruster pushes."""
        if not self.allocation.never:
            return vx, vy, vz, yaw_rate
        ahead, left, up, turn = (a * vx + b * vy + c * vz + d * yaw_rate for a, b, c, d in self._projection)
        return ahead, left, up, turn

    @cached_property
    def _projection(self) -> tuple[tuple[float, float, float, float], ...]:
        """Rows whose product with a velocity is the part of it in the directions in which thrusters push."""
        units = [self.allocation.reachable([float(axis == one) for axis in range(4)]) for one in range(4)]
        drag = self.drag
        return tuple(
            (units[0][row] * drag[0] / drag[row], units[1][row] * drag[1] / drag[row],
             units[2][row] * drag[2] / drag[row], units[3][row] * drag[3] / drag[row])
            for row in range(4)
        )  # fmt: skip

    @cached_property
    def _ends(self) -> tuple[tuple[float, float, float, float, float, float], ...]:
        """Pairs of facets: rows, and the bounds of their product with a velocity within reach."""
        rows = self._forces(row for row, _ in self.allocation.facets)
        most = [end if end > _NO_THRUST else math.inf for _, end in self.allocation.facets]
        pairs = zip(rows[::2], most[::2], most[1::2], strict=True)
        return tuple((a, b, c, d, -low, high) for (a, b, c, d), high, low in pairs)

    @cached_property
    def _slabs(self) -> tuple[tuple[float, float, float, float, float, float], ...]:
        """The same, with room for rounding."""
        room = 1.0 + ROUNDING
        return tuple((a, b, c, d, low * room, high * room) for a, b, c, d, low, high in self._ends)

    @cached_property
    def _surely(self) -> tuple[float, float, float, float]:
        """The share of its limit that each axis uses alone, per m/s or rad/s; a sum below 1 is within reach.

        The set within reach is convex, so it holds all between the ends of its axes. Most velocities are there.
        """
        ends = [[sign * float(axis == one) for axis in range(4)] for one in range(4) for sign in (1.0, -1.0)]
        takes = [self._share_of(*end) if self._is_possible(*end) else math.inf for end in ends]
        first, second, third, fourth = (
            min(max(pair), _NOT_AT_ALL) for pair in zip(takes[::2], takes[1::2], strict=True)
        )
        return first, second, third, fourth

    @cached_property
    def _walls(self) -> tuple[tuple[float, float, float, float], ...]:
        """Rows whose product with a velocity must not be positive: no thruster pushes in that direction."""
        return _as_speeds(self._forces(row for row, end in self.allocation.facets if end <= _NO_THRUST))

    @cached_property
    def _never(self) -> tuple[tuple[float, float, float, float], ...]:
        """Rows whose product with a velocity must be 0: no thruster pushes along them."""
        return _as_speeds(self._forces(self.allocation.never))

    def _forces(self, rows: Iterable[Sequence[float]]) -> tuple[tuple[float, float, float, float], ...]:
        """Convert rows for a force into rows for a velocity."""
        ahead, left, up, turn = self.drag
        return tuple((a * ahead, b * left, c * up, d * turn) for a, b, c, d in rows)

    def sides(self) -> Sides | None:
        """Return two thrusters that push straight ahead: a side is where the thrust of the other alone turns it."""
        if len(self.thrusters) != 2 or any(one.angle or one.tilt for one in self.thrusters):
            return None
        right, left = sorted(self.thrusters, key=lambda one: one.y)
        if not right.y < 0.0 < left.y:
            return None
        # At a steady speed the thrust F at y makes vx = F/drag ahead and −F·y/drag of turning.
        lever = self.drag.turn / self.drag.forward
        return Sides(lever / -right.y, lever / left.y)

    def fits(self, command: VelocityCommand) -> bool:
        """Return the same as in the base class, but faster: the ramp calls this many times a tick."""
        vx, vy, vz, yaw_rate = command
        a, b, c, d = self._surely
        if a * abs(vx) + b * abs(vy) + c * abs(vz) + d * abs(yaw_rate) <= 1.0:
            return True
        for a, b, c, d, low, high in self._slabs:
            if not low <= a * vx + b * vy + c * vz + d * yaw_rate <= high:
                return False
        if not self._is_possible(vx, vy, vz, yaw_rate):
            return False
        slack = _SLACK * (1.0 + abs(vx) + abs(vy) + abs(vz) + abs(yaw_rate))
        return not self._walls or all(a * vx + b * vy + c * vz + d * yaw_rate <= slack for a, b, c, d in self._walls)

    def _is_possible(self, vx: float, vy: float, vz: float, yaw_rate: float) -> bool:
        """Return whether thrusters push along all of a velocity, however hard."""
        slack = _SLACK * (1.0 + abs(vx) + abs(vy) + abs(vz) + abs(yaw_rate))
        return all(-slack <= a * vx + b * vy + c * vz + d * yaw_rate <= slack for a, b, c, d in self._never)

    def within_reach(self, command: VelocityCommand) -> tuple[VelocityCommand, float]:
        """Return the same as in the base class, but faster: from the facets of the possible velocities."""
        if self.fits(command):
            return command, 1.0
        possible = VelocityCommand(*self.possible(*command))
        load = self._share_of(*possible)
        if load <= 1.0:
            return possible, 1.0
        if load == math.inf:
            return STANDSTILL, 0.0
        vx, vy, vz, yaw_rate = possible
        return VelocityCommand(vx / load, vy / load, vz / load, yaw_rate / load), 1.0 / load

    def _share_of(self, vx: float, vy: float, vz: float, yaw_rate: float) -> float:
        """Return a possible velocity as a share of the most in its direction; inf for an impossible direction."""
        load = 0.0
        for a, b, c, d, low, high in self._ends:
            along = a * vx + b * vy + c * vz + d * yaw_rate
            share = along / high if along > 0.0 else along / low
            if share > load:
                load = share
        if self._walls:
            slack = _SLACK * (1.0 + abs(vx) + abs(vy) + abs(vz) + abs(yaw_rate))
            if any(a * vx + b * vy + c * vz + d * yaw_rate > slack for a, b, c, d in self._walls):
                return math.inf
        return load

    def velocity_of(self, shares: Mapping[str, float]) -> VelocityCommand:
        """Return the velocity if each thruster follows a stick, name → −1…1 of its own thrust."""
        thrusts = {
            f"{thruster.name}_thrust": shares.get(thruster.name, 0.0)
            * (thruster.most if shares.get(thruster.name, 0.0) >= 0.0 else thruster.most_back)
            for thruster in self.thrusters
        }
        return VelocityCommand(*self.forward(thrusts))


def _as_speeds(rows: Iterable[tuple[float, float, float, float]]) -> tuple[tuple[float, float, float, float], ...]:
    """Scale rows that are compared with 0, so that their product with a velocity is in m/s or rad/s.

    A craft with little drag needs little force: rounding in newtons would be a visible speed.
    """
    scaled = [(row, max(map(abs, row))) for row in rows]
    return tuple((a / most, b / most, c / most, d / most) for (a, b, c, d), most in scaled if most > 0.0)


def _each(
    share: Callable[[tuple[float, ...]], tuple[float, ...]], force: tuple[Value, Value, Value, Value]
) -> list[Value]:
    """Call a function for one force, or for each of an array of forces in turn."""
    first = force[0]
    if isinstance(first, np.ndarray):
        rows = np.array([share(tuple(row)) for row in np.stack(force, axis=-1).reshape(-1, 4).tolist()])
        return [column.reshape(first.shape) for column in rows.T]
    return list(share(force))


@dataclass(frozen=True, kw_only=True)
class PlacedThruster:
    """``[chassis.thrusters.NAME]``: a propeller or jet."""

    x: float = option(PLACE, dimension=LENGTH, signed=True)
    y: float = option(PLACE, dimension=LENGTH, signed=True)
    angle: float = option('an angle, left positive, such as "45 deg"', 0.0, dimension=ANGLE, signed=True)
    tilt: float = option('an angle, up positive, such as "90 deg"', 0.0, dimension=ANGLE, signed=True)
    thrust: float = option('a force, such as "20 N"', dimension=FORCE)
    thrust_back: float | Literal[0] = option('a force, such as "12 N", or 0 if it is not reversible', dimension=FORCE)


@dataclass(frozen=True, kw_only=True)
class DragOptions:
    """``[chassis.drag]``: the drag at a speed, N per m/s, and N·m per rad/s."""

    forward: float = option("a number of N per m/s", above=0.0)
    sideways: float | None = option("a number of N per m/s", None, above=0.0)
    up: float | None = option("a number of N per m/s", None, above=0.0)
    turn: float = option("a number of N m per rad/s", above=0.0)


@dataclass(frozen=True, kw_only=True)
class ThrustersOptions(VehicleOptions):
    """A boat or underwater robot."""

    kind: ClassVar[str] = "thrusters"
    picture: ClassVar[tuple[str, ...]] = ("  /^\\  ", " |   | ", " |*_*| ")
    beginning: ClassVar[Beginning | None] = Beginning(
        "drag = { forward = 20.0, turn = 5.0 }   # measure: N that keep 1 m/s, and N m that keep 1 rad/s\n"
        + "".join(
            f'thrusters.{name} = {{ x = "-0.4 m", y = "{y} m", thrust = "20 N", thrust_back = "12 N" }}{more}\n'
            for name, y, more in (("left", 0.2, "   # measure: ahead and left of the middle"), ("right", -0.2, ""))
        )
    )
    thrusters: dict[str, PlacedThruster] = option("tables [chassis.thrusters.NAME]", fewest=1)
    drag: DragOptions = option("a table [chassis.drag]")

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Return the vehicle."""
        drag = self.drag
        placed = tuple(
            Thruster(name, one.x, one.y, one.angle, one.tilt, one.thrust, float(one.thrust_back))
            for name, one in self.thrusters.items()
        )
        sideways = drag.sideways or 2.0 * drag.forward
        return Thrusters(placed, Drag(drag.forward, sideways, drag.up or sideways, drag.turn))
