"""Fifth stage, the guard: may it move? And if not, why not?

The guard knows nothing of speeds and wheels. It is told what is held, what is not at rest and what is
wrong, and answers with a state and its reasons. Whatever is not `State.DRIVING` is a stop: the pipeline
then ramps to standstill, and standstill is where it stays.

============== ===================================== ==================================================
state          leaves when                           goes to
============== ===================================== ==================================================
not enabled    hold-to-run is pressed (and had been  waiting for rest
               seen released since the last stop)
waiting for    all driving controls are at rest      driving
rest           hold-to-run is released               not enabled
driving        hold-to-run is released               stopping
stopping       the robot stands                      not enabled, or fault when a fault was the cause
fault          all is well again and hold-to-run     not enabled
               is seen released
any            a fault is reported                   stopping while it moves, fault when it stands
any            the drive is asked to end             stopping while it moves, then not enabled for good
============== ===================================== ==================================================

The words are those of IEC 60204-1 (hold-to-run, stop category 2: stopped with power left on). A reset
permits a start and never causes one: the way from a fault back to driving leads through a release, a
fresh press, and sticks at rest.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import NamedTuple


class State(StrEnum):
    """What the guard permits, in the words that a driver reads."""

    NOT_ENABLED = "not enabled"
    WAITING_FOR_REST = "waiting for rest"
    DRIVING = "driving"
    STOPPING = "stopping"
    FAULT = "fault"


class Reason(NamedTuple):
    """Why the robot may not move: a code for programs, and a text for people.

    Attributes:
        code: stable, e.g. ``"link_quiet"``.
        text: what is wrong, with numbers and units, and what to do about it.
    """

    code: str
    text: str


class GuardStatus(NamedTuple):
    """What the guard says at one tick. There is no reason while driving, and at least one otherwise."""

    state: State
    reasons: tuple[Reason, ...]


@dataclass(frozen=True, slots=True)
class GuardSettings:
    """What a profile says about the guard.

    Attributes:
        hold_to_run: the name of the control that must be held.
        link_timeout: seconds without a good frame after which the link is quiet.
        stop_deceleration: m/s². stop_turn_deceleration: rad/s². stop_vertical_deceleration: m/s².
        stop: the name of a control that stops the robot while it is on; None where there is none.
    """

    hold_to_run: str
    link_timeout: float
    stop_deceleration: float
    stop_turn_deceleration: float
    stop: str | None = None
    stop_vertical_deceleration: float = 1.0


_DRIVING = GuardStatus(State.DRIVING, ())
_NO_FRAME = Reason("no_frame", "nothing has come from the source yet: is it switched on and connected?")


class Guard:
    """The state machine of the table above. One instance a pipeline; it keeps no time of its own."""

    def __init__(self, hold_to_run: str, rest_bands: Mapping[str, float], levers: Collection[str] = ()) -> None:
        """Begin not enabled.

        Args:
            hold_to_run: the name of the control that must be held.
            rest_bands: driving control → how far from its middle still counts as rest, −1…1.
            levers: those that rest at their low end, and stay where they are put.
        """
        self._rest_bands = rest_bands
        self._levers = levers
        self.state = State.NOT_ENABLED
        # False from every stop on until hold-to-run is seen released: a finger, a strap or a jammed
        # button that was down all along must not start the robot.
        self._release_seen = False
        self._cause: tuple[Reason, ...] = ()
        self._ending: Reason | None = None
        self._not_pressed = Reason("hold_not_pressed", f"{hold_to_run} is not held: hold it to drive")
        self._not_released = Reason(
            "hold_not_released",
            f"{hold_to_run} must be pressed afresh: let go, centre the sticks, press it again",
        )
        self._released = Reason("hold_released", f"{hold_to_run} was let go")

    def end(self, why: str) -> None:
        """Ask for a stop that is never left again. The first one who asks gives the reason."""
        self._ending = self._ending or Reason("ended", why)

    def step(
        self,
        held: bool | None,
        away: Mapping[str, float],
        faults: tuple[Reason, ...],
        standing: bool,
        missing: tuple[Reason, ...] = (),
    ) -> GuardStatus:
        """Take what is known at this tick, and answer with the state and its reasons.

        Args:
            held: hold-to-run is pressed in the newest good frame; None while there was none yet.
            away: driving controls that are not at rest, name → position −1…1.
            faults: what is wrong at this tick; empty when all is well.
            standing: the command of the tick before was standstill.
            missing: what else must be there before driving may begin; it ends no drive.
        """
        if faults:
            self._stop(faults, standing, State.FAULT)
        elif self._ending is not None:
            self._stop((self._ending,), standing, State.NOT_ENABLED)
        else:
            self._go_on(held, standing, bool(missing))
        if self.state is State.WAITING_FOR_REST and not away:
            self.state = State.DRIVING
        return _DRIVING if self.state is State.DRIVING else GuardStatus(self.state, self._reasons(held, away) + missing)

    def _go_on(self, held: bool | None, standing: bool, missing: bool) -> None:
        """Follow the table where nothing is wrong."""
        if self.state is State.STOPPING:
            if standing:
                self.state = State.NOT_ENABLED if self._cause == (self._released,) else State.FAULT
        elif held is False:
            if self.state is State.DRIVING:
                self._stop((self._released,), standing, State.NOT_ENABLED)
            else:
                self._release_seen = True
                self.state = State.NOT_ENABLED
        elif held and self._release_seen and not missing and self.state is State.NOT_ENABLED:
            self.state = State.WAITING_FOR_REST

    def _stop(self, cause: tuple[Reason, ...], standing: bool, at_rest: State) -> None:
        self._cause = cause
        self._release_seen = False
        self.state = at_rest if standing else State.STOPPING

    def _reasons(self, held: bool | None, away: Mapping[str, float]) -> tuple[Reason, ...]:
        """Everything that keeps the robot from moving, all of it at once."""
        if self.state is State.STOPPING:
            return self._cause
        not_at_rest = tuple(self._not_at_rest(name, position) for name, position in away.items())
        if self.state is State.WAITING_FOR_REST:
            return not_at_rest
        if self.state is State.FAULT:
            return (*self._cause, self._not_released, *not_at_rest) if held else (*self._cause, *not_at_rest)
        if self._ending is not None:
            return (self._ending,)
        if held is None:
            return (_NO_FRAME,)
        return (self._not_released if held else self._not_pressed, *not_at_rest)

    def _not_at_rest(self, name: str, position: float) -> Reason:
        """Say where a control is that should be at rest, and what to do: a lever does not come down by itself."""
        within = f"(within {self._rest_bands[name]:.2f})"
        if name in self._levers:
            return Reason("not_at_rest", f"{name} is at {position:.2f}, not down {within}: bring it down")
        return Reason("not_at_rest", f"{name} is at {position:+.2f}, not at rest {within}: let it go")
