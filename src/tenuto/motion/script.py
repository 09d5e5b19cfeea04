"""Motion from code: velocities over time, put after one another and together, and what becomes of them on the ground.

A piece gives a velocity for each moment of its time; how often it is asked changes no distance. A `Course` is a whole
script with its starts and stops rounded off, sampled once; it knows where the robot will have been.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple, Protocol

import numpy as np

from tenuto.basics.number import Array
from tenuto.driving.limits import Limits, approach
from tenuto.motion.odometry import along_arc
from tenuto.styles.speeds import Speeds
from tenuto.vehicles.base import Chassis
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# A course is sampled so often, s, and read in between by straight lines.
STEP = 0.005
LONGEST = 3600.0
AXES = VelocityCommand._fields


class Piece(Protocol):
    """A motion that lasts for some time.

    Attributes:
        seconds: how long.
    """

    @property
    def seconds(self) -> float:
        """How long it lasts, s."""
        ...

    def at(self, time: float) -> VelocityCommand:
        """Return the velocity at a moment of it, 0 … ``seconds``."""
        ...


@dataclass(frozen=True, slots=True)
class Hold:
    """One velocity for a while."""

    velocity: VelocityCommand
    seconds: float

    def at(self, time: float) -> VelocityCommand:
        """Return the velocity."""
        return self.velocity


@dataclass(frozen=True, slots=True)
class LinearRamp:
    """Evenly from one velocity to another."""

    begin: VelocityCommand
    end: VelocityCommand
    seconds: float

    def at(self, time: float) -> VelocityCommand:
        """Return the velocity on the way."""
        share = min(max(time / self.seconds, 0.0), 1.0)
        return VelocityCommand(*(a + share * (b - a) for a, b in zip(self.begin, self.end, strict=True)))


@dataclass(frozen=True, slots=True)
class Sway:
    """To and fro on one axis: v = speed·sin(2π·t/period)."""

    axis: str
    speed: float
    period: float
    seconds: float

    def at(self, time: float) -> VelocityCommand:
        """Return the velocity."""
        return STANDSTILL._replace(**{self.axis: self.speed * math.sin(math.tau * time / self.period)})


@dataclass(frozen=True, slots=True)
class Circle:
    """Round a circle: along it (the robot turns with it), or in a level or an upright plane with the heading held.

    Attributes:
        radius: m. speed: m/s along the circle. turns: how many times round; negative to the right, or downwards first.
        way: "along", "level" or "upright".
    """

    radius: float
    speed: float
    turns: float = 1.0
    way: str = "along"

    @property
    def seconds(self) -> float:
        """How long it takes: 2π·radius·turns / speed."""
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
    """Velocities at moments, straight lines between them.

    Attributes:
        times: rising from 0, s. velocities: one each.
    """

    times: tuple[float, ...]
    velocities: tuple[VelocityCommand, ...]

    @property
    def seconds(self) -> float:
        """How long they last."""
        return self.times[-1]

    def at(self, time: float) -> VelocityCommand:
        """Return the velocity between the nearest two."""
        columns = zip(*self.velocities, strict=True)
        return VelocityCommand(*(float(np.interp(time, self.times, column)) for column in columns))


@dataclass(frozen=True)
class Chain:
    """Pieces after one another.

    Attributes:
        pieces: what is done. names: of the pieces, for people; none where nobody gave them any.
    """

    pieces: tuple[Piece, ...]
    names: tuple[str, ...] = ()

    @cached_property
    def seconds(self) -> float:
        """How long all of them last."""
        return sum(piece.seconds for piece in self.pieces)

    def at(self, time: float) -> VelocityCommand:
        """Return the velocity of the piece whose turn it is; standstill after the last."""
        for piece in self.pieces:
            if time < piece.seconds:
                return piece.at(time)
            time -= piece.seconds
        return STANDSTILL

    def name_at(self, time: float) -> str:
        """Name the piece whose turn it is, or the last one; empty where they have no names."""
        for piece, name in zip(self.pieces, self.names, strict=False):
            if time < piece.seconds:
                return name
            time -= piece.seconds
        return self.names[-1] if self.names else ""


@dataclass(frozen=True)
class Together:
    """Pieces at the same time, their velocities added; one that has ended adds nothing."""

    pieces: tuple[Piece, ...]

    @cached_property
    def seconds(self) -> float:
        """How long the longest lasts."""
        return max(piece.seconds for piece in self.pieces)

    def at(self, time: float) -> VelocityCommand:
        """Return the sum."""
        going = [piece.at(time) for piece in self.pieces if time < piece.seconds]
        return VelocityCommand(*(sum(axis) for axis in zip(STANDSTILL, *going, strict=True)))


@dataclass(frozen=True)
class Scaled:
    """A piece made smaller and slower.

    Attributes:
        size: of all ways; turns stay as they are. pace: 0.5 takes twice the time, on the same path.
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
    """Round a square to the left: turning on the spot at ``turn`` rad/s, or sideways with the heading held for None."""
    along = side / speed
    if turn is not None:
        corner = Hold(VelocityCommand(yaw_rate=turn), math.pi / 2.0 / abs(turn))
        return Chain((Hold(VelocityCommand(vx=speed), along), corner) * 4)
    ways = (VelocityCommand(speed), VelocityCommand(0.0, speed), VelocityCommand(-speed), VelocityCommand(0.0, -speed))
    return Chain(tuple(Hold(way, along) for way in ways))


