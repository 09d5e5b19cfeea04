"""What happens between two ticks of a simulated drive: frames before the newest one, each with one event."""

from __future__ import annotations

import math
import random
from collections.abc import Mapping, Sequence

from tenuto.basics.frame import Frame
from tenuto.driving.plan import Plan
from tenuto.sticks.control import ControlPlan

# The share of the frames that have others before them, and the greatest number of these.
_OFTEN, _MOST = 0.08, 3


class Between:
    """Adds frames to those of a tick: a button is pressed, hold-to-run let go, a contact open, a number bad."""

    def __init__(self, dice: random.Random) -> None:
        self._dice = dice

    def add(
        self, plan: Plan, frame: Frame | None, others: Mapping[str, Frame], period: float
    ) -> tuple[Frame | None, dict[str, Frame]]:
        """Return the frames of a tick with those that came before them, at most a period ago."""
        controls = {lower.name: lower.controls for lower in plan.below}
        reads = {one.heard_from: one.reads for one in plan.inputs}
        found = {
            name: self._before(one, controls.get(name, ()), reads.get(name), period) for name, one in others.items()
        }
        return (self._before(frame, plan.controls, None, period) if frame is not None else None), found

    def _before(self, frame: Frame, controls: Sequence[ControlPlan], reads: str | None, period: float) -> Frame:
        dice = self._dice
        if dice.random() > _OFTEN or not (controls or reads):
            return frame
        times = sorted(frame.time - dice.uniform(0.0, 0.9 * period) for _ in range(dice.randint(1, _MOST)))
        return frame._replace(earlier=tuple(self._event(frame._replace(time=at), controls, reads) for at in times))

    def _event(self, frame: Frame, controls: Sequence[ControlPlan], reads: str | None) -> Frame:
        """Return a frame with one control or contact at another position, and sometimes something else bad."""
        dice, values = self._dice, dict(frame.values)
        if reads is not None:
            values[reads] = values.get(reads, 0.0) + dice.choice((-1.0, 1.0, 0.0))
            return frame._replace(values=values)
        one = dice.choice(controls)
        values |= one.raw_at(dice.choice((0.0, 1.0, 1.0, -1.0)))
        if dice.random() < 0.4:
            other = dice.choice([name for name in values if name not in one.all_reads] or [one.reads])
            values[other] = dice.choice((math.nan, 1e9, -1e9))
        return frame._replace(values=values, link_good=frame.link_good and dice.random() < 0.9)
