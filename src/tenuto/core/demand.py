"""Fourth stage: from shares of speed to speed. What the driver asks for, in m/s and rad/s."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

from tenuto.core.mixing import Intent


class VelocityCommand(NamedTuple):
    """A velocity in the robot's own frame (ISO 8855: x forward, y left, z up).

    Attributes:
        vx: forward speed in m/s, negative when backing.
        vy: sideways speed in m/s, positive to the left.
        vz: climbing speed in m/s, negative when sinking.
        yaw_rate: turning speed in rad/s, positive to the left (anticlockwise from above).
    """

    vx: float = 0.0
    vy: float = 0.0
    vz: float = 0.0
    yaw_rate: float = 0.0


STANDSTILL = VelocityCommand()


@dataclass(frozen=True, slots=True)
class Speeds:
    """The speeds at the ends of the sticks.

    Attributes:
        forward, backward: m/s, both positive; backing is usually the lower one.
        turn: rad/s.
        sideways: m/s. up, down: m/s, both positive.
    """

    forward: float
    backward: float
    turn: float
    sideways: float = 0.0
    up: float = 0.0
    down: float = 0.0

    def demand(self, intent: Intent[float], share: float = 1.0) -> VelocityCommand:
        """Turn shares of −1…1 into m/s and rad/s; ``share`` is the speed level, 0…1."""
        forward, sideways, up, turn = intent
        return VelocityCommand(
            share * forward * (self.forward if forward >= 0.0 else self.backward),
            share * sideways * self.sideways,
            share * up * (self.up if up >= 0.0 else self.down),
            share * turn * self.turn,
        )