def figure_of_eight(radius: float, speed: float, way: str = "along") -> Chain:
    """Round one circle to the left and one to the right."""
    return Chain((Circle(radius, speed, 1.0, way), Circle(radius, speed, -1.0, way)))


class Violation(NamedTuple):
    """Something of a course that a robot must not do, or cannot.

    Attributes:
        text: what it is. time: when it is so for the first time, s.
    """

    text: str
    time: float

    def __str__(self) -> str:
        return f"{self.text}, at {self.time:.1f} s"


class Course:
    """A script as it will be driven: rounded off, with where the robot will be, dead reckoned from where it stands.

    Attributes:
        times: s, every `STEP`. velocities: an array, a row a time, the four axes of a velocity.
        x, y, z, heading: where it is then, from the start: m, m, m, rad.
    """

    def __init__(self, piece: Piece, acceleration: float, turn_acceleration: float) -> None:
        """Sample a script; its velocity changes no faster than that, m/s² on each way and rad/s², and ends at rest.

        Raises:
            ValueError: it lasts longer than an hour.
        """
        if not piece.seconds <= LONGEST:
            raise ValueError(f"it lasts {piece.seconds:g} s, and may last {LONGEST:g} s")
        most = [STEP * acceleration] * 3 + [STEP * turn_acceleration]
        now, rows, time = STANDSTILL, [STANDSTILL], 0.0
        while time < piece.seconds or now != STANDSTILL:
            target = piece.at(time) if time < piece.seconds else STANDSTILL
            now = VelocityCommand(*map(approach, now, target, most))
            rows.append(now)
            time += STEP
        self.velocities = np.array(rows)
        self.times = np.arange(len(rows)) * STEP
        self._reckon()

    def _reckon(self) -> None:
        # The mean of two samples is what the straight line between them goes.
        middle = (self.velocities[1:] + self.velocities[:-1]) / 2.0 * STEP
        pose, path = (0.0, 0.0, 0.0), [(0.0, 0.0, 0.0)]
        for way_x, way_y, _, turned in middle:
            pose = along_arc(*pose, float(way_x), float(way_y), float(turned))
            path.append(pose)
        self.x, self.y, self.heading = np.array(path).T
        self.z = np.concatenate([[0.0], np.cumsum(middle[:, 2])])

    @property
    def seconds(self) -> float:
        """How long it takes."""
        return float(self.times[-1])

    @property
    def top_speeds(self) -> VelocityCommand:
        """The fastest on each axis either way, m/s and rad/s."""
        return VelocityCommand(*map(float, np.abs(self.velocities).max(axis=0)))

    @property
    def top_accelerations(self) -> VelocityCommand:
        """The strongest on each axis, m/s² and rad/s²."""
        return VelocityCommand(*map(float, np.abs(np.diff(self.velocities, axis=0)).max(axis=0) / STEP))

    @property
    def excursion(self) -> float:
        """How far it gets from where it starts, m."""
        return float(np.sqrt(self.x**2 + self.y**2 + self.z**2).max())

    def at(self, time: float) -> VelocityCommand:
        """Return the velocity at a moment since the start; standstill before it and after the end."""
        place = time / STEP
        row = int(place)
        if not 0.0 <= place < len(self.velocities) - 1:
            return STANDSTILL
        share = place - row
        before, after = self.velocities[row].tolist(), self.velocities[row + 1].tolist()
        return VelocityCommand(*(a + share * (b - a) for a, b in zip(before, after, strict=True)))

    def problems(self, speeds: Speeds, limits: Limits, within: float = math.inf) -> list[Violation]:
        """List what of it a robot must not do: too fast, too sudden, too far. Nothing where all is well."""
        vx, vy, vz, turn = self.velocities.T
        found = [
            Violation(f"{word}: {way.max():.2f} {unit}, the profile allows {most:.2f}", self._first(way > most + 1e-9))
            for word, way, most, unit in (
                ("forward", vx, speeds.forward, "m/s"), ("backward", -vx, speeds.backward, "m/s"),
                ("sideways", np.abs(vy), speeds.sideways, "m/s"), ("up", vz, speeds.up, "m/s"),
                ("down", -vz, speeds.down, "m/s"), ("turn", np.abs(turn), speeds.turn, "rad/s"),
            ) if way.max() > most + 1e-9
        ]  # fmt: skip
        changes = np.abs(np.diff(self.velocities, axis=0)).T / STEP
        for name, change, (most, _) in zip(AXES, changes, limits.axes, strict=True):
            if change.max() > most * (1.0 + 1e-6):
                text = f"acceleration of {name}: {change.max():.2f}, the profile allows {most:.2f}"
                found.append(Violation(text, self._first(change > most * (1.0 + 1e-6))))
        if self.excursion > within:
            text = f"it gets {self.excursion:.2f} m away, and is to stay within {within:.2f} m"
            found.append(Violation(text, self._first(np.sqrt(self.x**2 + self.y**2 + self.z**2) > within)))
        return found

    def _first(self, where: Array) -> float:
        return float(self.times[int(np.argmax(where))])


