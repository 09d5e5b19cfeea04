"""The present selection: the switches, and the mode, rates, speed level and trims that they select."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from operator import itemgetter
from typing import NamedTuple

from tenuto.driving.modes import FULL_SPEED, NO_CHOICE, Choice, ChoicePlan, Level, LevelPlan, ModePlan, Trim, TrimPlan
from tenuto.styles.base import Setting
from tenuto.switches.base import SwitchPlan


@dataclass(frozen=True, slots=True, kw_only=True)
class SelectionPlan:
    """The settings of everything that can be selected during a drive.

    Attributes:
        switches: all that are read.
        mode: how the mode is chosen. through_rest: if the meaning of a stick changes, the sticks of the new mode
            must be seen at rest before they drive.
        rates: how the set of rates is chosen.
        levels, trims: see there.
        steering: how the steering kind of a four-wheel-steered robot is chosen. rear_share: of its rear wheels.
        heading: a control whose position is the robot's heading. heading_zero: a button that makes it 0.
    """

    switches: tuple[SwitchPlan, ...] = ()
    mode: ChoicePlan = NO_CHOICE
    through_rest: bool = True
    rates: ChoicePlan = NO_CHOICE
    levels: LevelPlan = FULL_SPEED
    steering: ChoicePlan = NO_CHOICE
    rear_share: LevelPlan = FULL_SPEED
    heading: str | None = None
    heading_zero: str | None = None
    trims: tuple[TrimPlan, ...] = ()


NOTHING_TO_CHOOSE = SelectionPlan()


class Chosen(NamedTuple):
    """The present selection, for people and for logs.

    Attributes:
        mode: its name; empty where a profile has none.
        rates: the name of the set of rates; empty where a profile has none.
        level: the share of all speeds, 0…1.
        trims: control → what is added to it.
        switches: switch → its position.
        steering: the steering kind; empty where there is no choice. rear_share: 0…1.
        heading_zero: the heading that counts as the field's forward, rad.
    """

    mode: str = ""
    rates: str = ""
    level: float = 1.0
    trims: Mapping[str, float] = {}
    switches: Mapping[str, int] = {}
    steering: str = ""
    rear_share: float = 1.0
    heading_zero: float = 0.0


class Selection:
    """The state of the selections.

    Attributes:
        switches: by name. moved: one of them changed with this step. still: nothing can be selected.
        chosen: see `Chosen`. setting: its part that a style needs. mode: the plan of the mode.
    """

    def __init__(self, plan: SelectionPlan, modes: tuple[ModePlan, ...]) -> None:
        self.switches = {switch.name: switch.make() for switch in plan.switches}
        self._modes = {mode.name: mode for mode in modes}
        self._mode, self._rates, self._level = Choice(plan.mode), Choice(plan.rates), Level(plan.levels)
        self._steering, self._rear_share = Choice(plan.steering), Level(plan.rear_share)
        self._plan = plan
        self._heading_zero = 0.0
        self.trims = tuple(Trim(trim) for trim in plan.trims)
        self.mode = self._modes[self._mode.now]
        if self.mode.rates is not None:
            self._rates.now = self.mode.rates
        # Most profiles select nothing: then a step has no effect.
        self._knobs = any(trim.knob for trim in plan.trims)
        self.still = not plan.switches and not self._knobs
        self._seen = self.moved = False
        # Switches that each read one control, and wait for nothing, need no step while none of these moves.
        reads = [switch.reads for switch in self.switches.values()]
        self._read = itemgetter(*reads) if reads and all(reads) and not self._knobs else None
        self._calm_at: object = None
        self.chosen = self._say()

    def step(self, positions: Mapping[str, float], time: float) -> None:
        """Take the positions of all controls at the time of their frame, s."""
        if self.still:
            return
        if self._calm_at is not None and self._read is not None and self._read(positions) == self._calm_at:
            return
        changed = False
        for switch in self.switches.values():
            switch.step(positions, time)
            changed = changed or switch.changed
        self.moved = changed
        calm = self._read is not None and self._seen and all(one.calm(positions) for one in self.switches.values())
        self._calm_at = self._read(positions) if calm and self._read is not None else None
        # The first step always counts: a switch may be one whose position counts, not its change.
        if not changed and self._seen and not self._knobs:
            return
        self._seen = True
        if self._mode.step(self.switches):
            self.mode = self._modes[self._mode.now]
            if self.mode.rates is not None:
                self._rates.now = self.mode.rates
        self._rates.step(self.switches)
        self._level.step(self.switches)
        self._steering.step(self.switches)
        self._rear_share.step(self.switches)
        self._take_heading(positions)
        for trim in self.trims:
            trim.step(self.switches, positions)
        self.chosen = self._say()

    def _say(self) -> Chosen:
        self.setting = Setting(
            self._level.share, self._steering.now or "front", self._rear_share.share, self._heading_zero
        )
        return Chosen(
            self._mode.now,
            self._rates.now,
            self._level.share,
            {trim.plan.control: trim.value for trim in self.trims},
            {name: switch.position for name, switch in self.switches.items()},
            self._steering.now,
            self._rear_share.share,
            self._heading_zero,
        )

    def _take_heading(self, positions: Mapping[str, float]) -> None:
        """Set the present heading as the field's forward, if its button was pressed."""
        heading, zero = self._plan.heading, self._plan.heading_zero
        if heading is not None and zero is not None and self.switches[zero].pressed:
            self._heading_zero = positions[heading] * math.pi
