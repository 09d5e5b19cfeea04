"""A hand's tilt from its accelerometer and gyroscope, so that a glove flies like a stick."""

from __future__ import annotations

import math

TILT_COLUMNS = ("ax", "ay", "az")
GYRO_COLUMNS = ("gx", "gy")


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


def wrapped(angle: float) -> float:
    """Bring an angle, rad, to −π…π."""
    return math.remainder(angle, math.tau)