def beyond(course: Course, chassis: Chassis) -> list[Violation]:
    """List what of a course a vehicle cannot do: a way it cannot go, or faster than it can. Looked at every 20 ms."""
    ways: dict[str, float] = {}
    least, least_at = 1.0, 0.0
    for time, row in zip(course.times[::4].tolist(), course.velocities[::4].tolist(), strict=True):
        command = VelocityCommand(*row)
        _, share = chassis.within_reach(VelocityCommand(*chassis.possible(*command)))
        least, least_at = min((least, least_at), (share, time))
        for way in chassis.cannot(command):
            ways.setdefault(way, time)
    found = [Violation(f"this vehicle cannot do {way} as the script asks", time) for way, time in sorted(ways.items())]
    if 0.0 < least < 1.0:
        found.append(Violation(f"it asks for {100.0 / least:.0f} % of what the vehicle can do at most", least_at))
    return found


def fitted(piece: Piece, speeds: Speeds, limits: Limits, within: float = math.inf) -> tuple[Scaled, Course]:
    """Make a script as much smaller and slower as it takes to fit, and give it with its course.

    Raises:
        ValueError: it cannot be made to fit: it goes a way that the profile has no speed for.
    """
    size = pace = 1.0
    course = Course(piece, limits.acceleration, limits.turn_acceleration)
    for _ in range(20):
        if not course.problems(speeds, limits, within):
            return Scaled(piece, size, pace), course
        if course.excursion > within:
            size *= 0.995 * within / course.excursion
        else:
            tops = [
                (float(course.velocities[:, 0].max()), speeds.forward),
                (float(-course.velocities[:, 0].min()), speeds.backward),
                (course.top_speeds.vy, speeds.sideways), (float(course.velocities[:, 2].max()), speeds.up),
                (float(-course.velocities[:, 2].min()), speeds.down), (course.top_speeds.yaw_rate, speeds.turn),
            ]  # fmt: skip
            if any(top > 1e-6 and most <= 0.0 for top, most in tops):
                raise ValueError("; ".join(map(str, course.problems(speeds, limits, within))))
            pace *= 0.999 * min([1.0, *(most / top for top, most in tops if top > 1e-9)])
        course = Course(Scaled(piece, size, pace), limits.acceleration, limits.turn_acceleration)
    raise ValueError("; ".join(map(str, course.problems(speeds, limits, within))))


def overlaid(pieces: Sequence[tuple[Piece, bool]], names: Sequence[str] = ()) -> Chain:
    """Put pieces after one another, those marked so together with the one before; each may have a name."""
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
