"""The interface of every kind of switch.

A switch is stepped with the positions of all controls and the time of their frame; its position is 0, 1, 2, …
Only a good frame steps it, so a silent link presses nothing. Its position at start-up does not count as moved.
"""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import ClassVar, NamedTuple, Protocol

from tenuto.basics.findings import Finding, error, unexpected
from tenuto.basics.frame import ROUNDING_TIME
from tenuto.kinds.options import Role, named, option
from tenuto.kinds.quantities import TIME
from tenuto.kinds.registry import Kinds
from tenuto.sticks.control import ControlPlan

# The duration of a press beyond the time of the switch, s.
_PRESS = 0.1


class Operated(NamedTuple):
    """One operation of a switch.

    Attributes:
        how: in words. presses: for each, how long the control is pressed and how long it is released, s.
    """

    how: str
    presses: tuple[tuple[float, float], ...]

    def ticks(self, period: float, *, stays: bool = False) -> list[bool]:
        """Return for each tick of a ``period``, s, whether it is pressed; a control that stays is not released."""
        count = [(math.ceil(on / period), math.ceil(off / period)) for on, off in self.presses]
        return [way for on, off in count for way in (*[True] * on, *[stays] * off)]


@dataclass(frozen=True, kw_only=True)
class SwitchPlan(ABC):
    """The settings of a switch.

    Attributes:
        name: the builder's own name for it.
        reads: the control that it reads; empty if there are several.
        count: the number of positions.
        debounce: how long a change must last to count, s.
        at_start: its position at start-up counts as moved there.
    """

    name: str
    reads: str = ""
    count: int = 2
    debounce: float = 0.03
    at_start: bool = False

    @abstractmethod
    def make(self) -> Switch:
        """Make the switch."""

    def errors(self, control: ControlPlan) -> Iterator[Finding]:
        """Find settings that cannot work with the measured control; here: none."""
        yield from ()

    def operated(self) -> Operated:
        """Describe one operation; here: a press, and an equal pause."""
        long = _PRESS + self.debounce
        return Operated("pressed", ((long, long),))

    def undone(self) -> Operated:
        """Describe how to switch it off, if that is not by a release; here: by a release."""
        return Operated("release it", ())

    def released_below(self) -> float | None:
        """Return the position of its control below which it is off, whatever came before; None if there is none."""
        return None

    def asked(self) -> str:
        """Describe how to switch it on, if that is not by a press; here: empty."""
        return ""

    def held_at(self) -> Mapping[str, float]:
        """Return the positions of sticks that switch it on, −1…1; here: none, it reads one control."""
        return {}


@dataclass(frozen=True, kw_only=True)
class ContactPlan(SwitchPlan):
    """A switch that reads one control as on or off.

    Attributes:
        on_above, off_below: the thresholds of a press and of a release.
    """

    on_above: float = 0.6
    off_below: float = 0.4

    def errors(self, control: ControlPlan) -> Iterator[Finding]:
        """Find a switch that is never released: a control that rests at 0 is not below 0."""
        if control.one_way and self.off_below <= 0.0:
            text = f"{self.reads} rests at 0, which is not below {self.off_below:g}: it is never released"
            yield error("off_below", text, "choose a position above 0")


class Switch(ABC):
    """The state of one switch.

    Attributes:
        position: 0, 1, 2, …
        changed: whether its position changed with this step.
        at_start: its position at start-up counts as moved there.
    """

    def __init__(self, plan: SwitchPlan) -> None:
        self._reads, self.at_start = plan.reads, plan.at_start
        self.position = 0
        self.changed = False
        self._seen = False
        # A reading without an effect, however long it lasts: most switches rest most of the time.
        self._calm_at = math.nan

    def step(self, positions: Mapping[str, float], time: float) -> None:
        """Take the positions of all controls, −1…1 or 0…1, at a time in s."""
        if self._reads and positions[self._reads] == self._calm_at:
            self.changed = False
            return
        before, first = self.position, not self._seen
        self._seen = True
        self.position = self._next(positions, time)
        self.changed = self.position != before and (not first or self.at_start)

    @property
    def reads(self) -> str:
        """The control that it reads; empty if there are several."""
        return self._reads

    def calm(self, positions: Mapping[str, float]) -> bool:
        """Whether nothing happens, now or later, while the positions do not change."""
        return not self.changed and positions[self._reads] == self._calm_at

    @abstractmethod
    def _next(self, positions: Mapping[str, float], time: float) -> int:
        """Return the position after this step."""

    @property
    def pressed(self) -> bool:
        """Whether it was switched on with this step, which fires an action."""
        return self.changed and self.position > 0


