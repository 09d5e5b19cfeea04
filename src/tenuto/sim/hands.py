"""Hands on the sticks of a profile: a careful, a nervous, a panicking or an absent driver, as raw numbers."""

from __future__ import annotations

import math
import random
from collections.abc import Sequence

from tenuto.driving.plan import HELD_FROM, Plan
from tenuto.sticks.centring import centring_time
from tenuto.sticks.control import ControlPlan

# The sorts of drivers: how often they move sticks, release hold-to-run, and press anything else, times a second.
DRIVERS = {
    "careful": (0.7, 0.15, 0.1),
    "nervous": (4.0, 1.5, 1.0),
    "panicking": (15.0, 4.0, 6.0),
    "absent": (0.0, 0.0, 0.0),
}


class Hands:
    """Hands on all the controls of a profile: the actions of a driver, as the raw numbers of the device."""

    def __init__(self, plan: Plan, controls: Sequence[ControlPlan] | None = None) -> None:
        """Take the controls of a plan, or of another driver of it."""
        controls = plan.controls if controls is None else controls
        driving = plan.driving_controls()
        guard = plan.guard
        holds = tuple(name for name in (guard.hold_to_run, guard.hold_to_run_2) if name is not None)
        self._sticks = [control for control in controls if control.name in driving]
        self._others = [control for control in controls if control.name not in (*driving, *holds)]
        urgent = {guard.emergency_stop, guard.emergency_stop_2, guard.reset, guard.stop, guard.takes_over}
        # A driver who can give the robot away does so often.
        giving = {name for lower in plan.below for name in (lower.given_by, lower.permit)}
        self._giving = [number for number, control in enumerate(self._others) if control.name in giving]
        self._urgent = [number for number, control in enumerate(self._others) if control.name in urgent]
        names = [control.name for control in self._others]
        enabling = next((one for one in plan.selection.switches if one.name == guard.enable), None)
        self._gesture = enabling.held_at() if enabling is not None else {}
        reads = enabling.reads if enabling is not None else ""
        self._enabling = names.index(reads) if reads in names else None
        # A lever keeps its position; a button that would switch off again at the next press is released.
        self._stays = guard.enable_stays and enabling is not None and not enabling.undone().presses
        self._hold = [control for control in controls if control.name in holds]
        # Of a grip with three positions the middle one; and how hard it is pressed now.
        self._middle = 1.0 if guard.pressed_through == math.inf else (HELD_FROM + guard.pressed_through) / 2.0
        self._grip, self._halves = self._middle, False
        self._pushed = dict.fromkeys((control.name for control in self._sticks), 0.0)
        self._held, self._side = False, 1.0
        self._pressed = self._gives = -1
        # At first the link has to be good for a while; drivers of lower rank wait until they are given the robot.
        waits = max(plan.guard.link_good_for + plan.guard.start_warning, centring_time(controls))
        self._off_at = math.ceil(waits / plan.period) + (10 if controls is plan.controls else 25)
        # Whether the enabling control is operated, for each of the ticks before it is off.
        self._operated: list[bool] = []
        if enabling is not None and (self._enabling is not None or self._gesture):
            self._operated = enabling.operated().ticks(plan.period, stays=self._stays)
            self._off_at += len(self._operated)

    @property
    def begins(self) -> int:
        """The number of ticks of a correct start."""
        return self._off_at

    def put(self, held: bool, pressed: str | None = None, **pushed: float) -> dict[str, float]:
        """Set the named sticks, with the others at rest, and return the raw numbers."""
        self._pushed = {name: pushed.get(name, 0.0) for name in self._pushed}
        names = [control.name for control in self._others]
        self._held, self._pressed = held, names.index(pressed) if pressed is not None else -1
        return self.values()

    def act(self, driver: str, dice: random.Random, dt: float, beginning: int = -1) -> None:
        """Act for ``dt`` s; in the first steps of an episode, enable as required."""
        if 0 <= beginning < self._off_at:
            self._begin(dice, beginning)
            return
        if 0 <= beginning < self._off_at + 50 and self._giving and self._gives >= 0:
            self._pressed = self._gives  # and hands off, while another driver drives
            return
        if beginning == self._off_at:
            # Then drive, with one stick or two.
            for name in dice.sample(list(self._pushed), min(2, len(self._pushed))):
                self._pushed[name] = dice.choice((0.0, 1.0, 1.0, -1.0))
        moves, lets_go, presses = DRIVERS[driver]
        if dice.random() < moves * dt:
            name = dice.choice(list(self._pushed))
            self._pushed[name] = dice.choice((0.0, 0.0, 1.0, -1.0, dice.uniform(-1.0, 1.0)))
        if dice.random() < lets_go * dt:
            self._held = not self._held
            # A hand cramps, or presses only one of two.
            self._grip = dice.choice((self._middle, self._middle, 1.0))
            self._halves = dice.random() < 0.1
        if dice.random() < presses * dt:
            # A nervous driver presses stop and enable more than anything else.
            anything = dice.randrange(-2, len(self._others))
            self._pressed = dice.choice([*self._urgent, *self._giving, anything])

    def _begin(self, dice: random.Random, beginning: int) -> None:
        """Hold, with sticks at rest, and then operate the enabling control."""
        self._pushed = dict.fromkeys(self._pushed, 0.0)
        self._held, self._pressed = beginning >= 5, -1
        self._grip, self._halves = self._middle, False
        at = beginning - (self._off_at - len(self._operated))
        if at >= 0 and self._operated[at]:
            self._pressed = self._enabling if self._enabling is not None else -1
            self._pushed |= self._gesture
        if self._giving and beginning == 5:
            self._gives = dice.choice((-1, *self._giving))

    def values(self) -> dict[str, float]:
        """Return the present raw numbers."""
        found: dict[str, float] = {}
        self._side = -self._side
        for control in self._sticks:
            found |= control.raw_at(self._pushed[control.name])
            if control.noise > 0.0:
                # A stick is never quite still; the noise is that of its calibration.
                value = found[control.reads] + self._side * control.noise
                found[control.reads] = min(max(value, control.travel.low), control.travel.high)
        for number, control in enumerate(self._others):
            found |= control.raw_at(1.0 if number == self._pressed else 0.0 if control.one_way else -1.0)
        for number, control in enumerate(self._hold):
            held = self._held and not (self._halves and number)
            found |= control.raw_at(self._grip if held else -1.0)
        return found
