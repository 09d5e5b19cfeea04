"""The tables ``[chassis]`` of a profile: one a kind of vehicle, with the measures that a builder takes with a tape."""

from __future__ import annotations

import math
from typing import Annotated, Literal

from pydantic import Field

from tenuto import vehicles
from tenuto.profile.quantities import Angle, Force, Length, SignedAngle, SignedLength, Speed, TurnSpeed
from tenuto.profile.table import Name, Table
from tenuto.vehicles import Chassis
from tenuto.vehicles.velocity import VelocityCommand

_TRACK = 'the distance between the middles of the tyres, such as "0.62 m"'
_WHEELBASE = 'the distance between the axles, such as "0.8 m"'
_RADIUS = 'a length, such as "0.11 m"'
_WHEEL_SPEED = 'a turning speed, such as "120 rev/min"'
_PLACE = 'a length forward or to the left, such as "-0.3 m"'


class ChassisBase(Table):
    """What all kinds of vehicle have in common."""

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Give the vehicle; ``full`` is the velocity at the ends of the sticks, all above 0."""
        raise NotImplementedError

    def missing(self) -> str | None:
        """Name a key that must be given as others are; None where all is there."""
        return None


class WheelsBase(ChassisBase):
    """What vehicles on wheels have in common."""

    wheel_radius: Length = Field(description=_RADIUS)
    max_wheel_speed: TurnSpeed | None = Field(default=None, description=_WHEEL_SPEED)

    @property
    def fastest(self) -> float:
        """The fastest that a wheel can turn, rad/s."""
        return self.max_wheel_speed or math.inf


class DifferentialTable(WheelsBase):
    """Two driven wheels."""

    kind: Literal["differential"] = Field(description="a kind of vehicle")
    track: Length = Field(description=_TRACK)

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Give the vehicle."""
        return vehicles.Differential(self.track, self.wheel_radius, self.fastest)


class SkidTable(WheelsBase):
    """Four wheels, or two tracks, that skid to turn."""

    kind: Literal["skid_steer", "tracked"] = Field(description="a kind of vehicle")
    effective_track: Length | None = Field(default=None, description='a length, such as "0.9 m"')
    centre_left: Length | None = Field(default=None, description='a length, such as "0.5 m"')
    centre_right: Length | None = Field(default=None, description='a length, such as "0.5 m"')

    def missing(self) -> str | None:
        """Ask for the effective track, or both centres."""
        if self.effective_track is None and (self.centre_left is None or self.centre_right is None):
            return "effective_track"
        return None

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Give the vehicle."""
        half = (self.effective_track or 0.0) / 2.0
        sides = "track" if self.kind == "tracked" else "wheel"
        left, right = self.centre_left or half, self.centre_right or half
        return vehicles.SkidSteer(left, right, self.wheel_radius, self.fastest, sides)


class CarTable(WheelsBase):
    """Two fixed wheels behind, two steered ones in front."""

    kind: Literal["car"] = Field(description="a kind of vehicle")
    wheelbase: Length = Field(description=_WHEELBASE)
    track: Length = Field(description=_TRACK)
    max_steering: Angle = Field(description='an angle, such as "30 deg"')
    steering_rate: TurnSpeed | None = Field(default=None, description='a turning speed, such as "90 deg/s"')
    driven: Literal["rear", "front", "all"] = Field(default="rear", description='"rear", "front" or "all"')

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Give the vehicle."""
        return vehicles.car(
            self.wheelbase, self.track, self.wheel_radius, self.max_steering, self.fastest,
            self.steering_rate or math.inf, self.driven,
        )  # fmt: skip


class FourWheelSteerTable(WheelsBase):
    """Four wheels that all steer and drive."""

    kind: Literal["four_wheel_steer"] = Field(description="a kind of vehicle")
    wheelbase: Length = Field(description=_WHEELBASE)
    track: Length = Field(description=_TRACK)
    max_steering: Angle = Field(description='an angle, such as "30 deg"')
    steering_rate: TurnSpeed | None = Field(default=None, description='a turning speed, such as "90 deg/s"')

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Give the vehicle."""
        return vehicles.four_wheel_steer(
            self.wheelbase, self.track, self.wheel_radius, self.max_steering, self.fastest,
            self.steering_rate or math.inf,
        )  # fmt: skip


class MecanumTable(WheelsBase):
    """Four mecanum wheels."""

    kind: Literal["mecanum"] = Field(description="a kind of vehicle")
    wheelbase: Length = Field(description=_WHEELBASE)
    track: Length = Field(description=_TRACK)

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Give the vehicle."""
        return vehicles.mecanum(self.wheelbase, self.track, self.wheel_radius, self.fastest)


