"""A script as a robot drives it: its pace, its path, and the limits that it exceeds."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from itertools import chain, repeat
from typing import NamedTuple, Self

import numpy as np

from tenuto.basics.errors import ArgumentError, TenutoError
from tenuto.basics.number import Array
from tenuto.driving.distance import Braking
from tenuto.driving.limits import Limits, within_speeds
from tenuto.driving.plan import Plan
from tenuto.driving.ramps import CommandRamp
from tenuto.motion.odometry import along_arc
from tenuto.motion.pace import moments, paces
from tenuto.motion.script import Piece, Scaled
from tenuto.styles.speeds import Speeds
from tenuto.vehicles.base import Chassis, Way
from tenuto.vehicles.units import METRIC, NO_METRES
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# The step of a course, s; between samples it is linear.
STEP = 0.005
LONGEST = 3600.0
# A sudden change is spread over this time, s, so that the robot need not stand still for it.
_SPREAD = 0.2
# The greatest deviation from the written path, as a share of its size.
BENT = 0.05
# The greatest number of places of a path that are compared.
_PLACES = 1500
_FITS = 40
# After this number of slower paces without an improvement, a script cannot be made to fit.
_IN_VAIN = 3


@dataclass(frozen=True, slots=True, kw_only=True)
class Rules:
    """The limits of a robot during a script.

    Attributes:
        speeds, limits: of the mode. chassis: None for one without limits. way: see `CommandRamp`.
        braking: of a stop of the guard; None if no stop is included.
    """

    speeds: Speeds
    limits: Limits
    chassis: Chassis | None = None
    way: Way | None = None
    braking: Braking | None = None

    @classmethod
    def of(cls, plan: Plan) -> Self:
        """Return those of the initial mode of a plan. Raises TenutoError for a vehicle without measures."""
        if not plan.chassis.units.known:
            raise TenutoError(f"a script is in metres, and {NO_METRES}: set them in [chassis]")
        mode, guard = plan.mode, plan.guard
        stops = (guard.stop_deceleration, guard.stop_turn_deceleration, guard.stop_vertical_deceleration)
        return cls(
            speeds=mode.speeds, limits=within_speeds(mode.limits, mode.speeds), chassis=plan.chassis,
            way=mode.style.way(mode.speeds), braking=Braking(*stops),
        )  # fmt: skip


class Violation(NamedTuple):
    """A violation: a part of a course that a robot must not or cannot drive.

    Attributes:
        text: a description. time: of its first occurrence, s.
    """

    text: str
    time: float

    def __str__(self) -> str:
        return f"{self.text}, at {self.time:.1f} s"


class Path(NamedTuple):
    """The pose of a robot at each moment, relative to its start: m, m, m, rad; arrays of one length."""

    x: Array
    y: Array
    z: Array
    heading: Array

    @property
    def places(self) -> Array:
        """(moment, 3), m."""
        return np.stack([self.x, self.y, self.z], axis=1)


class Course:
    """A script as it will be driven, with the poses of the robot by dead reckoning from its start.

    The written path is kept: if its velocity changes faster than the robot may, the robot drives that part more
    slowly. The result of the robot's ramps is in ``velocities``.

    Attributes:
        times: s, every `STEP`. asked: the demand at each time, an array with a row per time and the four axes of a
            velocity. velocities: the commands, likewise.
        path: its pose at each time. written: the path of the script, at its own times.
        strays: the greatest distance from the written path, m. turned_off: the difference of the final heading, rad.
    """

    def __init__(self, piece: Piece, rules: Rules) -> None:
        """Compute it.

        Raises:
            ArgumentError: it lasts longer than an hour.
        """
        if not piece.seconds <= LONGEST:
            raise ArgumentError(f"it lasts {piece.seconds:g} s, and may last {LONGEST:g} s")
        self._rules = rules
        raw = _written(piece)
        spread = _spread(raw)
        most = np.array([min(axis) for axis in rules.limits.axes])
        shares = paces(spread, most, STEP)
        at = moments(shares, STEP)
        if at[-1] > 2.0 * LONGEST:
            raise ArgumentError(f"it takes {at[-1]:.0f} s at these accelerations, and may take {2.0 * LONGEST:g} s")
        times = np.arange(0.0, at[-1] + STEP, STEP)
        paced = spread * shares[:, None]
        self.asked = np.stack([np.interp(times, at, axis) for axis in paced.T], axis=1)
        self.asked[-1] = 0.0
        self.velocities = _ramped(self.asked, rules)
        self.times = np.arange(len(self.velocities)) * STEP
        self._driven_at = at
        self.written, self.path = _reckoned(raw), _reckoned(self.velocities)
        self.strays = max(_apart(self.path, self.written), _apart(self.written, self.path))
        self.turned_off = float(self.path.heading[-1] - self.written.heading[-1])

    @property
    def seconds(self) -> float:
        """Its duration, s."""
        return float(self.times[-1])

    @property
    def top_speeds(self) -> VelocityCommand:
        """The greatest speed on each axis in either direction, m/s and rad/s."""
        return VelocityCommand(*map(float, np.abs(self.velocities).max(axis=0)))

    @property
    def top_accelerations(self) -> VelocityCommand:
        """The greatest acceleration on each axis, m/s² and rad/s²."""
        return VelocityCommand(*map(float, np.abs(np.diff(self.velocities, axis=0)).max(axis=0) / STEP))

    @property
    def size(self) -> float:
        """The longest side of a box around the written path, m."""
        return float(np.ptp(self.written.places, axis=0).max())

    @property
    def bent(self) -> float:
        """The deviation as a share of its size, or that of the final heading as a share of its turns."""
        turned = min(float(np.ptp(self.written.heading)), math.tau)
        return max(
            self.strays / self.size if self.size > 0.01 else 0.0, abs(self.turned_off) / turned if turned > 0.1 else 0.0
        )

    @cached_property
    def excursion(self) -> float:
        """The greatest distance from its start, m, including a stop of the guard at any time."""
        return float(self._away.max())

    @cached_property
    def _away(self) -> Array:
        """The distance from its start at each moment, and after a stop from then on, m."""
        furthest: Array = np.linalg.norm(self.path.places, axis=1)
        if self._rules.braking is None:
            return furthest
        vx, vy, vz, turn = self.velocities.T
        level, turning, upright = self._rules.braking
        stop = np.maximum.reduce([np.hypot(vx, vy) / level, np.abs(turn) / turning, np.abs(vz) / upright])
        for share in (0.25, 0.5, 0.75, 1.0):
            # A stop reduces all speeds by one share: after a share s of its time it has gone s·(1 − s/2) of v·T.
            gone = stop * share * (1.0 - share / 2.0)
            x, y, _ = along_arc(self.path.x, self.path.y, self.path.heading, vx * gone, vy * gone, turn * gone)
            furthest = np.maximum(furthest, np.sqrt(x**2 + y**2 + (self.path.z + vz * gone) ** 2))
        return furthest

    def at(self, time: float) -> VelocityCommand:
        """Return the demanded velocity at a time since the start; standstill before it and after the end."""
        place = time / STEP
        row = int(place)
        if not 0.0 <= place < len(self.asked) - 1:
            return STANDSTILL
        share = place - row
        before, after = self.asked[row].tolist(), self.asked[row + 1].tolist()
        return VelocityCommand(*(a + share * (b - a) for a, b in zip(before, after, strict=True)))

    def moment(self, time: float) -> float:
        """Return the time in the script that is driven at a time, both in s."""
        return float(np.interp(time, self._driven_at, np.arange(len(self._driven_at)) * STEP)) - _SPREAD / 2.0

    def problems(self, within: float = math.inf) -> list[Violation]:
        """List the violations of the robot's limits: too fast, or too far away."""
        speeds, (vx, vy, vz, turn) = self._rules.speeds, self.asked.T
        found = [
            Violation(
                f"{word}: {unit.shown(way.max())}, the profile allows {unit.number(most)}",
                self._first(way > most + 1e-9),
            )
            for word, way, most, unit in (
                ("forward", vx, speeds.forward, METRIC.speed), ("backward", -vx, speeds.backward, METRIC.speed),
                ("sideways", np.abs(vy), speeds.sideways, METRIC.speed), ("up", vz, speeds.up, METRIC.speed),
                ("down", -vz, speeds.down, METRIC.speed), ("turn", np.abs(turn), speeds.turn, METRIC.turn),
            ) if way.max() > most + 1e-9
        ]  # fmt: skip
        if self.excursion > within:
            text = f"it goes {self.excursion:.2f} m away, stops included, and must stay within {within:.2f} m"
            found.append(Violation(text, self._first(self._away > within)))
        return found

    def bends(self) -> list[Violation]:
        """Report if the ramps of the robot change the path too much; empty if not."""
        if self.bent <= BENT:
            return []
        text = (
            f"it strays {self.strays:.2f} m from its path and ends {math.degrees(self.turned_off):+z.0f} deg "
            f"off: the robot cannot change its velocity so fast"
        )
        # It begins where the command first differs from the demand.
        count = min(len(self.asked), len(self.velocities))
        most = np.maximum(np.abs(self.asked).max(axis=0), 1e-9)
        behind = (np.abs(self.velocities[:count] - self.asked[:count]) / most).max(axis=1)
        return [Violation(text, self._first(behind > BENT) if behind.max() > BENT else self.seconds)]

    def _first(self, where: np.ndarray) -> float:
        return float(self.times[int(np.argmax(where))])


