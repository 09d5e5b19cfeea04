"""The stages in their order: a frame and the time go in, a tick comes out. Nothing else is touched."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Protocol

from tenuto.core import shaping
from tenuto.core.centring import StartCentre
from tenuto.core.chassis.differential import Differential
from tenuto.core.demand import STANDSTILL, Speeds, VelocityCommand
from tenuto.core.frame import Frame
from tenuto.core.guard import Guard, GuardSettings, GuardStatus, Reason, State
from tenuto.core.limits import Limits, ramp, ramp_to_stop
from tenuto.core.mixing import Arcade, Intent
from tenuto.core.tick import Tick
from tenuto.core.travel import Travel

# A stick with a narrower dead zone than this still counts as at rest within it, as a share of its travel.
REST_BAND = 0.03
# How far a control that rests at its end must be pressed to count as held, as a share of its travel.
HELD_FROM = 0.5


@dataclass(frozen=True, slots=True)
class Opposite:
    """A second control of the device that makes one axis with the first: what it gives is taken away."""

    reads: str
    travel: Travel
    believable: tuple[float, float]


@dataclass(frozen=True, slots=True)
class ControlPlan:
    """How one control is read and shaped.

    Attributes:
        name: the builder's own name for it.
        reads: what the device calls it.
        travel: its measured ends.
        believable: the lowest and highest raw number that it can send; anything else is a fault.
        dead_zone: half-width, 0…1 of its travel. expo: 0…1.
        rest_band: how far from its middle it may come to rest, as measured; None where it was not measured.
        centre_at_start: its centre is taken at start, from numbers that are still.
        minus: the control that goes the other way, where two triggers or buttons make one axis.
    """

    name: str
    reads: str
    travel: Travel
    believable: tuple[float, float]
    dead_zone: float = 0.0
    expo: float = 0.0
    rest_band: float | None = None
    centre_at_start: bool = False
    minus: Opposite | None = None

    @property
    def all_reads(self) -> tuple[str, ...]:
        """The names of all controls of the device that it reads."""
        return (self.reads,) if self.minus is None else (self.reads, self.minus.reads)

    def shape(self, position: float) -> float:
        """Apply dead zone and expo to a position."""
        if self.dead_zone == self.expo == 0.0:
            return position
        return shaping.expo(shaping.dead_zone(position, self.dead_zone), self.expo)


@dataclass(frozen=True, slots=True)
class Plan:
    """Everything that the stages need to know, checked and in SI units.

    Attributes:
        controls: all controls that are read, the one of ``guard.hold_to_run`` among them.
        period: seconds between two ticks as planned.
        stall_timeout: seconds between two ticks after which the loop counts as stalled.
    """

    controls: tuple[ControlPlan, ...]
    style: Arcade
    speeds: Speeds
    limits: Limits
    guard: GuardSettings
    chassis: Differential
    period: float
    stall_timeout: float

    def plan(self) -> Plan:
        """Give itself, so that a `Pipeline` takes a plan made in code as well as a profile."""
        return self


class Planned(Protocol):
    """Whatever can say its plan: a `tenuto.Profile`, or a `Plan` itself."""

    def plan(self) -> Plan:
        """Give the plan."""
        ...


class Pipeline:
    """From frames to ticks. It reads no clock and no device: both come in through `step`."""

    def __init__(self, profile: Planned) -> None:
        plan = profile.plan()
        self.plan = plan
        self._controls = tuple((control, *control.believable) for control in plan.controls)
        bands = {
            control.name: max(control.dead_zone if control.rest_band is None else control.rest_band, REST_BAND)
            for control in plan.controls
            if control.name in plan.style.controls()
        }
        self._rest_bands = tuple(bands.items())
        self._guard = Guard(plan.guard.hold_to_run, bands)
        self._centring = {
            control.name: StartCentre(control.travel) for control in plan.controls if control.centre_at_start
        }
        self._stop = plan.guard.stop
        self._now: float | None = None
        self._frame: Frame | None = None
        self._good: Frame | None = None  # the newest frame that a driver can stand behind
        self._held: bool | None = None
        self._away: dict[str, float] = {}
        nowhere = {control.name: 0.0 for control in plan.controls}
        self._raw: Mapping[str, float] = dict.fromkeys(nowhere, math.nan)
        self._positions: Mapping[str, float] = nowhere
        self._shaped: Mapping[str, float] = nowhere
        self._intent = Intent(0.0, 0.0)
        self._demand = STANDSTILL
        self._command = STANDSTILL

    def end(self, reason: str) -> None:
        """Ask for a stop that is never left again; the steps that follow ramp down to it."""
        self._guard.end(reason)

    def halt(self, now: float) -> Tick:
        """Give a last tick whose command is standstill, without a ramp. No step moves again after it."""
        self.end("the drive has ended")
        self._command = STANDSTILL
        status = self._guard.step(self._held, self._away, (), standing=True)
        return self._tick(now, 0.0, False, status, STANDSTILL)

    def step(self, frame: Frame | None, now: float) -> Tick:
        """Take a frame, or None when nothing came, and give the tick for this moment.

        Never raises for what a device or a clock does: that becomes a reason and a stop.

        Args:
            frame: the newest frame since the step before.
            now: seconds on a clock that only goes forward.
        """
        dt, faults = self._elapsed(now)
        if frame is not None:
            self._frame = frame
            faults += self._take(frame, now)
        faults += self._link_faults(now)
        if self._stop is not None and self._positions[self._stop] >= HELD_FROM:
            faults += (Reason("stop_switch", f"{self._stop} is on: it stops everything while it is"),)
        standing = self._command == STANDSTILL
        status = self._guard.step(self._held, self._away, faults, standing, self._missing())
        target = STANDSTILL
        if status.state is State.DRIVING:
            chassis = self.plan.chassis
            target, _ = chassis.keep_arc(self._demand)
            self._command = ramp(self._command, target, dt, self.plan.limits, chassis.fits)
        elif not standing:
            guard = self.plan.guard
            self._command = ramp_to_stop(self._command, dt, guard.stop_deceleration, guard.stop_turn_deceleration)
        return self._tick(now, dt, frame is not None, status, target)

    def _elapsed(self, now: float) -> tuple[float, tuple[Reason, ...]]:
        """Give the seconds since the step before, and what is wrong with the clock or the loop."""
        before = self._now
        if not math.isfinite(now):
            return self.plan.period, (Reason("time_not_finite", f"the clock says {now}"),)
        self._now = now
        if before is None:
            return 0.0, ()
        dt = now - before
        if dt <= 0.0:
            # What was known of the link is measured on a clock that is no more: forget its age.
            self._good = None
            back = f"the clock went from {before:.3f} s to {now:.3f} s: time must only go forward"
            return self.plan.period, (Reason("time_backwards", back),)
        if dt > self.plan.stall_timeout:
            stall = f"the loop stalled for {dt:.3f} s (stall_timeout {self.plan.stall_timeout:g} s)"
            return dt, (Reason("loop_stalled", stall),)
        return dt, ()

    def _take(self, frame: Frame, now: float) -> tuple[Reason, ...]:
        """Read the controls from a frame; one that cannot be believed changes nothing but its own faults."""
        raw: dict[str, float] = {}
        positions: dict[str, float] = {}
        shaped: dict[str, float] = {}
        faults = () if self._sound(frame, now) else self._frame_faults(frame, now)
        values = frame.values
        for control, lowest, highest in self._controls:
            name = control.name
            value = values.get(control.reads, math.nan)
            raw[name] = value
            # Written so that NaN fails it too; nearly all values are floats, and asking for that is quickest.
            if not ((type(value) is float or isinstance(value, (int, float))) and lowest <= value <= highest):
                faults += (_unbelievable(name, control, value, control.reads in values),)
                continue
            position = control.travel.position(value)
            if control.minus is not None:
                opposite = control.minus
                value = values.get(opposite.reads, math.nan)
                if not (isinstance(value, (int, float)) and opposite.believable[0] <= value <= opposite.believable[1]):
                    faults += (_unbelievable(name, opposite, value, opposite.reads in values),)
                    continue
                position -= opposite.travel.position(value)
            positions[name] = position
            shaped[name] = control.shape(position)
        self._raw = raw
        if faults:
            return faults
        self._good = frame
        if self._centring:
            self._take_centres(frame)
        self._positions = positions
        self._shaped = shaped
        self._intent = intent = self.plan.style.intent(shaped)
        self._demand = self.plan.speeds.demand(intent)
        self._held = positions[self.plan.guard.hold_to_run] >= HELD_FROM
        self._away = {name: positions[name] for name, band in self._rest_bands if abs(positions[name]) > band}
        return ()

    def _sound(self, frame: Frame, now: float) -> bool:
        """Tell in one go that nothing is wrong with a frame as a whole; `_frame_faults` says what is."""
        good = self._good
        return frame.link_good and frame.time <= now and (good is None or frame.time >= good.time)

    def _take_centres(self, frame: Frame) -> None:
        """Take the centres that are to be taken at start, each as soon as its control has been still."""
        for control, lowest, highest in self._controls:
            waiting = self._centring.get(control.name)
            travel = waiting.feed(frame.time, frame.values[control.reads]) if waiting is not None else None
            if travel is not None:
                del self._centring[control.name]
                centred = replace(control, travel=travel, centre_at_start=False)
                self._controls = tuple(
                    (centred, lowest, highest) if entry[0] is control else entry for entry in self._controls
                )

    def _missing(self) -> tuple[Reason, ...]:
        """Give what must still be there before driving may begin."""
        if not self._centring:
            return ()
        return tuple(
            Reason("centre_not_taken", f"{name}: {waiting.problem}") for name, waiting in self._centring.items()
        )

    def _frame_faults(self, frame: Frame, now: float) -> tuple[Reason, ...]:
        """Tell what is wrong with a frame as a whole: its link and its time."""
        faults: tuple[Reason, ...] = ()
        if not frame.link_good:
            faults += (Reason("link_bad", frame.note or "the source says that its link is not good"),)
        if not frame.time <= now + self.plan.period:
            faults += (Reason("frame_time", f"a frame says it came at {frame.time} s, but it is {now} s"),)
        elif self._good is not None and frame.time < self._good.time:
            back = f"a frame of {frame.time:.3f} s came after one of {self._good.time:.3f} s"
            faults += (Reason("time_backwards", back),)
        return faults

    def _link_faults(self, now: float) -> tuple[Reason, ...]:
        """Tell whether the last good frame is too old to drive by."""
        if self._held is None:
            return ()  # none has ever come: the guard says so itself
        timeout = self.plan.guard.link_timeout
        if self._good is None:
            return (Reason("link_quiet", "no good frame since the clock jumped"),)
        age = now - self._good.time
        # Written so that a NaN clock fails it too.
        if age <= timeout:
            return ()
        return (Reason("link_quiet", f"no good frame for {age:.2f} s (link_timeout {timeout:g} s)"),)

    def _tick(self, now: float, dt: float, new_frame: bool, status: GuardStatus, target: VelocityCommand) -> Tick:
        command = self._command
        return Tick(
            now,
            dt,
            self._frame,
            new_frame,
            self._raw,
            self._positions,
            self._shaped,
            self._intent,
            self._demand,
            status,
            target,
            command,
            self.plan.chassis.wheel_speeds(command),
        )


def _unbelievable(name: str, control: ControlPlan | Opposite, value: object, present: bool) -> Reason:
    """Say why a raw number cannot be used."""
    reads, (lowest, highest) = control.reads, control.believable
    if not present:
        return Reason("control_missing", f"the source sends no {reads}, which {name} reads")
    if not isinstance(value, (int, float)) or not math.isfinite(value):
        return Reason("value_not_finite", f"{reads} is {value}, which is not a number that a control can send")
    return Reason(
        "value_out_of_range",
        f"{reads} is {value:g}, but it can only send {lowest:g} to {highest:g}: "
        "is it the right device, and is its profile right?",
    )
