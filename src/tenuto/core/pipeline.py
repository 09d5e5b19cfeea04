"""The stages in their order: a frame and the time go in, a tick comes out. Nothing else is touched."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Protocol

from tenuto.core.actuators import ActuatorPlan, Wire
from tenuto.core.chassis.base import Chassis
from tenuto.core.control import ControlPlan, Shaper, StickPlan
from tenuto.core.demand import STANDSTILL, Speeds, VelocityCommand
from tenuto.core.frame import Frame
from tenuto.core.guard import LINK_CODES, Guard, GuardSettings, GuardStatus, Reason, State
from tenuto.core.limits import Limits, Ramp, approach, ramp_to_stop
from tenuto.core.mixing import Intent
from tenuto.core.modes import ModePlan
from tenuto.core.outputs import ActionPlan, Output, fire
from tenuto.core.reading import Reader
from tenuto.core.selection import NOTHING_TO_CHOOSE, Selection, SelectionPlan
from tenuto.core.styles import Style
from tenuto.core.tick import Tick

# A stick with a narrower dead zone than this still counts as at rest within it, as a share of its travel.
REST_BAND = 0.03
# How far a control that rests at its end must be pressed to count as held, as a share of its travel.
HELD_FROM = 0.5


@dataclass(frozen=True, slots=True)
class Plan:
    """Everything that the stages need to know, checked and in SI units.

    Attributes:
        controls: all controls that are read, the one of ``guard.hold_to_run`` among them.
        modes: one or more; exactly one is to fall back to, and is the one to begin with.
        period: seconds between two ticks as planned.
        stall_timeout: seconds between two ticks after which the loop counts as stalled.
        sticks: the controls that are axes of one stick and share a dead zone or a travel.
        selection: switches, and what they choose. actions: what is done once a press.
        actuators: in which form each actuator is told what to do; empty where that is left to the sink.
    """

    controls: tuple[ControlPlan, ...]
    modes: tuple[ModePlan, ...]
    guard: GuardSettings
    chassis: Chassis
    period: float
    stall_timeout: float
    sticks: tuple[StickPlan, ...] = ()
    selection: SelectionPlan = NOTHING_TO_CHOOSE
    actions: tuple[ActionPlan, ...] = ()
    actuators: tuple[ActuatorPlan, ...] = ()

    def plan(self) -> Plan:
        """Give itself, so that a `Pipeline` takes a plan made in code as well as a profile."""
        return self

    @property
    def mode(self) -> ModePlan:
        """The mode to begin with, and to fall back to."""
        return next(mode for mode in self.modes if mode.fallback)

    @property
    def style(self) -> Style:
        """The style of the mode to begin with."""
        return self.mode.style

    @property
    def speeds(self) -> Speeds:
        """The speeds of the mode to begin with."""
        return self.mode.speeds

    @property
    def limits(self) -> Limits:
        """The limits of the mode to begin with."""
        return self.mode.limits

    def driving_controls(self) -> tuple[str, ...]:
        """Name the controls that drive in any mode."""
        return tuple(dict.fromkeys(name for mode in self.modes for name in mode.style.controls()))


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
        self._reader = Reader(plan.controls, plan.period, plan.guard.frozen_after)
        self._shaper = Shaper(plan.controls, plan.sticks)
        self._selection = Selection(plan.selection, plan.modes)
        self._mode = self._selection.mode
        bands = rest_bands(plan)
        self._rest_bands = {
            mode.name: tuple((name, bands[name]) for name in mode.style.controls()) for mode in plan.modes
        }
        levers = [control.name for control in plan.controls if control.one_way]
        enables = plan.guard.hold_to_run or plan.guard.enable or ""
        self._guard = Guard(enables, bands, levers, pressed_once=plan.guard.hold_to_run is None)
        self._ramp = Ramp()
        self._outputs = {output.name: Output(output) for mode in plan.modes for output in mode.outputs}
        self._output_levels: Mapping[str, float] = {name: output.level for name, output in self._outputs.items()}
        self._stop = plan.guard.stop
        self._now: float | None = None
        self._frame: Frame | None = None
        self._held: bool | None = None
        self._enabled = False  # by the switch of guard.enable, where there is one
        self._good_since: float | None = None
        self._emergency: Reason | None = None
        self._reset = False
        # What is to be done about a lost link, and until when; it ends as soon as somebody is heard again.
        self._descend_until = -math.inf
        self._silent = False
        self._away: dict[str, float] = {}
        # The sticks mean something else now, and have not been seen at rest since.
        self._meaning_changed = False
        self._shaped: Mapping[str, float] = self._reader.positions
        self._intent = Intent(0.0, 0.0, 0.0, 0.0)
        self._demand = STANDSTILL
        self._command = STANDSTILL
        self._wire = Wire(plan.actuators) if plan.actuators else None
        self._actuators = plan.chassis.actuators(STANDSTILL)

    @property
    def trims(self) -> dict[str, float]:
        """What the trim buttons have made of each trim: what a profile may ask to be kept over restarts."""
        return {trim.plan.control: trim.set for trim in self._selection.trims}

    def emergency_stop(self, why: str) -> None:
        """Stop as the profile's emergency stop does; it holds until `reset`, and then needs a fresh enable.

        May be called from anywhere, at any time: a key, a message from the network, a watchdog.
        """
        self._emergency = Reason("emergency_stop", f"emergency stop: {why}; reset it to go on")

    def reset(self) -> None:
        """Permit a start after an emergency stop; it never causes one."""
        self._emergency = None
        self._reset = True

    def end(self, reason: str) -> None:
        """Ask for a stop that is never left again; the steps that follow ramp down to it."""
        self._guard.end(reason)

    def halt(self, now: float) -> Tick:
        """Give a last tick whose command is standstill, without a ramp. No step moves again after it."""
        self.end("the drive has ended")
        self._command = STANDSTILL
        status = self._guard.step(self._held, self._away, (), standing=True)
        if self._outputs:
            self._set_outputs(False)
        return self._tick(now, 0.0, False, status, STANDSTILL, (), ())

    def step(self, frame: Frame | None, now: float) -> Tick:
        """Take a frame, or None when nothing came, and give the tick for this moment.

        Never raises for what a device or a clock does: that becomes a reason and a stop.

        Args:
            frame: the newest frame since the step before.
            now: seconds on a clock that only goes forward.
        """
        dt, faults = self._elapsed(now)
        fresh = False
        if frame is not None:
            self._frame = frame
            before = self._reader.good
            bad = self._reader.take(frame, now)
            fresh = not bad
            if fresh:
                self._understand(frame.time - before.time if before is not None else 0.0, frame.time)
            faults += bad
        faults += self._link_faults(now)
        if self._stop is not None and self._reader.positions[self._stop] >= HELD_FROM:
            faults += (Reason("stop_switch", f"{self._stop} is on: it stops everything while it is"),)
        if faults:
            self._good_since = None
        status = self._permission(faults, now, fresh)
        driving = status.state is State.DRIVING
        target = self._move(driving, now, dt)
        actions: tuple[str, ...] = ()
        notices: tuple[Reason, ...] = ()
        if self._outputs:
            notices += self._set_outputs(driving)
        if fresh and self.plan.actions:
            actions, refused = fire(self.plan.actions, self._selection.switches, driving)
            notices += refused
        if driving and target != self._demand:
            notices += self._cannot()
        if self._meaning_changed and driving:
            notices += (self._through_rest(),)
        return self._tick(now, dt, frame is not None, status, target, actions, notices)

    def _permission(self, faults: tuple[Reason, ...], now: float, fresh: bool) -> GuardStatus:
        """Ask the guard, and tell it all that it has to know."""
        settings, switches = self.plan.guard, self._selection.switches
        button = settings.emergency_stop
        pushed = button is not None and self._reader.positions[button] >= HELD_FROM
        if fresh and settings.reset is not None and not pushed and switches[settings.reset].pressed:
            self.reset()
        emergency = self._emergency
        if pushed:
            emergency = Reason("emergency_stop", f"emergency stop: {button} is on; release it, then reset it")
        self._lose_link(faults, now)
        standing = self._command == STANDSTILL and not now < self._descend_until
        missing = self._missing(now)
        status = self._guard.step(self._held, self._away, faults, standing, missing, emergency, self._reset)
        self._reset = False
        if status.state in (State.STOPPING, State.FAULT, State.EMERGENCY_STOP):
            self._enabled = False
        return status

    def _missing(self, now: float) -> tuple[Reason, ...]:
        """List what must still be there before driving may begin, besides hold-to-run and sticks at rest."""
        missing = self._reader.missing()
        wanted = self.plan.guard.link_good_for
        if wanted > 0.0 and self._held is not None:
            good = now - self._good_since if self._good_since is not None else 0.0
            if good < wanted:
                missing += (
                    Reason("link_settling", f"the link has been good for {good:.2f} s, and {wanted:g} s are needed"),
                )
        if not self._mode.may_start:
            missing += (Reason("mode_may_not_start", f"mode {self._mode.name} may not be started in: choose another"),)
        return missing

    def _category(self) -> int:
        """Give the stop category (IEC 60204-1) of the stop that is under way, or was the last."""
        settings = self.plan.guard
        if self._guard.state is State.EMERGENCY_STOP:
            return settings.emergency_category
        return settings.fault_category if self._guard.broken else settings.released_category

    def _power(self) -> bool:
        """Tell whether the outputs may have power: not after a stop of category 0 or 1, until it is enabled again."""
        if self._guard.state in (State.DRIVING, State.WAITING_FOR_REST):
            return True
        category = self._category()
        return category == 2 or (category == 1 and self._command != STANDSTILL)

    def _lose_link(self, faults: tuple[Reason, ...], now: float) -> None:
        """Begin or end what the profile wants done while nobody is heard."""
        settings = self.plan.guard
        if settings.on_link_loss == "stop":
            return
        lost = any(fault.code in LINK_CODES for fault in faults)
        if lost and self._guard.state is State.DRIVING:
            self._silent = settings.on_link_loss == "silent"
            if settings.on_link_loss == "descend" and self._reader.good is not None:
                # Counted from when somebody was last heard: a computer that slept since then must not begin now.
                self._descend_until = self._reader.good.time + settings.link_timeout + settings.descend_for
        elif not lost:
            self._silent, self._descend_until = False, -math.inf

    def _descend(self, dt: float) -> None:
        """Come to a stop along the ground, and sink."""
        settings, (vx, vy, vz, yaw_rate) = self.plan.guard, self._command
        level = ramp_to_stop(
            VelocityCommand(vx, vy, 0.0, yaw_rate), dt, settings.stop_deceleration, settings.stop_turn_deceleration
        )
        sinking = approach(vz, -settings.descend_speed, settings.stop_vertical_deceleration * dt)
        self._command = level._replace(vz=sinking)

    def _move(self, driving: bool, now: float, dt: float) -> VelocityCommand:
        """Change the command towards where it may go, and give that."""
        if driving:
            chassis = self.plan.chassis
            target, _ = chassis.within_reach(self._demand)
            limits = self._mode.limits
            self._command = self._ramp.step(self._command, target, dt, limits, chassis.fits, chassis.ramp_way)
            return target
        if now < self._descend_until and self._guard.state is State.STOPPING:
            self._ramp.rest()
            self._descend(dt)
            return STANDSTILL
        if self._silent or (self._command != STANDSTILL and self._category() == 0):
            self._ramp.rest()
            self._command = STANDSTILL
        if self._command != STANDSTILL:
            guard = self.plan.guard
            self._ramp.rest()
            self._command = ramp_to_stop(
                self._command,
                dt,
                guard.stop_deceleration,
                guard.stop_turn_deceleration,
                guard.stop_vertical_deceleration,
            )
        return STANDSTILL

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
            self._reader.good = None
            back = f"the clock went from {before:.3f} s to {now:.3f} s: time must only go forward"
            return self.plan.period, (Reason("time_backwards", back),)
        if dt > self.plan.stall_timeout:
            stall = f"the loop stalled for {dt:.3f} s (stall_timeout {self.plan.stall_timeout:g} s)"
            return dt, (Reason("loop_stalled", stall),)
        return dt, ()

    def _understand(self, dt: float, time: float) -> None:
        """Make of the positions of a good frame what the driver wants; ``dt`` s after the good frame before."""
        positions, selection = self._reader.positions, self._selection
        selection.step(positions, time)
        mode = selection.mode
        if mode is not self._mode:
            if mode.style != self._mode.style and self.plan.selection.through_rest:
                self._meaning_changed = True
            self._mode = mode
        self._held = self._is_held(positions)
        if self._good_since is None:
            self._good_since = time
        self._away = {
            name: positions[name] for name, band in self._rest_bands[mode.name] if abs(positions[name]) > band
        }
        self._meaning_changed = self._meaning_changed and bool(self._away)
        shaped = self._shaper.step(positions, dt, selection.chosen.rates)
        for name, trim in selection.chosen.trims.items():
            shaped[name] = min(max(shaped[name] + trim, -1.0), 1.0)
        heading = self.plan.selection.heading
        if heading is not None:
            shaped[heading] = positions[heading]  # it is measured, not meant: no rates, no curve
        self._shaped = shaped
        self._intent = intent = mode.style.intent(shaped)
        self._demand = (
            STANDSTILL if self._meaning_changed
            else mode.style.demand(intent, mode.speeds, selection.setting, shaped)
        )  # fmt: skip

    def _is_held(self, positions: Mapping[str, float]) -> bool:
        """Tell whether a driver holds, or has switched on, all that must be held or on."""
        settings = self.plan.guard
        if settings.enable is not None and self._selection.switches[settings.enable].pressed:
            self._enabled = not self._enabled
        held = settings.hold_to_run is None or positions[settings.hold_to_run] >= HELD_FROM
        return held and (settings.enable is None or self._enabled)

    def _link_faults(self, now: float) -> tuple[Reason, ...]:
        """Tell whether the last good frame is too old to drive by."""
        if self._held is None:
            return ()  # none has ever come: the guard says so itself
        timeout, good = self.plan.guard.link_timeout, self._reader.good
        if good is None:
            return (Reason("link_quiet", "no good frame since the clock jumped"),)
        age = now - good.time
        # Written so that a NaN clock fails it too.
        if age <= timeout:
            signal, least = good.signal, self.plan.guard.least_quality
            if signal is None or signal.quality >= least:
                return ()
            weak = f"only {signal.quality:.0f} % of the radio's frames arrive (least_quality {least:g} %)"
            return (Reason("link_weak", weak),)
        return (Reason("link_quiet", f"no good frame for {age:.2f} s (link_timeout {timeout:g} s)"),)

    def _set_outputs(self, driving: bool) -> tuple[Reason, ...]:
        """Let the outputs follow their switches where that is permitted, and tell which wait for a fresh move."""
        used = {output.name: output for output in self._mode.outputs}
        for name, output in self._outputs.items():
            output.plan = used.get(name, output.plan)
            output.step(driving and name in used, self._selection.switches, self._shaped)
        self._output_levels = {name: output.level for name, output in self._outputs.items()}
        return tuple(
            Reason("output_waits", f"{name} waits: move its switch afresh, for it was on before you drove")
            for name, output in self._outputs.items()
            if output.waits
        )

    def _cannot(self) -> tuple[Reason, ...]:
        """Tell what the driver asks for and the vehicle cannot do, however slowly; what is only too fast is no such."""
        parts = self.plan.chassis.cannot(self._demand)
        return (Reason("cannot_do", f"this vehicle cannot do what is asked: {', '.join(parts)}"),) if parts else ()

    def _through_rest(self) -> Reason:
        names = ", ".join(self._away)
        return Reason("mode_through_rest", f"mode {self._mode.name}: the sticks mean something else, let go of {names}")

    def _tick(
        self,
        now: float,
        dt: float,
        new_frame: bool,
        status: GuardStatus,
        target: VelocityCommand,
        actions: tuple[str, ...],
        notices: tuple[Reason, ...],
    ) -> Tick:
        command, reader = self._command, self._reader
        aim, power = None, self._power()
        if command == STANDSTILL and status.state is State.DRIVING and not self._meaning_changed:
            aim = self._mode.style.aim(self._intent, self._selection.setting)
        self._actuators = self.plan.chassis.actuators(command, self._actuators, dt, aim)
        return Tick(
            now,
            dt,
            self._frame,
            new_frame,
            reader.raw,
            reader.positions,
            self._shaped,
            self._intent,
            self._demand,
            status,
            target,
            command,
            self._actuators,
            self._selection.chosen,
            self._output_levels,
            actions,
            notices,
            self._wire.step(self._actuators, power) if self._wire is not None else {},
            power,
            self.plan.guard.command_timeout,
            not self._silent,
        )


def rest_bands(plan: Plan) -> dict[str, float]:
    """Give, for each driving control, how far from its middle it may be and still count as at rest."""
    zones = {name: stick.dead_zone for stick in plan.sticks if stick.zone != "axes" for name in (stick.x, stick.y)}
    driving = plan.driving_controls()
    return {
        control.name: max(
            zones.get(control.name, control.dead_zone) if control.rest_band is None else control.rest_band, REST_BAND
        )
        for control in plan.controls
        if control.name in driving
    }
