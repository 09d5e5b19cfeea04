"""Modules that each turn all the way round and drive: the rigid body of `steered`, without its limits."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.basics.findings import Finding, unexpected
from tenuto.basics.number import Value, arctan2, cos, hypot, larger, sin, weighted
from tenuto.kinds.options import option
from tenuto.kinds.quantities import LENGTH, TURN_SPEED
from tenuto.vehicles.base import (
    PLACE,
    WHEEL_BEGINS,
    Beginning,
    Bounds,
    Chassis,
    Drawing,
    Part,
    Quantity,
    Way,
    WheelsOptions,
)
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

_QUARTER = math.pi / 2.0
# Modules nearer to each other than this are at one place, m.
_APART = 0.01
# Rounding of an angle, rad; a module slower than this, m/s, may point anywhere.
_ALONG, NO_SPEED = 1e-9, 1e-6


@dataclass(frozen=True)
class SteeredModules(Chassis):
    """Modules that each turn all the way round and drive: the robot moves in any direction without turning its body.

    Attributes:
        places: name → (x, y) from the reference point, m.
        wheel_radius: m. max_wheel_speed: rad/s. turn_rate: of a module, rad/s.
    """

    places: tuple[tuple[str, float, float], ...]
    wheel_radius: float
    max_wheel_speed: float = math.inf
    turn_rate: float = math.inf

    @property
    def ramp_way(self) -> Way:
        """Its velocity changes along a straight line: so its modules turn least."""
        return "straight"

    @property
    def jerks(self) -> frozenset[str]:
        """None if it waits for its modules to turn."""
        return super().jerks if self.turn_rate == math.inf else frozenset()

    def follows(self, command: VelocityCommand, actuators: Mapping[str, float], dt: float) -> bool:
        """Return whether every module points along its own speed within ``dt`` s."""
        if self.turn_rate == math.inf:
            return True
        most = self.turn_rate * dt + _ALONG
        for name, x, y in self.places:
            ahead, left = command.vx - command.yaw_rate * y, command.vy + command.yaw_rate * x
            if abs(ahead) + abs(left) > NO_SPEED:
                # A module drives backwards too: half a turn is not needed.
                turn = math.remainder(math.atan2(left, ahead) - actuators[f"{name}_angle"], math.pi)
                if abs(turn) > most:
                    return False
        return True

    def inverse(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> dict[str, Value]:
        """Return the angle of each module, rad, −π…π from straight ahead, and the speed of its wheel, rad/s."""
        found: dict[str, Value] = {}
        for name, x, y in self.places:
            ahead, left = vx - yaw_rate * y + 0.0, vy + yaw_rate * x + 0.0
            found[f"{name}_angle"] = arctan2(left, ahead)
            found[f"{name}_wheel"] = hypot(ahead, left) / self.wheel_radius
        return found

    def forward(self, actuators: Mapping[str, Value]) -> tuple[Value, Value, Value, Value]:
        """Return the velocity that fits the wheels' velocities best: their mean, and the turn about the middle."""
        count = len(self.places)
        middle_x = sum(x for _, x, _ in self.places) / count
        middle_y = sum(y for _, _, y in self.places) / count
        spread = sum((x - middle_x) ** 2 + (y - middle_y) ** 2 for _, x, y in self.places)
        aheads, lefts, turns = [], [], []
        for name, x, y in self.places:
            rim = actuators[f"{name}_wheel"] * self.wheel_radius
            c, s = cos(actuators[f"{name}_angle"]), sin(actuators[f"{name}_angle"])
            aheads.append(rim * c)
            lefts.append(rim * s)
            turns.append(rim * ((x - middle_x) * s - (y - middle_y) * c))
        mean, fit = [1.0 / count] * count, [1.0 / spread] * count
        ahead, left, turn = weighted(mean, aheads), weighted(mean, lefts), weighted(fit, turns)
        return ahead + turn * middle_y, left - turn * middle_x, 0.0 * turn, turn

    def load(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> Value:
        """Return the speed of the fastest wheel as a share of its limit."""
        most = 0.0 * vx
        for _, x, y in self.places:
            most = larger(most, hypot(vx - yaw_rate * y, vy + yaw_rate * x))
        return most / (self.max_wheel_speed * self.wheel_radius)

    def bounds(self) -> dict[str, Bounds]:
        """Return the limits of each angle, rad, and wheel, rad/s."""
        found: dict[str, Bounds] = {}
        for name, _, _ in self.places:
            found[f"{name}_angle"] = Bounds(-math.pi, math.pi, Quantity.STEERING_ANGLE)
            found[f"{name}_wheel"] = Bounds(-self.max_wheel_speed, self.max_wheel_speed, Quantity.WHEEL_SPEED)
        return found

    def drawing(self) -> Drawing:
        """Return its modules."""
        return Drawing(tuple(Part(name, x, y) for name, x, y in self.places), radius=self.wheel_radius)

    def possible(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> tuple[Value, Value, Value, Value]:
        """Leave out the vertical part."""
        return vx, vy, 0.0 * vz, yaw_rate

    def actuators(
        self,
        command: VelocityCommand,
        before: Mapping[str, float] | None = None,
        dt: float = 0.0,
        aim: VelocityCommand | None = None,
    ) -> dict[str, float]:
        """Return angles and speeds: each module turns the shorter way, and drives backwards if that is shorter.

        While a module is still turning, it drives by the part of its speed along its direction. At standstill it turns
        to the direction of ``aim``, or stays.
        """
        found = self.inverse(*command)
        if not before:
            return found
        still = command == STANDSTILL and (aim is None or aim == STANDSTILL)
        if command == STANDSTILL and aim is not None:
            found = self.inverse(*aim) | {f"{name}_wheel": 0.0 for name, _, _ in self.places}
        for name, _, _ in self.places:
            was = before[f"{name}_angle"]
            # The remaining angle, brought to −π…π; for more than a quarter turn, the other way round is shorter.
            left = 0.0 if still else math.remainder(found[f"{name}_angle"] - was, math.tau)
            side = 1.0
            if abs(left) > _QUARTER + _ALONG:
                left, side = left - math.copysign(math.pi, left), -1.0
            # Without a limit it is there at once; infinity times zero would be NaN.
            most = self.turn_rate * dt if self.turn_rate < math.inf else math.inf
            turned = left if abs(left) <= most else math.copysign(most, left)
            found[f"{name}_angle"] = math.remainder(was + turned, math.tau)
            found[f"{name}_wheel"] *= side * math.cos(left - turned)
        return found


@dataclass(frozen=True, kw_only=True)
class PlacedModule:
    """``[chassis.modules.NAME]``: a module that turns and drives."""

    x: float = option(PLACE, dimension=LENGTH, signed=True)
    y: float = option(PLACE, dimension=LENGTH, signed=True)


@dataclass(frozen=True, kw_only=True)
class ModulesOptions(WheelsOptions):
    """Modules that each turn and drive."""

    kind: ClassVar[str] = "modules"
    picture: ClassVar[tuple[str, ...]] = ("o.---.o", " |   | ", "o'---'o")
    beginning: ClassVar[Beginning | None] = Beginning(
        WHEEL_BEGINS
        + "".join(
            f'modules.{name} = {{ x = "{x} m", y = "{y} m" }}{more}\n'
            for name, x, y, more in (
                ("front_left", 0.2, 0.2, "   # measure: ahead and left of the middle"),
                ("front_right", 0.2, -0.2, ""),
                ("rear_left", -0.2, 0.2, ""),
                ("rear_right", -0.2, -0.2, ""),
            )
        ),
        "any_direction",
        (("forward", "0.4 m/s"), ("sideways", "0.3 m/s"), ("turn", "45 deg/s")),
    )
    modules: dict[str, PlacedModule] = option("tables [chassis.modules.NAME]", fewest=2)
    turn_rate: float | None = option('a turning speed, such as "360 deg/s"', None, dimension=TURN_SPEED)

    def errors(self) -> Iterator[Finding]:
        """Refuse modules at one place: they cannot turn the robot."""
        yield from super().errors()
        first, *others = self.modules.values()
        if all(math.hypot(one.x - first.x, one.y - first.y) < _APART for one in others):
            yield unexpected("modules", "modules at two places at least", "all at one place")

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Return the vehicle."""
        places = tuple((name, module.x, module.y) for name, module in self.modules.items())
        return SteeredModules(places, self.wheel_radius, self.fastest, self.turn_rate or math.inf)
