"""A pipeline whose profile may change while it runs: it stops first, and must be enabled again."""

from __future__ import annotations

from collections.abc import Mapping

from tenuto.basics.frame import Frame
from tenuto.basics.reasons import Code, Reason
from tenuto.driving.guard import State
from tenuto.driving.pipeline import Pipeline
from tenuto.driving.plan import Plan
from tenuto.driving.telemetry import NO_FAR_ENDS, FarEnds
from tenuto.driving.tick import Tick
from tenuto.vehicles.velocity import STANDSTILL

_NOBODY_ELSE: Mapping[str, Frame] = {}


class Changeover:
    """The present pipeline, and the next plan.

    Attributes:
        pipeline: the one that steps. plan: its plan.
        changed: a new plan was taken with the last step.
    """

    def __init__(self, plan: Plan) -> None:
        self.pipeline = Pipeline(plan)
        self.plan = plan
        self.changed = False
        self._next: Plan | None = None
        self._ended = False
        self._standing = True
        self._emergency = False
        self._refused: tuple[Reason, ...] = ()

    def change(self, plan: Plan) -> None:
        """Stop, and continue with another plan at standstill. The plan has been checked."""
        self._refused = ()
        if not self._ended:
            self._next = plan
            self.pipeline.end("the profile has changed: the robot stops to load it")

    def refuse(self, why: str) -> None:
        """Drive on, and report why a changed profile is refused, until the next change."""
        self._refused = (Reason(Code.PROFILE_REFUSED, f"the changed profile is refused: {why}"),)

    def join_emergency(self, why: str) -> None:
        """Enter an emergency stop because a remote robot is in one; an existing one keeps its reason."""
        if not self._emergency:
            how = "" if self.plan.guard.reset else " (this profile has no guard.reset: drive with one that has)"
            self.pipeline.emergency_stop(why + how)

    def end(self, reason: str) -> None:
        """Request a final stop."""
        self._ended, self._next = True, None
        self.pipeline.end(reason)

    def step(
        self,
        frame: Frame | None,
        now: float,
        *,
        others: Mapping[str, Frame] = _NOBODY_ELSE,
        faults: tuple[Reason, ...] = (),
        notices: tuple[Reason, ...] = (),
        far: FarEnds = NO_FAR_ENDS,
    ) -> Tick:
        """Step the pipeline; see there."""
        self.changed = self._next is not None and self._standing
        if self._next is not None and self._standing:
            self.pipeline, self.plan, self._next = self.pipeline.successor(self._next), self._next, None
        tick = self.pipeline.step(frame, now, others=others, faults=faults, notices=notices + self._refused, far=far)
        self._emergency = tick.guard.state is State.EMERGENCY_STOP
        self._standing = tick.command == STANDSTILL and tick.guard.state not in (State.DRIVING, State.STOPPING)
        return tick
