"""Fifth stage, the guard: may it move? And if not, why not?

The guard knows nothing of speeds and wheels. It is told what is held, what is not at rest and what is
wrong, and answers with a state and its reasons. Whatever is not `State.DRIVING` is a stop: the pipeline
then brings the robot to standstill, and standstill is where it stays.

`TABLE` is all that it does: from each state, which event leads where. docs/guard.md has the same table in words.

The words are those of IEC 60204-1 and ISO 13850 (hold-to-run, stop categories, emergency stop). A reset permits a
start and never causes one: the way back to driving leads through a release, a fresh press, and sticks at rest.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import NamedTuple

from tenuto.basics.reasons import Code, Reason


class State(StrEnum):
    """What the guard permits, in the words that a driver reads."""

    NOT_ENABLED = "not enabled"
    WAITING_FOR_REST = "waiting for rest"
    DRIVING = "driving"
    STOPPING = "stopping"
    FAULT = "fault"
    EMERGENCY_STOP = "emergency stop"


class Event(StrEnum):
    """What can happen to the guard, in the order in which it is looked at; one tick may bring several."""

    EMERGENCY = "the emergency stop is on"
    RESET = "reset is pressed at standstill, and the emergency stop is off"
    FAULT = "something is wrong"
    END = "the drive is to end"
    STANDS = "the robot stands after a stop"
    STANDS_BROKEN = "the robot stands after a fault"
    CLEARED = "all is well again, and hold-to-run is seen released"
    RELEASED = "hold-to-run is released"
    ENABLED = "hold-to-run is pressed afresh, and nothing is missing"
    RESTED = "all driving controls are at rest, and nothing is missing"


S, E = State, Event
TABLE: Mapping[tuple[State, Event], State] = {
    (S.NOT_ENABLED, E.EMERGENCY): S.EMERGENCY_STOP,
    (S.NOT_ENABLED, E.FAULT): S.FAULT,
    (S.NOT_ENABLED, E.ENABLED): S.WAITING_FOR_REST,
    (S.WAITING_FOR_REST, E.EMERGENCY): S.EMERGENCY_STOP,
    (S.WAITING_FOR_REST, E.FAULT): S.FAULT,
    (S.WAITING_FOR_REST, E.END): S.NOT_ENABLED,
    (S.WAITING_FOR_REST, E.RELEASED): S.NOT_ENABLED,
    (S.WAITING_FOR_REST, E.RESTED): S.DRIVING,
    (S.DRIVING, E.EMERGENCY): S.EMERGENCY_STOP,
    (S.DRIVING, E.FAULT): S.STOPPING,
    (S.DRIVING, E.END): S.STOPPING,
    (S.DRIVING, E.RELEASED): S.STOPPING,
    (S.STOPPING, E.EMERGENCY): S.EMERGENCY_STOP,
    (S.STOPPING, E.FAULT): S.STOPPING,
    (S.STOPPING, E.END): S.STOPPING,
    (S.STOPPING, E.STANDS): S.NOT_ENABLED,
    (S.STOPPING, E.STANDS_BROKEN): S.FAULT,
    (S.FAULT, E.EMERGENCY): S.EMERGENCY_STOP,
    (S.FAULT, E.FAULT): S.FAULT,
    (S.FAULT, E.END): S.NOT_ENABLED,
    (S.FAULT, E.CLEARED): S.NOT_ENABLED,
    (S.EMERGENCY_STOP, E.EMERGENCY): S.EMERGENCY_STOP,
    (S.EMERGENCY_STOP, E.RESET): S.NOT_ENABLED,
}


class GuardStatus(NamedTuple):
    """What the guard says at one tick. There is no reason while driving, and at least one otherwise."""

    state: State
    reasons: tuple[Reason, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class GuardSettings:
    """What a profile says about the guard.

    Attributes:
        hold_to_run: the name of the control that must be held; None where ``enable`` alone enables.
        link_timeout: seconds without a good frame after which the link is quiet.
        stop_deceleration: m/s². stop_turn_deceleration: rad/s². stop_vertical_deceleration: m/s².
        stop: the name of a control that stops the robot while it is on; None where there is none.
        enable: a switch that must be pressed once to enable, after every stop; None where there is none.
        emergency_stop: the name of a control; reset: the switch that permits a start after it.
        released_category, fault_category, emergency_category: of the stops, by IEC 60204-1: 0 takes the power
            off at once, 1 ramps and takes it off then, 2 ramps and leaves it on.
        link_good_for: how long the link must have been good before the robot may be enabled, s.
        least_quality: the share of radio frames below which the link is no good, %.
        frozen_after: how long controls that were measured to be noisy may send the very same numbers, s.
        on_link_loss: "stop" (at standstill, which for an aircraft is a hover), "descend" (at ``descend_speed``, m/s,
            for at most ``descend_for``, s), or "silent" (send nothing: the autopilot has a failsafe of its own).
        command_timeout: how long a command is valid, s: what receives it stops by itself after that.
        least_frame_rate: how many good frames a second must come, counted over a second, Hz; 0 for no such demand.
        takes_over: a control that takes the robot from a driver below while it is on; moving a stick does so anyway.
        goes_on_without_log: a log that cannot be written stops nothing.
        grace: for how long a link that is noticed to be lost changes nothing yet: the last command holds, s.
    """

    hold_to_run: str | None
    link_timeout: float
    stop_deceleration: float
    stop_turn_deceleration: float
    stop: str | None = None
    stop_vertical_deceleration: float = 1.0
    enable: str | None = None
    emergency_stop: str | None = None
    reset: str | None = None
    released_category: int = 2
    fault_category: int = 2
    emergency_category: int = 0
    link_good_for: float = 0.0
    least_quality: float = 0.0
    command_timeout: float = 0.2
    frozen_after: float = math.inf
    on_link_loss: str = "stop"
    descend_speed: float = 0.0
    descend_for: float = 0.0
    least_frame_rate: float = 0.0
    takes_over: str | None = None
    goes_on_without_log: bool = False
    grace: float = 0.0

    @property
    def unnoticed(self) -> float:
        """For how long the last command holds at most after the last good frame, s."""
        return self.link_timeout + self.grace


_DRIVING = GuardStatus(State.DRIVING, ())
_NO_FRAME = Reason(Code.NO_FRAME, "nothing has come from the source yet: is it switched on and connected?")


class Guard:
    """Follows `TABLE`. One instance a pipeline; it keeps no time of its own.

    Attributes:
        state: where it is. broken: the last stop was for a fault.
        release_seen: hold-to-run was seen released since the last stop. False from every stop on: a finger, a strap or
            a jammed button that was down all along must not start the robot.
    """

    def __init__(
        self,
        hold_to_run: str,
        rest_bands: Mapping[str, float],
        levers: Collection[str] = (),
        *,
        pressed_once: bool = False,
    ) -> None:
        """Begin not enabled.

        Args:
            hold_to_run: what must be held or pressed to drive, for the reasons.
            rest_bands: driving control → how far from its middle still counts as rest, −1…1.
            pressed_once: it is a switch that enables when it is pressed, not a control that is held.
            levers: those that rest at their low end, and stay where they are put.
        """
        self._rest_bands = rest_bands
        self._levers = levers
        self.state = State.NOT_ENABLED
        self.broken = False
        self.release_seen = False
        self._cause: tuple[Reason, ...] = ()
        self._ending: Reason | None = None
        self._not_pressed = Reason(Code.HOLD_NOT_PRESSED, f"{hold_to_run} is not held: hold it to drive")
        self._not_released = Reason(
            Code.HOLD_NOT_RELEASED,
            f"{hold_to_run} must be pressed afresh: let go, centre the sticks, press it again",
        )
        self._released = Reason(Code.HOLD_RELEASED, f"{hold_to_run} was let go")
        if pressed_once:
            self._not_pressed = Reason(
                Code.NOT_ENABLED, f"not enabled: centre the sticks, press {hold_to_run} to drive"
            )
            self._released = Reason(Code.SWITCHED_OFF, f"{hold_to_run} was pressed again")

    def seat(self, rest_bands: Mapping[str, float], levers: Collection[str]) -> None:
        """Take note of whose controls are spoken of from now on; see `__init__`."""
        self._rest_bands, self._levers = rest_bands, levers

    def end(self, why: str) -> None:
        """Ask for a stop that is never left again. The first one who asks gives the reason."""
        self._ending = self._ending or Reason(Code.ENDED, why)

    def step(
        self,
        held: bool | None,
        away: Mapping[str, float],
        faults: tuple[Reason, ...],
        standing: bool,
        missing: tuple[Reason, ...] = (),
        emergency: Reason | None = None,
        reset: bool = False,
    ) -> GuardStatus:
        """Take what is known at this tick, and answer with the state and its reasons.

        Args:
            held: hold-to-run is pressed in the newest good frame; None while there was none yet.
            away: driving controls that are not at rest, name → position −1…1.
            faults: what is wrong at this tick; empty when all is well.
            standing: the command of the tick before was standstill.
            missing: what else must be there before driving may begin; it ends no drive.
            emergency: why the emergency stop is on, where it is.
            reset: the reset was pressed with this tick, at standstill.
        """
        if held is False and not faults and self.state is not State.DRIVING and self.state is not State.STOPPING:
            self.release_seen = self.state is not State.EMERGENCY_STOP
        for event in self._events(held, away, faults, standing, missing, emergency, reset):
            after = TABLE.get((self.state, event))
            if after is not None:
                self._enter(after, event, faults, emergency)
        if self.state is State.DRIVING:
            return _DRIVING
        over = not faults if self.broken else emergency is None
        return GuardStatus(self.state, self._reasons(held, away, over) + missing)

    def _events(
        self,
        held: bool | None,
        away: Mapping[str, float],
        faults: tuple[Reason, ...],
        standing: bool,
        missing: tuple[Reason, ...],
        emergency: Reason | None,
        reset: bool,
    ) -> Iterator[Event]:
        """Give what happens at this tick, in order; each is asked for after those before it were followed."""
        if emergency is not None:
            yield E.EMERGENCY
        elif reset:
            yield E.RESET
        if faults:
            yield E.FAULT
        elif self._ending is not None:
            yield E.END
        if standing and self.state is State.STOPPING:
            yield E.STANDS_BROKEN if self.broken else E.STANDS
        if faults or self._ending is not None:
            return
        if held is False:
            yield E.CLEARED
            yield E.RELEASED
        elif held and self.release_seen and not missing:
            yield E.ENABLED
        if not away and not missing:
            yield E.RESTED

    def _enter(self, after: State, event: Event, faults: tuple[Reason, ...], emergency: Reason | None) -> None:
        """Go to a state, and remember why."""
        if event is E.EMERGENCY and emergency is not None:
            self._cause, self.broken = (emergency,), False
        elif event is E.FAULT:
            self._cause, self.broken = faults, True
        elif event is E.END and self._ending is not None:
            self._cause, self.broken = (self._ending,), False
        elif event is E.RELEASED and after is State.STOPPING:
            self._cause, self.broken = (self._released,), False
        if event in (E.EMERGENCY, E.RESET, E.FAULT, E.END) or after is State.STOPPING:
            self.release_seen = False
        self.state = after

    def _reasons(self, held: bool | None, away: Mapping[str, float], over: bool) -> tuple[Reason, ...]:
        """Everything that keeps the robot from moving, all of it at once; ``over`` where its cause is gone."""
        cause = tuple(reason.over() for reason in self._cause) if over else self._cause
        if self.state in (State.STOPPING, State.EMERGENCY_STOP):
            return cause
        not_at_rest = tuple(self._not_at_rest(name, position) for name, position in away.items())
        if self.state is State.WAITING_FOR_REST:
            return not_at_rest
        if self.state is State.FAULT:
            return (*cause, self._not_released, *not_at_rest) if held else (*cause, *not_at_rest)
        if self._ending is not None:
            return (self._ending,)
        if held is None:
            return (_NO_FRAME,)
        return (self._not_released if held else self._not_pressed, *not_at_rest)

    def _not_at_rest(self, name: str, position: float) -> Reason:
        """Say where a control is that should be at rest, and what to do: a lever does not come down by itself."""
        within = f"(within {self._rest_bands[name]:.2f})"
        if name in self._levers:
            return Reason(Code.NOT_AT_REST, f"{name} is at {position:.2f}, not down {within}: bring it down")
        return Reason(Code.NOT_AT_REST, f"{name} is at {position:+.2f}, not at rest {within}: let it go")
