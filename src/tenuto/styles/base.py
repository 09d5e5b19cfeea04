"""Third stage, the style: the meaning of the controls. The interface of every style."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass, fields
from typing import ClassVar, Literal, NamedTuple

from tenuto.kinds.options import Ask, Role, about, named, option
from tenuto.kinds.quantities import LENGTH, SPEED
from tenuto.kinds.registry import Kinds
from tenuto.styles.mixing import Intent, in_corner
from tenuto.styles.speeds import Speeds, Turning
from tenuto.vehicles.base import Chassis, Way
from tenuto.vehicles.velocity import VelocityCommand


class Setting(NamedTuple):
    """The present selection, as far as a style needs it.

    Attributes:
        level: the share of all speeds, 0…1.
        steering: the steering kind of a four-wheel-steered robot, one of `tenuto.styles.four_wheel.STEERING_KINDS`.
        rear_share: the share of the stick's angle for the rear wheels with ``steering = "counter"``, 0…1.
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
        """Name the controls that move the robot; they must be seen at rest before a drive."""

    def demand(
        self, intent: Intent[float], speeds: Speeds, setting: Setting, shaped: Mapping[str, float]
    ) -> VelocityCommand:
        """Return the driver's demand."""
        return speeds.demand(intent, setting.level)

    def aim(self, intent: Intent[float], setting: Setting) -> VelocityCommand | None:
        """Return the velocity for the direction of steered wheels at standstill; None if unknown."""
        return None

    def way(self, speeds: Speeds) -> Way | None:
        """Return the coordinates in which the command changes; None for those of the vehicle."""
        return None

    def cause(self, shaped: Mapping[str, float]) -> str:
        """Describe what reduces the demand of the sticks; empty for nothing. For `explain` only."""
        return ""


class TurningStick(Style):
    """Styles in which a stick turns the robot; ``turning`` says what it sets; None for the turning speed."""

    __slots__ = ()
    corner: str
    turning: Turning | None

    @abstractmethod
    def asked(self, shaped: Mapping[str, float]) -> tuple[float, float]:
        """Return forward and turn as the controls demand them, before the corners are limited."""

    def intent(self, shaped: Mapping[str, float]) -> Intent[float]:
        """Read the intent from the shaped positions."""
        forward, turn = self.asked(shaped)
        if self.corner != "free":
            forward, turn = in_corner(forward, turn, self.corner)
        return tuple.__new__(Intent, (forward, 0.0, 0.0, turn))  # as Intent does, but faster

    def cause(self, shaped: Mapping[str, float]) -> str:
        """Describe what the corner of the stick square reduces."""
        asked, made = self.asked(shaped), self.intent(shaped)
        pairs = zip(("forward", "turn"), asked, (made.forward, made.turn), strict=True)
        less = [f"{name} {a:+z.2f} becomes {b:+z.2f}" for name, a, b in pairs if abs(b - a) > 1e-6]
        return f'{" and ".join(less)} in the corner of the stick (corner = "{self.corner}")' if less else ""

    def demand(
        self, intent: Intent[float], speeds: Speeds, setting: Setting, shaped: Mapping[str, float]
    ) -> VelocityCommand:
        """Return the velocity, with the turn as in `Turning`."""
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


class Misfit(NamedTuple):
    """Why a style does not fit a vehicle: the option, what was expected, what was found."""

    key: str
    expected: str
    found: str


class Asked(NamedTuple):
    """What ``tenuto begin`` asks for a style: the path of the key, the question, and whether it may be left out."""

    key: tuple[str, ...]
    ask: Ask
    optional: bool = False


@dataclass(frozen=True, kw_only=True)
class StyleOptions(ABC):
    """The settings of a style, under ``[style]``.

    Attributes:
        kind: its name in profiles.
        switched_steering: the kind of steering can be switched while driving, see ``[choose.steering]``.
        apart: each stick moves a separate part of the vehicle. Then all parts may only be slowed down by one share:
            otherwise a part whose stick rests would move.
    """

    kind: ClassVar[str]
    switched_steering: ClassVar[bool] = False
    apart: ClassVar[bool] = False

    @abstractmethod
    def style(self, chassis: Chassis) -> Style:
        """Return the style for a vehicle that it fits."""

    def misfit(self, chassis: Chassis) -> Misfit | None:
        """Explain why it does not fit a vehicle; None if it fits."""
        return None

    def measured_heading(self) -> tuple[str, str | None] | None:
        """Return the control that measures the heading and the switch that sets its zero; None if there is none."""
        return None

    @classmethod
    def asks(cls, chassis: Chassis) -> tuple[Asked, ...]:
        """Return what ``tenuto begin`` asks for it on a vehicle; nothing if it can only be written by hand."""
        options = [(one.name, about(one).ask, one.default is None) for one in fields(cls)]
        return tuple(Asked((name,), ask, optional) for name, ask, optional in options if ask is not None)

    def driving(self) -> dict[str, str]:
        """Return option → control for the controls that drive."""
        return dict(named(self, Role.DRIVES))


@dataclass(frozen=True, kw_only=True)
class TurningOptions(StyleOptions):
    """The common options of styles with a turning stick."""

    corner: Literal["free", "clip", "scale", "halve", "keep turn", "keep forward"] | None = option(
        '"free", "clip", "scale", "halve", "keep turn" or "keep forward"', None
    )
    smallest_radius: float | None = option('a length, such as "0.8 m"', None, dimension=LENGTH)
    spot_below: float = option('a speed, such as "0.2 m/s"', 0.2, dimension=SPEED)
    backing: Literal["same", "as a car"] = option('"same" or "as a car"', "same")

    def turning(self) -> Turning | None:
        """Return what the turning stick sets; None for the turning speed only."""
        if self.smallest_radius is None and self.backing == "same":
            return None
        return Turning(self.smallest_radius, self.spot_below, self.backing)


STYLES: Kinds[StyleOptions] = Kinds("a style", "tenuto.styles", StyleOptions)
