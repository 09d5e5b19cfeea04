"""Vehicles without measures: motors, and a motor with a steering servo. All speeds are shares of full.

No track, radius or speed in m/s is needed: 1 is full speed of the motors, and nothing here is a length.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.basics.findings import Finding
from tenuto.basics.number import Value, larger, ratio, smaller
from tenuto.kinds.options import option
from tenuto.kinds.quantities import TIME
from tenuto.vehicles.base import (
    Arcs,
    Beginning,
    Bounds,
    Chassis,
    ChassisLimits,
    Drawing,
    Part,
    Quantity,
    Sides,
    VehicleOptions,
    Way,
)
from tenuto.vehicles.linear import LinearMix, MixOutput, MixRow, row_errors
from tenuto.vehicles.units import SHARES, Units
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

_WHOLE = VelocityCommand(1.0, 1.0, 1.0, 1.0)
# Two motors, one on each side; for a full turn they run in opposite directions.
_TWO = (MixOutput("left", (1.0, 0.0, 0.0, -1.0)), MixOutput("right", (1.0, 0.0, 0.0, 1.0)))
_SPEEDS_BEGIN = (("forward", "30 %"), ("backward", "30 %"), ("turn", "20 %"))


@dataclass(frozen=True)
class Motors(LinearMix):
    """Motors that each take a share of forward, sideways, up and turn; ``full`` is 1 along each axis."""

    @property
    def units(self) -> Units:
        """Shares of full."""
        return SHARES

    @property
    def lessens(self) -> bool:
        """Whether each axis alone can also be reduced: two motors can."""
        return self.outputs == _TWO

    def sides(self) -> Sides | None:
        """Return the two motors if these are its sides."""
        return Sides(1.0, 1.0) if self.outputs == _TWO else None

    def drawing(self) -> Drawing:
        """Return two wheels; for any other mix the positions of the motors are unknown."""
        if self.outputs != _TWO:
            return Drawing(body="disc")
        return Drawing((Part("left", 0.0, 0.3), Part("right", 0.0, -0.3)), front=0.7)


@dataclass(frozen=True, kw_only=True)
class MotorsOptions(VehicleOptions):
    """Two motors, or several with a mix, without dimensions."""

    kind: ClassVar[str] = "motors"
    picture: ClassVar[tuple[str, ...]] = (" .---. ", "[| % |]", " '-o-' ")
    in_shares: ClassVar[bool] = True
    beginning: ClassVar[Beginning | None] = Beginning("", speeds=_SPEEDS_BEGIN, acceleration="1 s")
    mix: dict[str, MixRow] | None = option("tables [chassis.mix.NAME], or nothing for two motors", None)

    def errors(self) -> Iterator[Finding]:
        """Refuse a motor whose offset is outside its own limits."""
        yield from super().errors()
        yield from row_errors("mix", self.mix or {})

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Return the vehicle."""
        return Motors(tuple(row.output(name) for name, row in self.mix.items()) if self.mix else _TWO, _WHOLE)


@dataclass(frozen=True, slots=True)
class _ServoArcs(Arcs):
    """The arcs of a steering servo: its position, −1…1, with ``rate`` per second."""

    rate: float

    def share(self, start: tuple[float, float], end: tuple[float, float], dt: float) -> float:
        """Return how far the servo gets."""
        way = abs(end[1] - start[1])
        return min(1.0, self.rate * dt / way) if way else 1.0


@dataclass(frozen=True)
class MotorAndServo(Chassis):
    """A motor that drives, and a servo that steers. The turn is the share of speed times the share of full lock.

    Attributes:
        rate: the speed of the servo, shares of full lock per s; infinite if not set.
    """

    rate: float = float("inf")

    @property
    def units(self) -> Units:
        """Shares of full."""
        return SHARES

    @property
    def ramp_way(self) -> Way:
        """It steers at standstill too."""
        return _ServoArcs(self.rate)

    @property
    def jerks(self) -> frozenset[str]:
        """The jerk of the forward speed."""
        return frozenset(("jerk",))

    def inverse(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> dict[str, Value]:
        """Return the share of the motor, and of the servo: positive to the left, forward and backward."""
        return {"motor": vx, "servo": ratio(yaw_rate, vx, 0.0)}

    def forward(self, actuators: Mapping[str, Value]) -> tuple[Value, Value, Value, Value]:
        """Return the shares of speed and turn for both."""
        vx, none = actuators["motor"], 0.0 * actuators["motor"]
        return vx, none, none, vx * actuators["servo"]

    def load(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> Value:
        """Return the share of the motor."""
        return abs(vx)

    def possible(self, vx: Value, vy: Value, vz: Value, yaw_rate: Value) -> tuple[Value, Value, Value, Value]:
        """Reduce the turn to that of full lock at this speed."""
        most = abs(vx)
        return vx, 0.0 * vy, 0.0 * vz, smaller(larger(yaw_rate, -most), most)

    def bounds(self) -> dict[str, Bounds]:
        """Return the limits of both."""
        return {"motor": Bounds(-1.0, 1.0, Quantity.SHARE), "servo": Bounds(-1.0, 1.0, Quantity.STEERING_SHARE)}

    def limits(self) -> ChassisLimits:
        """Return 1 for full speed and full lock."""
        return ChassisLimits(1.0, 0.0, 0.0, 1.0, 1.0)

    def drawing(self) -> Drawing:
        """Return two wheels in line."""
        return Drawing((Part("servo", 0.5, 0.0), Part("motor", 0.0, 0.0)))

    def actuators(
        self,
        command: VelocityCommand,
        before: Mapping[str, float] | None = None,
        dt: float = 0.0,
        aim: VelocityCommand | None = None,
    ) -> dict[str, float]:
        """Return both shares. At standstill the servo takes the direction of ``aim``, or stays as it is."""
        found = dict(self.inverse(*command))
        if command == STANDSTILL:
            aimed = self.inverse(*self.possible(*aim)) if aim is not None and aim != STANDSTILL else before
            found["servo"] = aimed["servo"] if aimed else 0.0
        if before and self.rate < float("inf"):
            most = self.rate * dt
            found["servo"] = min(max(found["servo"], before["servo"] - most), before["servo"] + most)
        return found


@dataclass(frozen=True, kw_only=True)
class MotorAndServoOptions(VehicleOptions):
    """A motor that drives and a servo that steers, without dimensions."""

    kind: ClassVar[str] = "motor_and_servo"
    picture: ClassVar[tuple[str, ...]] = (" /.-./ ", "  |%|  ", " ['-'] ")
    in_shares: ClassVar[bool] = True
    beginning: ClassVar[Beginning | None] = Beginning(
        "", "car", (("forward", "30 %"), ("backward", "30 %"), ("turn", "100 %")), "1 s"
    )
    steering_time: float | None = option('a time from one lock to the other, such as "0.4 s"', None, dimension=TIME)

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Return the vehicle."""
        return MotorAndServo(2.0 / self.steering_time if self.steering_time else float("inf"))