class PlacedWheel(Table):
    """``[chassis.wheels.NAME]``: a wheel with rollers."""

    x: SignedLength = Field(description=_PLACE)
    y: SignedLength = Field(description=_PLACE)
    angle: SignedAngle = Field(default=0.0, description='an angle, left positive, such as "90 deg"')
    roller: SignedAngle = Field(default=math.pi / 2.0, description='an angle, such as "90 deg" or "-45 deg"')


class OmniTable(WheelsBase):
    """Omni wheels: some number on a circle, or each at its place."""

    kind: Literal["omni"] = Field(description="a kind of vehicle")
    count: int | None = Field(default=None, ge=3, le=12, description="a whole number from 3 to 12")
    radius: Length | None = Field(default=None, description='the radius of their circle, such as "0.2 m"')
    wheels: dict[Name, PlacedWheel] = Field(default={}, description="tables [chassis.wheels.NAME]")

    def missing(self) -> str | None:
        """Ask for a circle, or for wheels."""
        if self.wheels or (self.count is not None and self.radius is not None):
            return None
        return "radius" if self.count is not None else "count"

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Give the vehicle."""
        if not self.wheels:
            return vehicles.omni(self.count or 3, self.radius or 1.0, self.wheel_radius, self.fastest)
        placed = tuple(
            vehicles.RollerWheel(name, wheel.x, wheel.y, wheel.angle, wheel.roller)
            for name, wheel in self.wheels.items()
        )
        return vehicles.RollerWheels(placed, self.wheel_radius, self.fastest)


class PlacedModule(Table):
    """``[chassis.modules.NAME]``: a module that turns and drives."""

    x: SignedLength = Field(description=_PLACE)
    y: SignedLength = Field(description=_PLACE)


class ModulesTable(WheelsBase):
    """Modules that each turn and drive."""

    kind: Literal["modules"] = Field(description="a kind of vehicle")
    modules: dict[Name, PlacedModule] = Field(min_length=2, description="tables [chassis.modules.NAME]")
    turn_rate: TurnSpeed | None = Field(default=None, description='a turning speed, such as "360 deg/s"')

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Give the vehicle."""
        places = tuple((name, module.x, module.y) for name, module in self.modules.items())
        return vehicles.SteeredModules(places, self.wheel_radius, self.fastest, self.turn_rate or math.inf)


class PlacedThruster(Table):
    """``[chassis.thrusters.NAME]``: a propeller or jet."""

    x: SignedLength = Field(description=_PLACE)
    y: SignedLength = Field(description=_PLACE)
    angle: SignedAngle = Field(default=0.0, description='an angle, left positive, such as "45 deg"')
    tilt: SignedAngle = Field(default=0.0, description='an angle, up positive, such as "90 deg"')
    thrust: Force = Field(description='a force, such as "20 N"')
    thrust_back: Force | Literal[0] = Field(description='a force, such as "12 N", or 0 where it is not reversible')


class DragTable(Table):
    """``[chassis.drag]``: what it takes to keep a speed, N per m/s, and N·m per rad/s."""

    forward: float = Field(gt=0.0, description="a number of N per m/s")
    sideways: float | None = Field(default=None, gt=0.0, description="a number of N per m/s")
    up: float | None = Field(default=None, gt=0.0, description="a number of N per m/s")
    turn: float = Field(gt=0.0, description="a number of N m per rad/s")


