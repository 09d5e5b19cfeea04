"""The interface of every kind of output; all of them are controlled by the guard."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from typing import ClassVar, Literal

from tenuto.basics.findings import Finding
from tenuto.kinds.options import option
from tenuto.kinds.registry import Kinds
from tenuto.switches.base import Switch


@dataclass(frozen=True, kw_only=True)
class OutputPlan(ABC):
    """One output, a number −1…1.

    Attributes:
        name: the builder's own name for it.
        idle: its level when nothing is pressed, and where it is held when the robot is not driven.
        when_stopped: "idle"; "keep": stays at its last level when the robot is not driven, as long as there is power
            and no emergency stop; "always": stays even then, as a gripper or a brake must.
        by_guard: it follows the power that the guard permits, not a driver: it has a new level at every step
            while there is power, and rests otherwise.
        warns: it is on while the guard warns that the robot is about to move.
    """

    by_guard: ClassVar[bool] = False
    warns: ClassVar[bool] = False
    name: str
    idle: float = 0.0
    when_stopped: str = "idle"

    @abstractmethod
    def asked(self, switches: Mapping[str, Switch], shaped: Mapping[str, float], before: float) -> float:
        """Return the demanded level.

        Args:
            switches, shaped: of this step. before: the demand of the last step.
        """


class Output:
    """The state of one output.

    Attributes:
        level: its present level.
        waits: it may follow its control, but holds until that is moved again.
    """

    def __init__(self, plan: OutputPlan) -> None:
        self.take(plan)
        self.level = plan.idle
        self.waits = False
        self._wanted = plan.idle
        self._released = False
        self._held_at: float | None = None

    def take(self, plan: OutputPlan) -> None:
        """Continue with another plan of the same name: that of another mode."""
        self.plan = plan
        self._follows = not (plan.by_guard or plan.warns)

    def step(
        self,
        permitted: bool,
        switches: Mapping[str, Switch],
        shaped: Mapping[str, float],
        powered: bool = True,
        warning: bool = False,
    ) -> float:
        """Take the permissions and switches of this step, and return the level.

        The demand of a switch at the moment when driving is permitted starts nothing: the output follows once
        the demand equals its level, or has changed.
        """
        if permitted and self._released and self._follows:
            self.level = self._wanted = self.plan.asked(switches, shaped, self._wanted)
            return self.level
        if self.plan.by_guard:
            self.level = self.plan.asked(switches, shaped, self.level) if powered else self.plan.idle
            return self.level
        if self.plan.warns:
            self.level = 1.0 if warning else self.plan.asked(switches, shaped, 0.0) if permitted else self.plan.idle
            return self.level
        if not permitted:
            self._released = False
            self._held_at = None
            self.waits = False
            if self.plan.when_stopped == "idle" or (self.plan.when_stopped == "keep" and not powered):
                self.level = self.plan.idle
            # A contact that was on is off, even if its stick is still held.
            self._wanted = self.plan.idle
            return self.level
        wanted = self._wanted = self.plan.asked(switches, shaped, self._wanted)
        if self._held_at is None:
            self._held_at = wanted
        self._released = wanted == self.level or wanted != self._held_at
        self.waits = not self._released
        if self._released:
            self.level = wanted
        return self.level


@dataclass(frozen=True, kw_only=True)
class OutputOptions(ABC):
    """The settings of an output, under ``[outputs.NAME]``.

    Attributes:
        kind: its name in profiles.
    """

    kind: ClassVar[str]
    when_stopped: Literal["idle", "keep", "always"] = option('"idle", "keep" or "always"', "idle")

    @abstractmethod
    def plan(self, name: str) -> OutputPlan:
        """Return the plan of the output."""

    def positions_used(self, switch: str) -> int:
        """Return how many positions of a switch it distinguishes; 0 for none."""
        return 0

    def errors(self, controls: Collection[str]) -> Iterator[Finding]:
        """List the errors between several options, with keys of its own table.

        Args:
            controls: the names under [controls].
        """
        return iter(())


OUTPUTS: Kinds[OutputOptions] = Kinds("a kind of output", "tenuto.outputs", OutputOptions)
LEVEL = "a number from -1 to 1"
