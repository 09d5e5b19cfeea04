"""A hand's tilt from its accelerometer and gyroscope, so that a glove flies like a stick."""

from __future__ import annotations

import math

TILT_COLUMNS = ("ax", "ay", "az")
GYRO_COLUMNS = ("gx", "gy")
# What a hand that drives can do: the fastest turn, rad/s, and the largest angle from level, rad. Nearer to vertical,
# roll is not defined, and noise would turn it over.
MOST_RATE, MOST_LEANING = 12.0, math.radians(75.0)
# The acceleration of a hand, as a share of that at rest: less is a free fall or a dead sensor.
_OF_GRAVITY = (0.2, 5.0)
# The largest number of any sensor, whatever its unit.
_MOST_NUMBER = 1e6
# The lines at the start that show gravity, how much they may differ, and the longest time that a rate counts for, s.
_LINES_AT_REST, _STEADY, _LONGEST_STEP = 10, 0.2, 0.1
_STARTS = "the hand's sensor is being read: hold the hand still"


def tilt_from_gravity(ax: float, ay: float, az: float) -> tuple[float, float]:
    """Return roll and pitch, rad, of a body at rest, from the acceleration that it measures, in any unit.

    The body's axes are x forward, y left, z up, and lying level it measures +1 g along z. Roll is positive
    with the left side up, pitch with the nose down, as right-handed turns about x and y:
    roll = atan2(ay, az), pitch = atan2(−ax, √(ay² + az²)). See any textbook on inertial sensors, e.g.
    "Introduction to Autonomous Mobile Robots", MIT Press, 2nd edition, section 4.1.
    """
    return math.atan2(ay, az), math.atan2(-ax, math.hypot(ay, az))


class TiltFilter:
    """A complementary filter: the gyroscope for fast changes, gravity for slow ones.

    angle = a·(angle + rate·dt) + (1 − a)·angle from gravity, with a = T/(T + dt): a first-order high pass on the
    integrated rate and the matching low pass on gravity, which add up to 1 at every frequency.
    """

    def __init__(self, time_constant: float) -> None:
        """Set the time constant T, s: below it the gyroscope counts, above it gravity."""
        self._time_constant = time_constant
        self._angles: tuple[float, float] | None = None
        self._zero = (0.0, 0.0)

    def step(
        self, acceleration: tuple[float, float, float], rates: tuple[float, float], dt: float
    ) -> tuple[float, float]:
        """Return roll and pitch, rad, from zero.

        Args:
            acceleration: along x, y and z, in any unit.
            rates: about x and y, rad/s.
            dt: seconds since the step before.
        """
        gravity = tilt_from_gravity(*acceleration)
        if self._angles is None:
            self._angles = gravity
        share = self._time_constant / (self._time_constant + dt)
        roll, pitch = (
            wrapped(share * wrapped(angle + rate * dt - steady) + steady)
            for angle, rate, steady in zip(self._angles, rates, gravity, strict=True)
        )
        self._angles = (roll, pitch)
        return wrapped(roll - self._zero[0]), wrapped(pitch - self._zero[1])

    def take_zero(self) -> None:
        """Take the present angles as zero."""
        self._zero = self._angles or (0.0, 0.0)

    @property
    def attitude(self) -> tuple[float, float]:
        """Roll and pitch from level, rad, whatever was taken as zero."""
        return self._angles or (0.0, 0.0)


class HandTilt:
    """The tilt of a hand, or why it is not known: a pose or a rate that no hand has, or that cannot be read.

    Attributes:
        problem: of the newest line; empty if its tilt is known.
    """

    def __init__(self, time_constant: float) -> None:
        """Set the time constant of the filter, s."""
        self._filter = TiltFilter(time_constant)
        self._gravity = 0.0
        self._first: list[float] = []
        self.problem = _STARTS

    def step(
        self, acceleration: tuple[float, float, float], rates: tuple[float, float], dt: float
    ) -> tuple[float, float]:
        """Take one line; return roll and pitch, rad, or NaN for both if unknown; arguments as `TiltFilter`."""
        self.problem = self._unreadable(acceleration, rates)
        if self.problem:
            return math.nan, math.nan
        # After a pause nothing is known of the motion in it: gravity counts.
        roll, pitch = self._filter.step(acceleration, rates if dt <= _LONGEST_STEP else (0.0, 0.0), dt)
        leaning = math.acos(min(max(math.prod(map(math.cos, self._filter.attitude)), -1.0), 1.0))
        if leaning > MOST_LEANING:
            found, most = math.degrees(leaning), math.degrees(MOST_LEANING)
            self.problem = f"the hand leans by {found:.0f} deg, and {most:.0f} deg are the most"
            return math.nan, math.nan
        return roll, pitch

    def take_zero(self) -> None:
        """Take the present attitude as rest, if it is known."""
        if not self.problem:
            self._filter.take_zero()

    def _unreadable(self, acceleration: tuple[float, float, float], rates: tuple[float, float]) -> str:
        """Explain why a line cannot be those of a hand; empty if it can."""
        for rate in rates:
            if not abs(rate) <= MOST_RATE:
                return f"a turn rate of {rate:.3g} rad/s is no hand's ({MOST_RATE:g} rad/s is the most)"
        for one in acceleration:
            if not abs(one) <= _MOST_NUMBER:
                return f"an acceleration of {one:.3g} is no number of a sensor"
        size = math.hypot(*acceleration)
        if len(self._first) < _LINES_AT_REST:
            self._first.append(size)
            self._gravity = sum(self._first) / len(self._first)
            if not all(abs(one - self._gravity) < _STEADY * self._gravity for one in self._first):
                self._first = []
                return "the acceleration is not that of gravity: hold the hand still, or check the sensor"
            return _STARTS if len(self._first) < _LINES_AT_REST else ""
        low, high = _OF_GRAVITY
        if not low * self._gravity <= size <= high * self._gravity:
            return f"an acceleration of {size:.3g} is no hand's: at rest it was {self._gravity:.3g}"
        return ""


def wrapped(angle: float) -> float:
    """Bring an angle, rad, to −π…π."""
    return math.remainder(angle, math.tau)
