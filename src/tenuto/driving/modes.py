"""Modes, rates and speed levels, which a switch or a button selects during a drive."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from tenuto.driving.limits import Limits
from tenuto.outputs.base import OutputPlan
from tenuto.styles.base import Style
from tenuto.styles.speeds import Speeds
from tenuto.switches.base import Switch


@dataclass(frozen=True, slots=True, kw_only=True)
class ModePlan:
    """The settings of one mode.

    Attributes:
        name: shown and logged; empty where a profile has no modes.
        style, speeds, limits: see there.
        outputs: those that follow their controls in this mode; the others rest.
        rates: the set of rates that it begins with; None leaves the choice as it is.
        fallback: the fallback mode, the simplest and most manual one.
        may_start: whether the robot may be enabled in it.
    """

    name: str
    style: Style
    speeds: Speeds
    limits: Limits
    outputs: tuple[OutputPlan, ...] = ()
    rates: str | None = None
    fallback: bool = True
    may_start: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class ChoicePlan:
    """How one of several is selected.

    Attributes:
        order: the names, one a position of the switch.
        switch: the switch whose position chooses; None where nothing does.
        begin: what is chosen until the switch is moved.
        back: a switch that selects ``begin`` again when it is pressed.
    """

    order: tuple[str, ...]
    begin: str
    switch: str | None = None
    back: str | None = None


NO_CHOICE = ChoicePlan(order=("",), begin="")


class Choice:
    """The state of a selection.

    Attributes:
        now: the selected name.
    """

    def __init__(self, plan: ChoicePlan) -> None:
        self._plan = plan
        self.now = plan.begin
        self._begun = False

    def step(self, switches: Mapping[str, Switch]) -> bool:
        """Take the switches of this step; return whether the selection changed."""
        plan, before = self._plan, self.now
        if plan.switch is not None:
            switch = switches[plan.switch]
            if switch.changed or (switch.at_start and not self._begun):
                self.now = plan.order[min(switch.position, len(plan.order) - 1)]
        if plan.back is not None and switches[plan.back].pressed:
            self.now = plan.begin
        self._begun = True
        return self.now != before


@dataclass(frozen=True, slots=True, kw_only=True)
class LevelPlan:
    """Speed levels: shares of all speeds, selected in steps.

    Attributes:
        steps: increasing, each above 0 and up to 1. begin: the number of the initial one, counted from 0.
        faster, slower: the switches for one step up and one step down.
    """

    steps: tuple[float, ...] = (1.0,)
    begin: int = 0
    faster: str | None = None
    slower: str | None = None


FULL_SPEED = LevelPlan()


class Level:
    """The present speed level.

    Attributes:
        number: which step, counted from 0. share: of all speeds, 0…1.
    """

    def __init__(self, plan: LevelPlan) -> None:
        self._plan = plan
        self.number = plan.begin
        self.share = plan.steps[plan.begin]

    def step(self, switches: Mapping[str, Switch]) -> None:
        """Go up or down by one if its switch was pressed; at the ends nothing happens."""
        plan = self._plan
        if plan.faster is not None and switches[plan.faster].pressed:
            self.number = min(self.number + 1, len(plan.steps) - 1)
        if plan.slower is not None and switches[plan.slower].pressed:
            self.number = max(self.number - 1, 0)
        self.share = plan.steps[self.number]


@dataclass(frozen=True, slots=True, kw_only=True)
class TrimPlan:
    """The trim of one control: an offset that is added after its curve.

    Attributes:
        control: its name. begin: the trim at start-up. step: the change by one press. most: its limit in both
            directions.
        up, down: the switches that change it. knob: a control whose position, times ``most``, is added.
    """

    control: str
    begin: float = 0.0
    step: float = 0.01
    most: float = 0.2
    up: str | None = None
    down: str | None = None
    knob: str | None = None


class Trim:
    """The state of a trim.

    Attributes:
        set: the value set by presses, which survives a restart. value: with the knob, −1…1.
    """

    def __init__(self, plan: TrimPlan) -> None:
        self.plan = plan
        self.set = self.value = min(max(plan.begin, -plan.most), plan.most)

    def step(self, switches: Mapping[str, Switch], positions: Mapping[str, float]) -> None:
        """Take the switches and the positions of this step."""
        plan = self.plan
        presses = sum(
            sign for name, sign in ((plan.up, 1), (plan.down, -1)) if name is not None and switches[name].pressed
        )
        # Rounded, so that one step up and one step down restore the value.
        self.set = min(max(round(self.set + presses * plan.step, 9), -plan.most), plan.most)
        knob = positions[plan.knob] * plan.most if plan.knob is not None else 0.0
        self.value = min(max(self.set + knob, -plan.most), plan.most)
