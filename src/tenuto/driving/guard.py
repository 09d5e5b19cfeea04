"""Fifth stage, the guard: may it move? And if not, why not?

The guard knows nothing of speeds and wheels. Its inputs are what is held, what is not at rest and what is
wrong; its outputs are a state and its reasons. Every state except `State.DRIVING` is a stop: the pipeline
then brings the robot to standstill, and keeps it there.

`TABLE` is its complete behaviour: the next state for each state and event. Between ticks it keeps one small value,
`Memory`, so a test visits every state that can be reached. docs/guard.md has the same table in words.

The terms are those of IEC 60204-1 and ISO 13850 (hold-to-run, stop categories, emergency stop). A reset permits a
start and never causes one: driving again needs a release, a new press, and sticks at rest.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import NamedTuple

from tenuto.basics.reasons import Code, Reason
from tenuto.driving.needs_plan import NeedsPlan
from tenuto.driving.wording import Wording


class State(StrEnum):
    """The states of the guard, in the words of the views."""

    NOT_ENABLED = "not enabled"
    WAITING_FOR_REST = "waiting for rest"
    DRIVING = "driving"
    STOPPING = "stopping"
    FAULT = "fault"
    EMERGENCY_STOP = "emergency stop"


class Event(StrEnum):
    """The events of the guard, in the order in which they are handled; one tick may have several."""

    SEEN_RELEASED = "hold-to-run is seen released, and all is well"
    EMERGENCY = "the emergency stop is on"
    RESET = "reset is pressed at standstill, and the emergency stop is off"
    FAULT = "something is wrong"
    END = "the drive is to end"
    STANDS = "the robot stands after a stop"
    STANDS_BROKEN = "the robot stands after a fault"
    CLEARED = "all is well again, and hold-to-run is seen released"
    RELEASED = "hold-to-run is released"
    ENABLED = "hold-to-run is pressed again, and nothing is missing"
    RESTED = "all driving controls are at rest, nothing is missing, and the start warning is over"


class Memory(NamedTuple):
    """The complete state of the guard. Together with `Seen` it determines the next state.

    Attributes:
        state: the present state. broken: the last stop was for a fault.
        release_seen: hold-to-run was seen released since the last stop. A finger, a strap or a jammed button that holds
            it down all the time must not start the robot.
        ended: a final stop was requested.
        powered: the outputs may have power. Only enabling restores it after a stop has removed it.
        category: of the present or the last stop: the most severe category that was requested during it.
    """

    state: State = State.NOT_ENABLED
    broken: bool = False
    release_seen: bool = False
    ended: bool = False
    powered: bool = True
    category: int = 2


class Seen(NamedTuple):
    """The inputs of the guard at one tick.

    Attributes:
        held: hold-to-run is pressed in the newest good frame; None while there was none yet.
        at_rest: all driving controls are at rest. faulty: there is a fault. standing: the last command was standstill.
        missing: a condition for a start is not met. emergency: the emergency stop is on.
        reset: the reset was pressed.
        category: the stop category that the fault requires; None for the usual one.
        warned: the start warning is over.
    """

    held: bool | None
    at_rest: bool
    faulty: bool
    standing: bool
    missing: bool = False
    emergency: bool = False
    reset: bool = False
    category: int | None = None
    warned: bool = True


class Row(NamedTuple):
    """The effect of an event: the next state and memory; None leaves a field unchanged."""

    after: State
    broken: bool | None = None
    release_seen: bool | None = None


S, E = State, Event
# In these states a stop is a new one; elsewhere it is added to the present one.
_NOT_STOPPED = (S.DRIVING, S.WAITING_FOR_REST, S.NOT_ENABLED)
# Each stop clears the release: a new one is needed.
_STOPPED = {"broken": False, "release_seen": False}
_BROKEN = {"broken": True, "release_seen": False}
TABLE: Mapping[tuple[State, Event], Row] = {
    (S.NOT_ENABLED, E.SEEN_RELEASED): Row(S.NOT_ENABLED, release_seen=True),
    (S.NOT_ENABLED, E.EMERGENCY): Row(S.EMERGENCY_STOP, **_STOPPED),
    (S.NOT_ENABLED, E.FAULT): Row(S.FAULT, **_BROKEN),
    (S.NOT_ENABLED, E.ENABLED): Row(S.WAITING_FOR_REST),
    (S.WAITING_FOR_REST, E.SEEN_RELEASED): Row(S.WAITING_FOR_REST, release_seen=True),
    (S.WAITING_FOR_REST, E.EMERGENCY): Row(S.EMERGENCY_STOP, **_STOPPED),
    (S.WAITING_FOR_REST, E.FAULT): Row(S.FAULT, **_BROKEN),
    (S.WAITING_FOR_REST, E.END): Row(S.NOT_ENABLED, **_STOPPED),
    (S.WAITING_FOR_REST, E.RELEASED): Row(S.NOT_ENABLED),
    (S.WAITING_FOR_REST, E.RESTED): Row(S.DRIVING),
    (S.DRIVING, E.EMERGENCY): Row(S.EMERGENCY_STOP, **_STOPPED),
    (S.DRIVING, E.FAULT): Row(S.STOPPING, **_BROKEN),
    (S.DRIVING, E.END): Row(S.STOPPING, **_STOPPED),
    (S.DRIVING, E.RELEASED): Row(S.STOPPING, **_STOPPED),
    (S.STOPPING, E.EMERGENCY): Row(S.EMERGENCY_STOP, **_STOPPED),
    (S.STOPPING, E.FAULT): Row(S.STOPPING, **_BROKEN),
    (S.STOPPING, E.END): Row(S.STOPPING, **_STOPPED),
    (S.STOPPING, E.STANDS): Row(S.NOT_ENABLED),
    (S.STOPPING, E.STANDS_BROKEN): Row(S.FAULT),
    (S.FAULT, E.SEEN_RELEASED): Row(S.FAULT, release_seen=True),
    (S.FAULT, E.EMERGENCY): Row(S.EMERGENCY_STOP, **_STOPPED),
    (S.FAULT, E.FAULT): Row(S.FAULT, **_BROKEN),
    (S.FAULT, E.END): Row(S.NOT_ENABLED, **_STOPPED),
    (S.FAULT, E.CLEARED): Row(S.NOT_ENABLED),
    (S.EMERGENCY_STOP, E.EMERGENCY): Row(S.EMERGENCY_STOP, **_STOPPED),
    (S.EMERGENCY_STOP, E.FAULT): Row(S.EMERGENCY_STOP),
    (S.EMERGENCY_STOP, E.RESET): Row(S.NOT_ENABLED, release_seen=False),
}


def _well(memory: Memory, seen: Seen) -> bool:
    return not seen.faulty and not memory.ended


# The condition of each event; it is evaluated after the events before it have taken effect.
HAPPENS: Mapping[Event, Callable[[Memory, Seen], bool]] = {
    E.SEEN_RELEASED: lambda memory, seen: seen.held is False and not seen.faulty,
    E.EMERGENCY: lambda memory, seen: seen.emergency,
    E.RESET: lambda memory, seen: seen.reset and seen.standing and not seen.emergency,
    E.FAULT: lambda memory, seen: seen.faulty,
    E.END: lambda memory, seen: memory.ended and not seen.faulty,
    E.STANDS: lambda memory, seen: seen.standing and not memory.broken,
    E.STANDS_BROKEN: lambda memory, seen: seen.standing and memory.broken,
    E.CLEARED: lambda memory, seen: seen.held is False and _well(memory, seen),
    E.RELEASED: lambda memory, seen: seen.held is False and _well(memory, seen),
    E.ENABLED: lambda memory, seen: (
        bool(seen.held) and memory.release_seen and not seen.missing and _well(memory, seen)
    ),
    E.RESTED: lambda memory, seen: seen.at_rest and seen.warned and not seen.missing and _well(memory, seen),
}


class Categories(NamedTuple):
    """The stop categories (IEC 60204-1) of a release, of a fault and of the emergency stop.

    0 removes the power at once, 1 ramps to standstill and then removes it, 2 ramps to standstill and keeps it.
    """

    released: int = 2
    fault: int = 2
    emergency: int = 0

    def after(self, memory: Memory, event: Event, seen: Seen) -> int:
        """Return the category of the stop after an event: of its cause, or of a later and more severe one."""
        asked = {
            E.EMERGENCY: self.emergency,
            E.FAULT: self.fault if seen.category is None else seen.category,
            E.END: self.released,
            E.RELEASED: self.released,
        }.get(event)
        if asked is None:
            return memory.category
        return asked if memory.state in _NOT_STOPPED else min(memory.category, asked)

    def begin(self) -> Memory:
        """Return the initial memory: without power if a release removes it."""
        return Memory(powered=self.released == 2, category=self.released)


Happens = Callable[[Memory, Seen], bool]
Rules = Mapping[State, Sequence[tuple[int, Event, Happens, Row]]]


def rules() -> Rules:
    """Sort `TABLE` and `HAPPENS` by state, in the order of evaluation."""
    return {
        state: tuple(
            (order, event, happens, TABLE[state, event])
            for order, (event, happens) in enumerate(HAPPENS.items())
            if (state, event) in TABLE
        )
        for state in State
    }


def advance(memory: Memory, seen: Seen, categories: Categories, by: Rules) -> tuple[Memory, tuple[Event, ...]]:
    """Apply the table for one tick: return the next memory, and the events that had an effect."""
    followed: tuple[Event, ...] = ()
    last = -1
    again = True
    while again:
        again = False
        for order, event, happens, row in by[memory.state]:
            if order <= last or not happens(memory, seen):
                continue
            last, again = order, row.after is not memory.state
            memory = Memory(
                row.after,
                memory.broken if row.broken is None else row.broken,
                memory.release_seen if row.release_seen is None else row.release_seen,
                memory.ended,
                memory.powered or event is E.ENABLED,
                categories.after(memory, event, seen),
            )
            followed += (event,)
            if again:
                break
    if memory.powered and not _may_have_power(memory, seen):
        memory = memory._replace(powered=False)
    return memory, followed


def _may_have_power(memory: Memory, seen: Seen) -> bool:
    if memory.state in (S.DRIVING, S.WAITING_FOR_REST):
        return True
    return memory.category == 2 or (memory.category == 1 and not seen.standing)


class GuardStatus(NamedTuple):
    """The status of the guard at one tick. There is no reason while driving, and at least one otherwise."""

    state: State
    reasons: tuple[Reason, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class GuardSettings:
    """The settings of the guard from a profile.

    Attributes:
        hold_to_run: the name of the control that must be held; None if ``enable`` alone enables.
        link_timeout: seconds without a good frame after which the link is quiet.
        stop_deceleration: m/s². stop_turn_deceleration: rad/s². stop_vertical_deceleration: m/s².
        stop: the name of a control that stops the robot while it is on; None for none.
        enable: a switch that must be pressed once to enable, after every stop; None for none.
        enable_stays: it keeps its position, so it must stay on, and must be switched off after every stop.
        emergency_stop: the name of a control; reset: the switch that permits a start after it.
        released_category, fault_category, emergency_category: of the stops, by IEC 60204-1: 0 removes the power
            at once, 1 ramps and then removes it, 2 ramps and keeps it.
        link_good_for: how long the link must have been good before the robot may be enabled, s.
        least_quality: the share of radio frames below which the link is bad, %.
        frozen_after: how long controls that were measured to be noisy may send exactly the same numbers, s; it applies
            to those only, and not while they are at their ends.
        on_link_loss: "stop" (at standstill, which for an aircraft is a hover), "descend" (at ``descend_speed``, m/s,
            for at most ``descend_for``, s), or "silent" (send nothing: the autopilot has a failsafe of its own).
        command_timeout: how long a command is valid, s: the receiver stops by itself after that.
        least_frame_rate: the least number of good frames in a second, Hz; 0 for none.
        takes_over: a control that takes the robot from a lower driver while it is on; moving a stick does so as well.
        goes_on_without_log: a log that cannot be written does not stop the drive.
        hold_to_run_2, emergency_stop_2: a second control of the same meaning, which must agree within
            ``discrepancy_time``, s; the robot moves only while both hold, and stops as soon as one stops it.
        pressed_through: from this share of its travel on hold-to-run is a release (three positions); infinite for none.
        attention: the longest time without a moved control, s; infinite for no limit.
        test_at_start: what must be tested before the first drive: "emergency stop", "link".
        start_warning: for how long outputs warn before the robot may move, s; 0 for no warning.
        grace: for how long a detected link loss is ignored and the last command is held, s.
        needs: the conditions at the far end.
    """

    hold_to_run: str | None
    link_timeout: float
    stop_deceleration: float
    stop_turn_deceleration: float
    stop: str | None
    stop_vertical_deceleration: float
    enable: str | None
    enable_stays: bool
    emergency_stop: str | None
    reset: str | None
    released_category: int
    fault_category: int
    emergency_category: int
    link_good_for: float
    least_quality: float
    command_timeout: float
    frozen_after: float
    on_link_loss: str
    descend_speed: float
    descend_for: float
    least_frame_rate: float
    takes_over: str | None
    goes_on_without_log: bool
    hold_to_run_2: str | None
    emergency_stop_2: str | None
    discrepancy_time: float
    pressed_through: float
    attention: float
    test_at_start: tuple[str, ...]
    start_warning: float
    grace: float
    needs: NeedsPlan

    @property
    def unnoticed(self) -> float:
        """The longest time that the last command is held after the last good frame, s."""
        return self.link_timeout + self.grace


_DRIVING = GuardStatus(State.DRIVING, ())
_USUAL = Categories()
_NO_FRAME = Reason(Code.NO_FRAME, "nothing has come from the source yet: is it switched on and connected?")


# In these states a stop is that of a drive.
_DROVE = (State.DRIVING, State.STOPPING)


def _last_stop(cause: Reason) -> Reason:
    """Return the cause of a stop for the time after it, without what was to be done then."""
    return Reason(Code.LAST_STOP, f"last stop: {cause.over().text.partition('; ')[0]}")


class Guard:
    """Applies `TABLE`, and words the reasons. One instance per pipeline; it has no clock.

    Attributes:
        memory: the complete state.
    """

    def __init__(
        self,
        words: Wording,
        rest_bands: Mapping[str, float],
        levers: Collection[str] = (),
        *,
        categories: Categories = _USUAL,
    ) -> None:
        """Begin not enabled.

        Args:
            words: for what enables the robot.
            rest_bands: driving control → the distance from its middle that still counts as rest, −1…1.
            levers: those that rest at their low end, and stay where they are put.
            categories: of the stops.
        """
        self._words = words
        self._rest_bands = rest_bands
        self._levers = levers
        self._categories = categories
        self._rules = rules()
        self.memory = categories.begin()
        self._cause: tuple[Reason, ...] = ()
        self._stopped_by: dict[str, Reason] = {}
        self._ending: Reason | None = None

    @property
    def last_stop(self) -> tuple[Reason, ...]:
        """Why the last drive was stopped, while the robot waits for the next one: empty while that is a reason."""
        waits = self._stopped_by and self.state in (State.NOT_ENABLED, State.WAITING_FOR_REST)
        return tuple(self._stopped_by.values()) if waits else ()

    @property
    def state(self) -> State:
        """The present state."""
        return self.memory.state

    @property
    def category(self) -> int:
        """The category of the present stop, or of the last one."""
        return self.memory.category

    def set_driver(self, rest_bands: Mapping[str, float], levers: Collection[str], *, released: bool | None) -> None:
        """Set the driver whose controls are named from now on; see `__init__`.

        Args:
            rest_bands, levers: see `__init__`. released: the hold-to-run of this driver was seen released since the
                last stop; None keeps the present value.
        """
        self._rest_bands, self._levers = rest_bands, levers
        if released is not None and self.state not in (State.DRIVING, State.STOPPING):
            self.memory = self.memory._replace(release_seen=released)

    def end(self, why: str) -> None:
        """Request a final stop. The reason of the first request counts."""
        self._ending = self._ending or Reason(Code.ENDED, why)
        self.memory = self.memory._replace(ended=True)

    def cut_power(self) -> None:
        """Remove the power until the next enable."""
        self.memory = self.memory._replace(powered=False)

    def drives_on(self, held: bool | None) -> GuardStatus | None:
        """Return the status of a tick without events: the robot drives, and it is held. Otherwise None.

        This is the fast path of most ticks; with any fault, `step` is used.
        """
        memory = self.memory
        return _DRIVING if held and memory.state is State.DRIVING and not memory.ended else None

    def step(
        self,
        held: bool | None,
        away: Mapping[str, float],
        faults: tuple[Reason, ...],
        standing: bool,
        missing: tuple[Reason, ...] = (),
        emergency: Reason | None = None,
        reset: bool = False,
        category: int | None = None,
        warning: Reason | None = None,
        released: Reason | None = None,
    ) -> GuardStatus:
        """Take the inputs of this tick, and return the state and its reasons.

        Args:
            held: hold-to-run is pressed in the newest good frame; None while there was none yet.
            away: driving controls that are not at rest, name → position −1…1.
            faults: the faults of this tick; empty if there is none.
            standing: the command of the tick before was standstill.
            missing: other conditions that a start needs; they end no drive.
            emergency: why the emergency stop is on, if it is.
            reset: the reset was pressed with this tick.
            category: the stop category that the faults require; None for the usual one.
            warning: the reason that the start warning is not over yet.
            released: why it is not held, if that is not by a release.
        """
        seen = Seen(
            held,
            not away,
            bool(faults),
            standing,
            bool(missing),
            emergency is not None,
            reset,
            category,
            warning is None,
        )
        was = self.state
        self.memory, followed = advance(self.memory, seen, self._categories, self._rules)
        if self.state is State.DRIVING:
            self._stopped_by = {}
            return _DRIVING
        causes = {
            Event.EMERGENCY: (emergency,) if emergency is not None else (), Event.FAULT: faults,
            Event.END: (self._ending,) if self._ending is not None else (),
            Event.RELEASED: (released or self._words.released,),
        }  # fmt: skip
        for event in followed:
            if event is Event.FAULT and self.state is State.EMERGENCY_STOP:
                continue  # it only makes the stop more severe
            self._cause = causes.get(event, self._cause)
            if event in causes:
                self._keep(was)
        if warning is not None and self.state is State.WAITING_FOR_REST:
            missing = (*missing, warning)
        over = not faults if self.memory.broken else emergency is None
        return GuardStatus(self.state, self._reasons(held, away, over) + missing)

    def _keep(self, was: State) -> None:
        """Keep the causes of the stop of a drive, with their newest texts; a release is known to the driver."""
        if was is State.DRIVING:
            self._stopped_by = {}
        for cause in self._cause if self._cause != (self._words.released,) else ():
            if was in _DROVE or cause.code in self._stopped_by:
                self._stopped_by[cause.code] = _last_stop(cause)

    def _reasons(self, held: bool | None, away: Mapping[str, float], over: bool) -> tuple[Reason, ...]:
        """All reasons that keep the robot from moving; ``over`` if the cause is gone."""
        cause = tuple(reason.over() for reason in self._cause) if over else self._cause
        if self.state in (State.STOPPING, State.EMERGENCY_STOP):
            return cause
        not_at_rest = tuple(self._not_at_rest(name, position) for name, position in away.items())
        if self.state is State.WAITING_FOR_REST:
            return not_at_rest
        if self.state is State.FAULT:
            return (*cause, self._words.not_released, *not_at_rest) if held else (*cause, *not_at_rest)
        if self._ending is not None:
            return (self._ending,)
        if held is None:
            return (_NO_FRAME,)
        return (self._words.not_released if held else self._words.not_pressed, *not_at_rest)

    def _not_at_rest(self, name: str, position: float) -> Reason:
        """Describe the position of a control that is not at rest, and what to do: a lever does not return by itself."""
        within = f"(within {self._rest_bands[name]:.2f})"
        if name in self._levers:
            return Reason(Code.NOT_AT_REST, f"{name} is at {position:.2f}, not down {within}: bring it down")
        return Reason(Code.NOT_AT_REST, f"{name} is at {position:+z.2f}, not at rest {within}: release it")
