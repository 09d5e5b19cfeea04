"""Numbers from outside that lower a speed: how far it is to what the robot would run into."""

from __future__ import annotations

import math
from collections import deque
from dataclasses import dataclass
from typing import NamedTuple

from tenuto.basics.frame import Frame
from tenuto.basics.reasons import Code, Reason
from tenuto.driving.input_plan import InputPlan
from tenuto.vehicles.velocity import VelocityCommand

# Where a sensor looks: the axis of the command (vx, vy, vz), and its sign that way.
TOWARDS = {"forward": (0, 1.0), "backward": (0, -1.0), "left": (1, 1.0), "right": (1, -1.0), "up": (2, 1.0),
           "down": (2, -1.0)}  # fmt: skip
# What rounding may add to a speed, m/s.
_SLACK = 1e-9


@dataclass(frozen=True, slots=True, kw_only=True)
class DistancePlan(InputPlan):
    """One distance sensor.

    Attributes:
        scale: m for a number of 1.
        towards: where it looks, a key of `TOWARDS`.
        keep: how far the robot stays away, m. reach: from where on the sensor sees nothing, m.
    """

    scale: float
    towards: str
    keep: float
    reach: float


def speed_to_stop_within(distance: float, deceleration: float, reaction: float) -> float:
    """Return the speed from which a robot stands within a distance, m/s.

    v·t + v²/(2·a) = d, solved for v: a robot that goes on for t s, and then slows down evenly.

    Args:
        distance: m; none or less gives 0. deceleration: m/s². reaction: s.
    """
    if not distance > 0.0:
        return 0.0
    lost = deceleration * reaction
    return math.sqrt(lost * lost + 2.0 * deceleration * distance) - lost


class Braking(NamedTuple):
    """The least decelerations with which a command can be brought down, whatever happens: in any mode, and in a stop.

    Attributes:
        level: along the ground, m/s². turn: rad/s². vertical: m/s².
    """

    level: float
    turn: float
    vertical: float

    def along(self, velocity: VelocityCommand, axis: int) -> float:
        """Return the deceleration along an axis, m/s², while all axes come to rest together, as in a stop.

        Args:
            velocity: that axis of it must not be 0.
        """
        vx, vy, vz, yaw_rate = velocity
        seconds = max(math.hypot(vx, vy) / self.level, abs(yaw_rate) / self.turn, abs(vz) / self.vertical)
        return abs(velocity[axis]) / seconds


class Distance:
    """One sensor under way: silence, and a number that is no distance, allow no speed that way."""

    def __init__(self, plan: DistancePlan) -> None:
        self.plan = plan
        self._heard = -math.inf
        self._metres = math.nan
        # How fast it was driven towards what it sees: since when, s, and m/s.
        self._driven: deque[tuple[float, float]] = deque()

    def hear(self, frame: Frame) -> None:
        """Take a frame of its source."""
        value = frame.values.get(self.plan.reads, math.nan)
        if frame.link_good and isinstance(value, (int, float)) and 0.0 <= value < math.inf:
            self._heard, self._metres = frame.time, value * self.plan.scale

    def sent(self, command: VelocityCommand, now: float) -> None:
        """Take note of the command from now on, s."""
        axis, sign = TOWARDS[self.plan.towards]
        driven = self._driven
        driven.append((now, max(command[axis] * sign, 0.0)))
        while len(driven) > 1 and driven[1][0] <= now - self.plan.timeout:
            driven.popleft()

    def forget(self) -> None:
        """Forget what was heard and driven: the clock it was measured on is no more."""
        self._heard = -math.inf
        self._driven.clear()

    def lower(
        self, demand: VelocityCommand, now: float, braking: Braking, period: float
    ) -> tuple[float, Reason | None]:
        """Return the share of a velocity that is safe, 0…1, and why where that is less than 1.

        Args:
            demand: what is asked for. now: s.
            braking: how the robot will slow down. period: s from tick to tick.
        """
        plan = self.plan
        axis, sign = TOWARDS[plan.towards]
        wanted = demand[axis] * sign
        if wanted <= 0.0:
            return 1.0, None
        if not self._is_heard(now):
            return 0.0, self._silent()
        # The command that is made of it holds for a tick, and the one after it brakes.
        most = self._most(demand, now, braking, 2.0 * period)
        if most >= wanted:
            return 1.0, None
        return most / wanted, Reason(Code.NEAR, f"{plan.name}: {self._far()}, so {plan.towards} at most {most:.2f} m/s")

    def too_fast(self, command: VelocityCommand, now: float, braking: Braking, period: float) -> bool:
        """Tell whether a command that is sent now could no longer be brought to a stop in time, on the arc it is on."""
        axis, sign = TOWARDS[self.plan.towards]
        speed = command[axis] * sign
        return speed > 0.0 and not (self._is_heard(now) and speed <= self._most(command, now, braking, period) + _SLACK)

    def brakes(self, now: float) -> Reason:
        """Say that the robot is slowed down because of this sensor."""
        if not self._is_heard(now):
            return self._silent()
        return Reason(Code.NEAR, f"{self.plan.name}: {self._far()}: it slows down to stop in time")

    def _silent(self) -> Reason:
        plan = self.plan
        return Reason(Code.DISTANCE_UNKNOWN, f"{plan.name} is silent: not {plan.towards} until it is heard")

    def _far(self) -> str:
        return f"sees {self.plan.reach:g} m" if self._metres >= self.plan.reach else f"{self._metres:.2f} m"

    def _is_heard(self, now: float) -> bool:
        return 0.0 <= now - self._heard <= self.plan.timeout

    def _most(self, velocity: VelocityCommand, now: float, braking: Braking, reaction: float) -> float:
        """Return how fast it may be towards what it sees, m/s; beyond its reach something may stand just there."""
        free = min(self._metres, self.plan.reach) - self.plan.keep - self._since(now)
        deceleration = braking.along(velocity, TOWARDS[self.plan.towards][0])
        return math.inf if free == math.inf else speed_to_stop_within(free, deceleration, reaction)

    def _since(self, now: float) -> float:
        """Return how far it was driven that way since the newest number, m."""
        metres = 0.0
        for began, speed in reversed(self._driven):
            if now <= self._heard:
                break
            metres += speed * (now - max(began, self._heard))
            now = began
        return metres
