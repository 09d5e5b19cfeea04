"""The tables of a profile that say what the controls mean for the robot: one a style."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from tenuto.profile.quantities import Angle, Length, Speed
from tenuto.profile.table import Name, Table
from tenuto.styles.all import (
    AnyDirection,
    Arcade,
    Car,
    Flight,
    FourWheel,
    Pressed,
    Style,
    Tank,
    ThrusterSticks,
)
from tenuto.styles.mixing import STICK_MODES
from tenuto.styles.speeds import Turning
from tenuto.vehicles import Chassis, SteeredWheels, Thrusters

# Begins the description of every key whose value is the name of a control.
CONTROL = "the name of the control under [controls] that"


class StyleBase(Table):
    """What all styles have in common."""

    def named_controls(self) -> dict[str, str]:
        """Give key → control for the controls that it names."""
        fields = type(self).model_fields.items()
        named = {key: getattr(self, key) for key, field in fields if (field.description or "").startswith(CONTROL)}
        return {key: name for key, name in named.items() if name is not None}

    def misfit(self, chassis: Chassis) -> tuple[str, str, str] | None:
        """Say why it does not fit a chassis: key, what was expected, what was found; None where it does."""
        return None


class TurningTable(StyleBase):
    """What styles with a turning stick have in common."""

    corner: Literal["free", "clip", "scale", "halve", "keep turn", "keep forward"] | None = Field(
        default=None, description='"free", "clip", "scale", "halve", "keep turn" or "keep forward"'
    )
    smallest_radius: Length | None = Field(default=None, description='a length, such as "0.8 m"')
    spot_below: Speed = Field(default=0.2, description='a speed, such as "0.2 m/s"')
    backing: Literal["same", "as a car"] = Field(default="same", description='"same" or "as a car"')

    def turning(self) -> Turning | None:
        """Say what the turning stick sets; None for the turning speed, and no more."""
        if self.smallest_radius is None and self.backing == "same":
            return None
        return Turning(self.smallest_radius, self.spot_below, self.backing)


class ArcadeTable(TurningTable):
    """``[style]`` with ``kind = "arcade"``: one control drives, one turns."""

    kind: Literal["arcade"] = Field(description="a style")
    forward: Name = Field(description=f"{CONTROL} drives")
    turn: Name = Field(description=f"{CONTROL} turns")
    sticks: Literal[1, 2] = Field(default=2, description="1 when both are the axes of a single stick, otherwise 2")

    def style(self, chassis: Chassis) -> Style:
        """Give the style; a single stick's corner asks for no more than its ends, if nothing else is said."""
        corner = self.corner or ("scale" if self.sticks == 1 else "free")
        return Arcade(self.forward, self.turn, corner, self.turning())


class TriggersTable(TurningTable):
    """``[style]`` with ``kind = "triggers"``: a trigger to go forward, one to go backward, and a stick to turn."""

    kind: Literal["triggers"] = Field(description="a style")
    forward: Name = Field(description=f"{CONTROL} goes forward")
    backward: Name = Field(description=f"{CONTROL} goes backward")
    turn: Name = Field(description=f"{CONTROL} turns")

    def style(self, chassis: Chassis) -> Style:
        """Give the style."""
        return Pressed(self.forward, self.backward, self.turn, None, self.corner or "free", self.turning())


class FourWayTable(TurningTable):
    """``[style]`` with ``kind = "four_way"``: four buttons, or the four ways of a pad."""

    kind: Literal["four_way"] = Field(description="a style")
    forward: Name = Field(description=f"{CONTROL} goes forward")
    backward: Name = Field(description=f"{CONTROL} goes backward")
    left: Name = Field(description=f"{CONTROL} turns left")
    right: Name = Field(description=f"{CONTROL} turns right")

    def style(self, chassis: Chassis) -> Style:
        """Give the style."""
        return Pressed(self.forward, self.backward, self.left, self.right, self.corner or "scale", self.turning())


class TankTable(StyleBase):
    """``[style]`` with ``kind = "tank"``: a stick for each side."""

    kind: Literal["tank"] = Field(description="a style")
    left: Name = Field(description=f"{CONTROL} drives the left side")
    right: Name = Field(description=f"{CONTROL} drives the right side")

    def style(self, chassis: Chassis) -> Style:
        """Give the style."""
        return Tank(self.left, self.right)


class CarTable(StyleBase):
    """``[style]`` with ``kind = "car"``: throttle and steering."""

    kind: Literal["car"] = Field(description="a style")
    throttle: Name = Field(description=f"{CONTROL} drives")
    steer: Name = Field(description=f"{CONTROL} steers")
    smallest_radius: Length | None = Field(default=None, description='a length, such as "0.8 m"')

    def style(self, chassis: Chassis) -> Style:
        """Give the style; at the end of the stick is the smallest radius of the vehicle, if nothing else is said."""
        return Car(self.throttle, self.steer, self.smallest_radius or chassis.limits().smallest_radius)

    def misfit(self, chassis: Chassis) -> tuple[str, str, str] | None:
        """Ask for the radius where the vehicle has none."""
        if self.smallest_radius is None and chassis.limits().smallest_radius <= 0.0:
            return "smallest_radius", "a length: this vehicle turns on the spot, and has none of its own", "nothing"
        return None