def _written(piece: Piece) -> Array:
    """Sample a script, with room for its ends to be spread."""
    steps, room = max(1, round(piece.seconds / STEP)), round(_SPREAD / STEP)
    # In the middle of each step: a sudden change between two steps is in neither of them.
    rows = [piece.at(min((step + 0.5) * piece.seconds / steps, piece.seconds)) for step in range(steps)]
    scale = piece.seconds / steps / STEP
    return np.pad(np.array(rows) * scale, ((room, room), (0, 0)))


def _spread(rows: Array) -> Array:
    """Return the mean of the written velocities over `_SPREAD`: the same distances, without sudden changes."""
    width = round(_SPREAD / STEP)
    window = np.full(width, 1.0 / width)
    return np.stack([np.convolve(axis, window, mode="same") for axis in rows.T], axis=1)


def _ramped(asked: Array, rules: Rules) -> Array:
    """Let the robot's own ramps follow the demand until it stands, as its pipeline does."""
    chassis = rules.chassis
    if chassis is None:
        return asked
    ramp, command, rows = CommandRamp(chassis), STANDSTILL, [STANDSTILL]
    actuators = chassis.actuators(STANDSTILL)
    wanted = chain(asked[1:].tolist(), repeat([0.0] * 4, round(LONGEST / STEP)))
    for number, row in enumerate(wanted, 1):
        if number >= len(asked) and command == STANDSTILL:
            break
        target, _ = chassis.within_reach(VelocityCommand(*row))
        if chassis.couples:
            target = rules.speeds.capped(target)
        command = ramp.step(command, target, STEP, rules.limits, rules.way, None, actuators)
        actuators = chassis.actuators(command, actuators, STEP, ramp.aim(target) if command == STANDSTILL else None)
        rows.append(command)
    return np.array(rows)


