"""Outputs besides driving, and actions with a name. All of them under the guard."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from tenuto.basics.reasons import Reason
from tenuto.sticks.switches import Switch


@dataclass(frozen=True, slots=True)
class OutputPlan:
    """One output, a number −1…1.

    Attributes:
        name: the builder's own name for it.
        kind: "pair" (two switches: up and down), "levels" (a switch: a level a position), "contact" (a control:
            on or off) or "followed" (a control that is the level, as another machine sends it).
        idle: its level when nothing is pressed, and where it is held when the robot is not driven.
        when_stopped: "idle", or "keep": stays at its last level when the robot is not driven.
        up, down: the two switches of a pair; up_level, down_level: what they give.
        switch: of "levels". levels: one a position.
        control: of "contact" and "followed". side: 1 or −1, the way it must be pushed.
        on_above, off_below: its hysteresis.
    """

    name: str
    kind: str
    idle: float = 0.0
    when_stopped: str = "idle"
    up: str = ""
    down: str = ""
    up_level: float = 1.0
    down_level: float = -1.0
    switch: str = ""
    levels: tuple[float, ...] = ()
    control: str = ""
    side: int = 1
    on_above: float = 0.5
    off_below: float = 0.4


class Output:
    """One output under way.

    Attributes:
        level: what it gives.
        waits: it may follow its control, but holds until that is moved afresh.
    """

    def __init__(self, plan: OutputPlan) -> None:
        self.plan = plan
        self.level = plan.idle
        self.waits = False
        self._wanted = plan.idle
        self._released = False
        self._held_at: float | None = None

    def step(self, permitted: bool, switches: Mapping[str, Switch], shaped: Mapping[str, float]) -> float:
        """Take what is permitted and pressed at this step, and give the level.

        What a switch asks for at the moment when driving is permitted starts nothing: the output follows once
        that is what it does already, or has changed.
        """
        if not permitted:
            self._released = False
            self._held_at = None
            self.waits = False
            if self.plan.when_stopped == "idle":
                self.level = self.plan.idle
            # A contact that was on is off, however its stick is held.
            self._wanted = self.plan.idle
            return self.level
        wanted = self._wanted = self._asked(switches, shaped)
        if not self._released:
            if self._held_at is None:
                self._held_at = wanted
            self._released = wanted == self.level or wanted != self._held_at
        self.waits = not self._released
        if self._released:
            self.level = wanted
        return self.level

    def _asked(self, switches: Mapping[str, Switch], shaped: Mapping[str, float]) -> float:
        plan = self.plan
        if plan.kind == "pair":
            up, down = switches[plan.up].position > 0, switches[plan.down].position > 0
            # Both at once is no wish.
            return plan.idle if up == down else plan.up_level if up else plan.down_level
        if plan.kind == "levels":
            return plan.levels[min(switches[plan.switch].position, len(plan.levels) - 1)]
        if plan.kind == "followed":
            return shaped[plan.control]
        pushed = shaped[plan.control] * plan.side
        on = pushed > plan.on_above or (self._wanted == 1.0 and pushed >= plan.off_below)
        return 1.0 if on else 0.0


@dataclass(frozen=True, slots=True)
class ActionPlan:
    """A one-time action.

    Attributes:
        name: such as "take off" or "horn".
        press: the switch that fires it, once a press.
        any_time: it is permitted whether the robot is driven or not.
    """

    name: str
    press: str
    any_time: bool = False


def fire(
    actions: tuple[ActionPlan, ...], pressed: Callable[[str], bool], permitted: bool
) -> tuple[tuple[str, ...], tuple[Reason, ...]]:
    """Return the names of the actions that were pressed and are permitted, and why others are refused.

    Args:
        pressed: tells whether a switch was pressed since the step before. permitted: the robot is being driven.
    """
    fired: tuple[str, ...] = ()
    refused: tuple[Reason, ...] = ()
    for action in actions:
        if not pressed(action.press):
            continue
        if permitted or action.any_time:
            fired += (action.name,)
        else:
            refused += (Reason("action_refused", f"{action.name} is refused: the robot is not being driven"),)
    return fired, refused