class Contact:
    """An on/off reading with hysteresis that must last to count; pressed at start-up it must be released first."""

    def __init__(self, plan: ContactPlan) -> None:
        self._on_above, self._off_below, self._debounce = plan.on_above, plan.off_below, plan.debounce - ROUNDING_TIME
        self._blocked = not plan.at_start
        self._raw = self.on = False
        self._since = float("-inf")

    @property
    def at_rest(self) -> bool:
        """Whether it is released, and waits for nothing."""
        return not (self._blocked or self._raw or self.on)

    def step(self, value: float, time: float) -> bool:
        """Take a reading; return whether it has just been pressed."""
        raw = value > self._on_above or (self._raw and value >= self._off_below)
        if raw != self._raw:
            lasted = not self._blocked and raw == self.on and time - self._since >= self._debounce
            self._raw, self._since = raw, time
            if lasted:  # it counts although it ends now: over a slow radio a press may be in one frame only
                self.on = not raw
                return self.on
        if self._blocked:
            self._blocked = raw or time - self._since < self._debounce
            return False
        if raw == self.on or time - self._since < self._debounce:
            return False
        self.on = raw
        return raw


class ContactSwitch(Switch):
    """A switch that is pressed and released; `_after` sets its position."""

    def __init__(self, plan: ContactPlan) -> None:
        super().__init__(plan)
        self._contact = Contact(plan)

    def _next(self, positions: Mapping[str, float], time: float) -> int:
        contact, value = self._contact, positions[self._reads]
        pressed = contact.step(value, time)
        self._calm_at = value if contact.at_rest else math.nan
        return self._after(pressed, contact.on, time)

    @abstractmethod
    def _after(self, pressed: bool, on: bool, time: float) -> int:
        """Return the new position if it was just pressed, or is on."""


class SwitchFacts(Protocol):
    """The facts of the profile that a switch may need."""

    def control(self, name: str) -> ControlPlan:
        """Return a control."""
        ...

    def measured_positions(self, name: str) -> tuple[float, ...]:
        """Return the measured raw numbers of the positions of a control; empty if it was not measured."""
        ...

    def positions_used(self, switch: str) -> int:
        """Return how many positions of a switch have a selection; 2 if none has."""
        ...


@dataclass(frozen=True, kw_only=True)
class SwitchOptions(ABC):
    """The settings of a switch, under ``[switches.NAME]``.

    Attributes:
        kind: its name in profiles.
        goes_anywhere: it can change from any position to any other at once.
        returns: it returns to 0 by itself when a button is released.
    """

    kind: ClassVar[str]
    goes_anywhere: ClassVar[bool] = False
    returns: ClassVar[bool] = False
    debounce: float = option('a time, such as "30 ms"', 0.03, dimension=TIME)
    at_start: bool = option("true or false", False)

    @abstractmethod
    def plan(self, name: str, facts: SwitchFacts) -> SwitchPlan:
        """Return the plan of the switch."""

    def controls(self) -> list[tuple[str, str]]:
        """List the controls that it reads: option and name."""
        return list(named(self, Role.SENSES))

    def errors(self) -> Iterator[Finding]:
        """List the errors between several options, with keys of its own table."""
        return iter(())


@dataclass(frozen=True, kw_only=True)
class ContactOptions(SwitchOptions):
    """The base class of switches that read one control as on or off."""

    reads: str = option(role=Role.SENSES)
    on_above: float = option("a position from -1 to 1", 0.6, low=-1.0, high=1.0)
    off_below: float = option("a position from -1 to 1", 0.4, low=-1.0, high=1.0)

    def errors(self) -> Iterator[Finding]:
        """Require a press that can be reached, and a release that can be reached and is not above it."""
        if self.on_above >= 1.0:
            yield unexpected("on_above", "a position below 1, or it is never pressed", f"{self.on_above:g}")
        if self.off_below <= -1.0:
            yield unexpected("off_below", "a position above -1, or it is never released", f"{self.off_below:g}")
        if self.off_below > self.on_above:
            yield unexpected("off_below", "a position not above on_above", f"{self.off_below:g}")


SWITCHES: Kinds[SwitchOptions] = Kinds("a kind of switch", "tenuto.switches", SwitchOptions)
