"""Motion from code: velocities over time, in sequence and in parallel.

A piece has a velocity for each moment of its time; a `tenuto.motion.course.Course` is how a robot drives it.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

import numpy as np

from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand


class Piece(Protocol):
    """A motion that lasts for some time.

    Attributes:
        seconds: its duration.
    """

    @property
    def seconds(self) -> float:
        """Its duration, s."""
        ...

    def at(self, time: float) -> VelocityCommand:
        """Return the velocity at a time, 0 … ``seconds``."""
        ...


@dataclass(frozen=True, slots=True)
class Hold:
    """One velocity for a time."""

    velocity: VelocityCommand
    seconds: float

    def at(self, time: float) -> VelocityCommand:
        """Return the velocity."""
        return self.velocity


@dataclass(frozen=True, slots=True)
class LinearRamp:
    """Linear from one velocity to another."""

    begin: VelocityCommand
    end: VelocityCommand
    seconds: float

    def at(self, time: float) -> VelocityCommand:
        """Return the velocity."""
        share = min(max(time / self.seconds, 0.0), 1.0)
        return VelocityCommand(*(a + share * (b - a) for a, b in zip(self.begin, self.end, strict=True)))


@dataclass(frozen=True, slots=True)
class Sway:
    """Back and forth on one axis: v = speed·sin(2π·t/period)."""

    axis: str
    speed: float
    period: float
    seconds: float

    def at(self, time: float) -> VelocityCommand:
        """Return the velocity."""
        return STANDSTILL._replace(**{self.axis: self.speed * math.sin(math.tau * time / self.period)})


@dataclass(frozen=True, slots=True)
class Circle:
    """Around a circle: along it (the robot turns with it), or in a level or an upright plane with a fixed heading.

    Attributes:
        radius: m. speed: m/s along the circle. turns: their number; negative to the right, or downwards first.
        way: "along", "level" or "upright".
    """

    radius: float
    speed: float
    turns: float = 1.0
    way: str = "along"

    @property
    def seconds(self) -> float:
        """Its duration: 2π·radius·turns / speed."""
        return math.tau * self.radius * abs(self.turns) / self.speed

    def at(self, time: float) -> VelocityCommand:
        """Return the velocity."""
        side = math.copysign(1.0, self.turns)
        rate = self.speed / self.radius
        if self.way == "along":
            return VelocityCommand(vx=self.speed, yaw_rate=side * rate)
        ahead, aside = self.speed * math.cos(rate * time), side * self.speed * math.sin(rate * time)
        return VelocityCommand(ahead, aside) if self.way == "level" else VelocityCommand(ahead, 0.0, aside)


@dataclass(frozen=True, slots=True)
class Samples:
    """Velocities at given times, with straight lines between them.

    Attributes:
        times: increasing from 0, s. velocities: one for each.
    """

    times: tuple[float, ...]
    velocities: tuple[VelocityCommand, ...]

    @property
    def seconds(self) -> float:
        """Their duration."""
        return self.times[-1]

    def at(self, time: float) -> VelocityCommand:
        """Return the interpolated velocity."""
        columns = zip(*self.velocities, strict=True)
        return VelocityCommand(*(float(np.interp(time, self.times, column)) for column in columns))


@dataclass(frozen=True)
class Chain:
    """Pieces in sequence.

    Attributes:
        pieces: in order. names: of the pieces, for people; none if they have no names.
    """

    pieces: tuple[Piece, ...]
    names: tuple[str, ...] = ()

    @cached_property
    def seconds(self) -> float:
        """The sum of their durations."""
        return sum(piece.seconds for piece in self.pieces)

    def at(self, time: float) -> VelocityCommand:
        """Return the velocity of the present piece; standstill after the last."""
        for piece in self.pieces:
            if time < piece.seconds:
                return piece.at(time)
            time -= piece.seconds
        return STANDSTILL

    def name_at(self, time: float) -> str:
        """Name the present piece, or the last one; empty if they have no names."""
        for piece, name in zip(self.pieces, self.names, strict=False):
            if time < piece.seconds:
                return name
            time -= piece.seconds
        return self.names[-1] if self.names else ""


@dataclass(frozen=True)
class Together:
    """Pieces at the same time; their velocities are added, and one that has ended adds nothing."""

    pieces: tuple[Piece, ...]

    @cached_property
    def seconds(self) -> float:
        """The duration of the longest."""
        return max(piece.seconds for piece in self.pieces)

    def at(self, time: float) -> VelocityCommand:
        """Return the sum."""
        going = [piece.at(time) for piece in self.pieces if time < piece.seconds]
        return VelocityCommand(*(sum(axis) for axis in zip(STANDSTILL, *going, strict=True)))


@dataclass(frozen=True)
class Scaled:
    """A piece made smaller and slower.

    Attributes:
        size: the factor of all distances; turns do not change. pace: 0.5 takes twice the time, on the same path.
    """

    piece: Piece
    size: float = 1.0
    pace: float = 1.0

    @cached_property
    def seconds(self) -> float:
        """How long it lasts."""
        return self.piece.seconds / self.pace

    def at(self, time: float) -> VelocityCommand:
        """Return the velocity."""
        vx, vy, vz, yaw_rate = self.piece.at(time * self.pace)
        ways = self.size * self.pace
        return VelocityCommand(vx * ways, vy * ways, vz * ways, yaw_rate * self.pace)


def square(side: float, speed: float, turn: float | None) -> Chain:
    """Around a square to the left: with turns on the spot at ``turn`` rad/s, or for None with a fixed heading."""
    along = side / speed
    if turn is not None:
        corner = Hold(VelocityCommand(yaw_rate=turn), math.pi / 2.0 / abs(turn))
        return Chain((Hold(VelocityCommand(vx=speed), along), corner) * 4)
    ways = (VelocityCommand(speed), VelocityCommand(0.0, speed), VelocityCommand(-speed), VelocityCommand(0.0, -speed))
    return Chain(tuple(Hold(way, along) for way in ways))


def figure_of_eight(radius: float, speed: float, way: str = "along") -> Chain:
    """Around one circle to the left and one to the right."""
    return Chain((Circle(radius, speed, 1.0, way), Circle(radius, speed, -1.0, way)))


def overlaid(pieces: Sequence[tuple[Piece, bool]], names: Sequence[str] = ()) -> Chain:
    """Put pieces in sequence, or together with the last one if marked so; each may have a name."""
    groups: list[list[Piece]] = []
    named: list[list[str]] = []
    for number, (piece, together) in enumerate(pieces):
        if not (together and groups):
            groups.append([])
            named.append([])
        groups[-1].append(piece)
        named[-1] += names[number : number + 1]
    made = tuple(group[0] if len(group) == 1 else Together(tuple(group)) for group in groups)
    return Chain(made, tuple(" and ".join(group) for group in named) if names else ())