def _reckoned(velocities: Array) -> Path:
    """Return the path of velocities by dead reckoning."""
    # The mean of two samples is the integral of the line between them.
    middle = (velocities[1:] + velocities[:-1]) / 2.0 * STEP
    pose, path = (0.0, 0.0, 0.0), [(0.0, 0.0, 0.0)]
    for way_x, way_y, _, turned in middle.tolist():
        pose = along_arc(*pose, way_x, way_y, turned)
        path.append(pose)
    x, y, heading = np.array(path).T
    return Path(x, y, np.concatenate([[0.0], np.cumsum(middle[:, 2])]), heading)


def _apart(path: Path, other: Path) -> float:
    """Return the greatest distance of a path from the nearest place of another, m."""
    here, there = _places(path), _places(other)
    squares = (here**2).sum(axis=1)[:, None] + (there**2).sum(axis=1) - 2.0 * here @ there.T
    return math.sqrt(max(float(squares.min(axis=1).max()), 0.0))


def _places(path: Path) -> Array:
    """Return places of a path at even distances along it."""
    places = path.places
    gone = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(places, axis=0), axis=1))])
    even = np.linspace(0.0, gone[-1], _PLACES)
    return np.stack([np.interp(even, gone, axis) for axis in places.T], axis=1)


def impossible(course: Course, chassis: Chassis) -> list[Violation]:
    """List motions that a vehicle cannot do at any pace, such as a car on the spot. Checked every 20 ms."""
    ways: dict[str, float] = {}
    for time, row in zip(course.times[::4].tolist(), course.asked[::4].tolist(), strict=False):
        for way in chassis.cannot(VelocityCommand(*row)):
            ways.setdefault(way, time)
    return [Violation(f"this vehicle cannot do {way} as demanded", time) for way, time in sorted(ways.items())]