class ThrustersTable(ChassisBase):
    """A boat or underwater robot."""

    kind: Literal["thrusters"] = Field(description="a kind of vehicle")
    thrusters: dict[Name, PlacedThruster] = Field(min_length=1, description="tables [chassis.thrusters.NAME]")
    drag: DragTable = Field(description="a table [chassis.drag]")

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Give the vehicle."""
        drag = self.drag
        placed = tuple(
            vehicles.Thruster(name, one.x, one.y, one.angle, one.tilt, one.thrust, float(one.thrust_back))
            for name, one in self.thrusters.items()
        )
        sideways = drag.sideways or 2.0 * drag.forward
        return vehicles.Thrusters(placed, vehicles.Drag(drag.forward, sideways, drag.up or sideways, drag.turn))


class AircraftTable(ChassisBase):
    """An autopilot takes the velocity, or a tilt."""

    kind: Literal["aircraft"] = Field(description="a kind of vehicle")
    max_speed: Speed | None = Field(default=None, description='a speed, such as "5 m/s"')
    max_climb: Speed | None = Field(default=None, description='a speed, such as "2 m/s"')
    max_sink: Speed | None = Field(default=None, description='a speed, such as "1 m/s"')
    max_turn: TurnSpeed | None = Field(default=None, description='a turning speed, such as "90 deg/s"')
    max_tilt: Angle | None = Field(default=None, description='an angle, such as "25 deg"')

    def missing(self) -> str | None:
        """Ask for the speed that belongs to the steepest tilt."""
        return "max_speed" if self.max_tilt is not None and self.max_speed is None else None

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Give the vehicle."""
        climb = self.max_climb or math.inf
        return vehicles.Aircraft(
            self.max_speed or math.inf, climb, self.max_sink or climb, self.max_turn or math.inf, self.max_tilt
        )


_SHARE = "a number from -1 to 1"


class MixRow(Table):
    """``[chassis.outputs.NAME]``: what one output takes of each axis."""

    forward: float = Field(default=0.0, ge=-1.0, le=1.0, description=_SHARE)
    sideways: float = Field(default=0.0, ge=-1.0, le=1.0, description=_SHARE)
    up: float = Field(default=0.0, ge=-1.0, le=1.0, description=_SHARE)
    turn: float = Field(default=0.0, ge=-1.0, le=1.0, description=_SHARE)
    offset: float = Field(default=0.0, ge=-1.0, le=1.0, description=_SHARE)
    low: float = Field(default=-1.0, ge=-1.0, le=1.0, description=_SHARE)
    high: float = Field(default=1.0, ge=-1.0, le=1.0, description=_SHARE)


class LinearMixTable(ChassisBase):
    """A matrix of shares of the axes to outputs."""

    kind: Literal["linear_mix"] = Field(description="a kind of vehicle")
    outputs: dict[Name, MixRow] = Field(min_length=1, description="tables [chassis.outputs.NAME]")

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Give the vehicle."""
        rows = tuple(
            vehicles.MixOutput(name, (row.forward, row.sideways, row.up, row.turn), row.offset, row.low, row.high)
            for name, row in self.outputs.items()
        )
        return vehicles.LinearMix(rows, full)


class SurfacesTable(ChassisBase):
    """A throttle, and two surfaces that do two things each."""

    kind: Literal["surfaces"] = Field(description="a kind of vehicle")
    mix: Literal["elevon", "v_tail", "flaperon"] = Field(description='"elevon", "v_tail" or "flaperon"')

    def chassis(self, full: VelocityCommand) -> Chassis:
        """Give the vehicle."""
        return vehicles.LinearMix(vehicles.SURFACES[self.mix], full)


ChassisTable = Annotated[
    DifferentialTable | SkidTable | CarTable | FourWheelSteerTable | MecanumTable | OmniTable | ModulesTable
    | ThrustersTable | AircraftTable | LinearMixTable | SurfacesTable,
    Field(discriminator="kind"),
]  # fmt: skip


class ActuatorTable(Table):
    """``[actuators.NAME]``: in which form an actuator is told what to do."""

    form: Literal["rad/s", "rev/min", "deg", "share", "duty", "pulse"] | None = Field(
        default=None, description='"rad/s", "rev/min", "deg", "share", "duty" or "pulse"'
    )
    full: float | None = Field(default=None, gt=0.0, description="a number above 0: what counts as all of it")
    reverse: bool = Field(default=False, description="true or false")
    gear_ratio: float = Field(default=1.0, gt=0.0, description="turns of the motor for one of the wheel")
    smallest: float = Field(default=0.0, ge=0.0, le=0.5, description="a share from 0 to 0.5")
    bits: int = Field(default=8, ge=8, le=16, description="a whole number from 8 to 16")
    at_zero: Literal["brake", "coast"] = Field(default="coast", description='"brake" or "coast"')
    low_us: float = Field(default=1000.0, ge=500.0, le=2500.0, description="a number of µs from 500 to 2500")
    middle_us: float = Field(default=1500.0, ge=500.0, le=2500.0, description="a number of µs from 500 to 2500")
    high_us: float = Field(default=2000.0, ge=500.0, le=2500.0, description="a number of µs from 500 to 2500")
    sub_trim_us: float = Field(default=0.0, ge=-200.0, le=200.0, description="a number of µs from -200 to 200")
