"""Distance sensors, which limit the speed towards an obstacle."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

from tenuto.basics.frame import Frame, real
from tenuto.basics.reasons import Code, Reason
from tenuto.driving.input_plan import InputPlan
from tenuto.vehicles.velocity import VelocityCommand

# The direction of a sensor: the axis of the command (vx, vy, vz), and its sign in that direction.
TOWARDS = {"forward": (0, 1.0), "backward": (0, -1.0), "left": (1, 1.0), "right": (1, -1.0), "up": (2, 1.0),
           "down": (2, -1.0)}  # fmt: skip
# The largest effect of rounding on a speed, m/s.
_SLACK = 1e-9


@dataclass(frozen=True, slots=True, kw_only=True)
class DistancePlan(InputPlan):
    """One distance sensor.

    Attributes:
        scale: m per unit of the number.
        towards: its direction, a key of `TOWARDS`.
        keep: the distance to keep, m. reach: the range of the sensor, m.
    """

    scale: float
    towards: str
    keep: float
    reach: float


def speed_to_stop_within(distance: float, deceleration: float, reaction: float) -> float:
    """Return the speed from which a robot stops within a distance, m/s.

    v·t + v²/(2·a) = d, solved for v: the robot drives on for t s, and then decelerates constantly.

    Args:
        distance: m; 0 or less returns 0. deceleration: m/s². reaction: s.
    """
    if not distance > 0.0:
        return 0.0
    lost = deceleration * reaction
    return math.sqrt(lost * lost + 2.0 * deceleration * distance) - lost


class Braking(NamedTuple):
    """The lowest decelerations of a command under all circumstances: in any mode, and in a stop.

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
    """The state of one sensor: silence and an invalid distance permit no speed in its direction."""

    def __init__(self, plan: DistancePlan) -> None:
        self.plan = plan
        self._heard = -math.inf
        # The least distance of those that came last, m, and its own time, s.
        self._metres, self._measured_at = math.nan, -math.inf
        # The speed towards the obstacle: since when, s, and m/s.
        self._driven: deque[tuple[float, float]] = deque()

    def hear(self, frames: Sequence[Frame]) -> None:
        """Take the frames of its source since the last tick, oldest first; the least distance in them counts."""
        found = [(real(one.values.get(self.plan.reads, math.nan)), one.time) for one in frames if one.link_good]
        known = [(value * self.plan.scale, time) for value, time in found if 0.0 <= value < math.inf]
        if known:
            self._heard = known[-1][1]
            self._metres, self._measured_at = min(known)

    def sent(self, command: VelocityCommand, now: float) -> None:
        """Take note of the command from now on, s."""
        axis, sign = TOWARDS[self.plan.towards]
        driven = self._driven
        driven.append((now, max(command[axis] * sign, 0.0)))
        while len(driven) > 1 and driven[1][0] <= now - self.plan.timeout:
            driven.popleft()

    def lower(
        self, demand: VelocityCommand, now: float, braking: Braking, period: float
    ) -> tuple[float, Reason | None]:
        """Return the safe share of a velocity, 0…1, and the reason if it is less than 1.

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
        # The resulting command lasts one tick, and the next one brakes.
        most = self._most(demand, now, braking, 2.0 * period)
        if most >= wanted:
            return 1.0, None
        return most / wanted, Reason(Code.NEAR, f"{plan.name}: {self._far()}, so {plan.towards} at most {most:.2f} m/s")

    def too_fast(self, command: VelocityCommand, now: float, braking: Braking, period: float) -> bool:
        """Return whether a command that is sent now could no longer be stopped in time, on its arc."""
        axis, sign = TOWARDS[self.plan.towards]
        speed = command[axis] * sign
        return speed > 0.0 and not (self._is_heard(now) and speed <= self._most(command, now, braking, period) + _SLACK)

    def brakes(self, now: float) -> Reason:
        """Return the notice that this sensor slows the robot down."""
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
        """Return the permitted speed towards the obstacle, m/s; beyond the reach an obstacle may be right there."""
        free = min(self._metres, self.plan.reach) - self.plan.keep - self._since(now)
        deceleration = braking.along(velocity, TOWARDS[self.plan.towards][0])
        return math.inf if free == math.inf else speed_to_stop_within(free, deceleration, reaction)

    def _since(self, now: float) -> float:
        """Return the distance driven in that direction since the newest number, m."""
        metres = 0.0
        for began, speed in reversed(self._driven):
            if now <= self._measured_at:
                break
            metres += speed * (now - max(began, self._measured_at))
            now = began
        return metres