class FourWheelTable(StyleBase):
    """``[style]`` with ``kind = "four_wheel"``: throttle and steering of both axles."""

    kind: Literal["four_wheel"] = Field(description="a style")
    throttle: Name = Field(description=f"{CONTROL} drives")
    steer: Name = Field(description=f"{CONTROL} steers")
    steering: Literal["front", "rear", "counter", "crab"] | None = Field(
        default=None, description='"front", "rear", "counter" or "crab"'
    )
    max_angle: Angle | None = Field(default=None, description='an angle, such as "30 deg"')

    def style(self, chassis: Chassis) -> Style:
        """Give the style; the end of the stick is what the wheels can do, if nothing else is said."""
        assert isinstance(chassis, SteeredWheels)
        wheelbase = max(wheel.x for wheel in chassis.wheels) - min(wheel.x for wheel in chassis.wheels)
        most = self.max_angle or 0.9 * min(wheel.max_angle for wheel in chassis.wheels)
        return FourWheel(self.throttle, self.steer, most, wheelbase, self.steering)

    def misfit(self, chassis: Chassis) -> tuple[str, str, str] | None:
        """Refuse what does not steer all its wheels."""
        if isinstance(chassis, SteeredWheels) and all(wheel.max_angle > 0.0 for wheel in chassis.wheels):
            return None
        return "kind", 'a style for this vehicle; "four_wheel" is for kind four_wheel_steer', '"four_wheel"'


class AnyDirectionTable(StyleBase):
    """``[style]`` with ``kind = "any_direction"``: two translations and a turn."""

    kind: Literal["any_direction"] = Field(description="a style")
    forward: Name = Field(description=f"{CONTROL} goes forward")
    sideways: Name = Field(description=f"{CONTROL} goes left")
    turn: Name = Field(description=f"{CONTROL} turns")
    heading: Name | None = Field(default=None, description="the name of a control under [controls]: the heading")
    heading_zero: Name | None = Field(default=None, description="a switch, or a control that is pressed")

    def style(self, chassis: Chassis) -> Style:
        """Give the style."""
        return AnyDirection(self.forward, self.sideways, self.turn, self.heading)


class FlightTable(StyleBase):
    """``[style]`` with ``kind = "flight"``: a control each for climbing, turning, forward and sideways."""

    kind: Literal["flight"] = Field(description="a style")
    climb: Name = Field(description=f"{CONTROL} climbs")
    turn: Name | None = Field(default=None, description=f"{CONTROL} turns")
    forward: Name | None = Field(default=None, description=f"{CONTROL} goes forward")
    sideways: Name | None = Field(default=None, description=f"{CONTROL} goes left")

    def style(self, chassis: Chassis) -> Style:
        """Give the style."""
        return Flight(self.climb, self.turn, self.forward, self.sideways)


class FlightSticksTable(StyleBase):
    """``[style]`` with ``kind = "flight_sticks"``: two sticks, as one of the trade's four stick modes has them."""

    kind: Literal["flight_sticks"] = Field(description="a style")
    stick_mode: Literal[1, 2, 3, 4] = Field(description="1, 2, 3 or 4")
    left_x: Name = Field(description=f"{CONTROL} is the left stick to its left")
    left_y: Name = Field(description=f"{CONTROL} is the left stick forward")
    right_x: Name = Field(description=f"{CONTROL} is the right stick to its left")
    right_y: Name = Field(description=f"{CONTROL} is the right stick forward")

    def style(self, chassis: Chassis) -> Style:
        """Give the flight style that the stick mode stands for."""
        return Flight(**{axis: getattr(self, stick) for axis, stick in STICK_MODES[self.stick_mode].items()})


class ThrusterSticksTable(StyleBase):
    """``[style]`` with ``kind = "thrusters"``: each thruster on its own stick."""

    kind: Literal["thrusters"] = Field(description="a style")
    each: dict[Name, Name] = Field(min_length=1, description="a table of thrusters and the controls that drive them")

    def named_controls(self) -> dict[str, str]:
        """Give key → control."""
        return {f"each.{thruster}": control for thruster, control in self.each.items()}

    def style(self, chassis: Chassis) -> Style:
        """Give the style."""
        assert isinstance(chassis, Thrusters)
        return ThrusterSticks(tuple(self.each.items()), chassis)

    def misfit(self, chassis: Chassis) -> tuple[str, str, str] | None:
        """Refuse what has no such thrusters."""
        if not isinstance(chassis, Thrusters):
            return "kind", 'a style for this vehicle; "thrusters" is for kind thrusters', '"thrusters"'
        known = [thruster.name for thruster in chassis.thrusters]
        wrong = [name for name in self.each if name not in known]
        return ("each", f"thrusters of this vehicle: {', '.join(known)}", ", ".join(wrong)) if wrong else None


StyleTable = Annotated[
    ArcadeTable | TriggersTable | FourWayTable | TankTable | CarTable | FourWheelTable | AnyDirectionTable
    | FlightTable | FlightSticksTable | ThrusterSticksTable,
    Field(discriminator="kind"),
]  # fmt: skip