def beyond(course: Course, chassis: Chassis) -> list[Violation]:
    """List the motions of a course that a vehicle cannot do: impossible ones, and those above its maximum."""
    least, least_at = 1.0, 0.0
    for time, row in zip(course.times[::4].tolist(), course.asked[::4].tolist(), strict=False):
        _, share = chassis.within_reach(VelocityCommand(*chassis.possible(*row)))
        least, least_at = min((least, least_at), (share, time))
    found = impossible(course, chassis)
    if 0.0 < least < 1.0:
        found.append(Violation(f"it demands {100.0 / least:.0f} % of the vehicle's maximum", least_at))
    return found


def fitted(piece: Piece, rules: Rules, within: float = math.inf) -> tuple[Scaled, Course]:
    """Make a script smaller and slower until it fits; return it with its course.

    Raises:
        ArgumentError: it cannot be made to fit: the profile has no speed for a motion, or the vehicle cannot do it.
    """
    size = pace = 1.0
    course = Course(piece, rules)
    bent, in_vain = math.inf, 0
    for _ in range(_FITS):
        wrong = course.problems(within)
        if not wrong and not course.bends():
            return Scaled(piece, size, pace), course
        # A car does not turn on the spot better at a slower pace.
        in_vain = in_vain + 1 if not wrong and course.bent > 0.95 * bent else 0
        bent = course.bent if not wrong else math.inf
        if in_vain == _IN_VAIN:
            raise ArgumentError(
                f"it strays {course.strays:.2f} m from its path and ends {math.degrees(course.turned_off):+z.0f} deg "
                "off, and a slower pace does not help: this vehicle cannot drive it"
            )
        if course.excursion > within:
            size *= 0.995 * within / course.excursion
        elif wrong:
            pace *= _slower(course, rules.speeds, wrong)
        else:
            pace *= 0.8
        course = Course(Scaled(piece, size, pace), rules)
    raise ArgumentError("; ".join(map(str, course.problems(within) + course.bends())))


def _slower(course: Course, speeds: Speeds, wrong: list[Violation]) -> float:
    """Return the share of its pace at which a course keeps the speeds. Raises `ValueError` if it never does."""
    vx, _, vz, _ = course.asked.T
    tops = [
        (float(vx.max()), speeds.forward), (float(-vx.min()), speeds.backward),
        (float(np.abs(course.asked[:, 1]).max()), speeds.sideways), (float(vz.max()), speeds.up),
        (float(-vz.min()), speeds.down), (float(np.abs(course.asked[:, 3]).max()), speeds.turn),
    ]  # fmt: skip
    if any(top > 1e-6 and most <= 0.0 for top, most in tops):
        raise ArgumentError("; ".join(map(str, wrong)))
    return 0.999 * min([1.0, *(most / top for top, most in tops if top > 1e-9)])
