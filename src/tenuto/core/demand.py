"""Fourth stage: from shares of speed to speed. What the driver asks for, in m/s and rad/s."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

from tenuto.core.mixing import Intent


class VelocityCommand(NamedTuple):
    """A velocity in the robot's own frame (ISO 8855: x forward, y left, z up).

    Attributes:
        vx: forward speed in m/s, negative when backing.
        yaw_rate: turning speed in rad/s, positive to the left (anticlockwise from above).
    """

    vx: float
    yaw_rate: float


STANDSTILL = VelocityCommand(0.0, 0.0)


@dataclass(frozen=True, slots=True)
class Speeds:
    """The speeds at the ends of the sticks.

    Attributes:
        forward, backward: m/s, both positive; backing is usually the lower one.
        turn: rad/s.
    """

    forward: float
    backward: float
    turn: float

    def demand(self, intent: Intent[float]) -> VelocityCommand:
        """Turn shares of −1…1 into m/s and rad/s."""
        forward, turn = intent
        return VelocityCommand(forward * (self.forward if forward >= 0.0 else self.backward), turn * self.turn)
