"""Thrusters: each on its own stick."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.kinds.options import Ask, Role, option
from tenuto.styles.base import Asked, Misfit, Setting, Style, StyleOptions
from tenuto.styles.mixing import Intent
from tenuto.styles.speeds import Speeds
from tenuto.vehicles.base import Chassis, Way
from tenuto.vehicles.thrusters import Thrusters
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand


@dataclass(frozen=True, slots=True)
class ThrusterSticks(Style):
    """Each thruster on its own stick.

    Attributes:
        each: thruster → control. chassis: the boat, which computes the velocity for the thrusts.
    """

    each: tuple[tuple[str, str], ...]
    chassis: Thrusters

    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Return the velocity of the thrusters as shares of the fastest along each axis."""
        velocity = self.chassis.velocity_of({thruster: shaped[control] for thruster, control in self.each})
        straight, sideways, up, turn, _ = self.chassis.limits()
        most = (straight, sideways, up, turn)
        return Intent(*(axis / full if full else 0.0 for axis, full in zip(velocity, most, strict=True)))

    def controls(self) -> tuple[str, ...]:
        """Name the controls that move the robot."""
        return tuple(control for _, control in self.each)

    def way(self, speeds: Speeds) -> Way | None:
        """Go the straight way: a thruster whose stick rests is not moved by the others."""
        return "straight"

    def cause(self, shaped: Mapping[str, float]) -> str:
        """Report that the thrusters reduce what the sticks demand."""
        intent = self.intent(shaped)
        return "the thrusters limit it" if max(map(abs, intent)) < 1.0 - 1e-6 else ""

    def demand(
        self, intent: Intent[float], speeds: Speeds, setting: Setting, shaped: Mapping[str, float]
    ) -> VelocityCommand:
        """Return the velocity of the thrusters, reduced by one share if any axis is faster than its speed."""
        velocity = self.chassis.velocity_of({thruster: shaped[control] for thruster, control in self.each})
        ends = speeds.demand(Intent(*(math.copysign(1.0, axis) for axis in velocity)), 1.0)
        share = min(
            (abs(end / axis) for axis, end in zip(velocity, ends, strict=True) if abs(axis) > abs(end)), default=1.0
        )
        if velocity == STANDSTILL:
            return STANDSTILL
        return VelocityCommand(*(setting.level * share * axis for axis in velocity))


@dataclass(frozen=True, kw_only=True)
class ThrusterSticksOptions(StyleOptions):
    """Each thruster on its own stick."""

    kind: ClassVar[str] = "thrusters"
    apart: ClassVar[bool] = True
    each: dict[str, str] = option("drives a thruster, in a table", role=Role.DRIVES, fewest=1)

    @classmethod
    def asks(cls, chassis: Chassis) -> tuple[Asked, ...]:
        """Ask for a stick of each thruster."""
        thrusters = chassis.thrusters if isinstance(chassis, Thrusters) else ()
        names = [(one.name, one.name.upper()) for one in thrusters]
        return tuple(
            Asked(("each", name), Ask(name, f"push the robot with {word} FORWARD", f"push it with {word} BACKWARD"))
            for name, word in names
        )

    def style(self, chassis: Chassis) -> Style:
        """Return the style."""
        assert isinstance(chassis, Thrusters)
        return ThrusterSticks(tuple(self.each.items()), chassis)

    def misfit(self, chassis: Chassis) -> Misfit | None:
        """Refuse a vehicle without such thrusters."""
        if not isinstance(chassis, Thrusters):
            return Misfit("kind", 'a style for this vehicle; "thrusters" is for kind thrusters', '"thrusters"')
        known = [thruster.name for thruster in chassis.thrusters]
        wrong = [name for name in self.each if name not in known]
        return Misfit("each", f"thrusters of this vehicle: {', '.join(known)}", ", ".join(wrong)) if wrong else None
