"""The stages in order: from a frame and the time to a tick. It has no side effects."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Mapping

from tenuto.basics.errors import PlanError
from tenuto.basics.frame import ROUNDING_TIME, Frame, real, timed
from tenuto.basics.reasons import Code, Condition, Reason
from tenuto.driving.actions import fire
from tenuto.driving.guard import Categories, Guard, GuardStatus, State
from tenuto.driving.inputs import Inputs
from tenuto.driving.limits import ramp_to_stop, within_speeds
from tenuto.driving.link_loss import LinkLoss
from tenuto.driving.modes import ModePlan
from tenuto.driving.needs import Needs
from tenuto.driving.one_way import OneWayClock
from tenuto.driving.plan import Plan, Planned
from tenuto.driving.ramps import CommandRamp
from tenuto.driving.ranks import Ranks
from tenuto.driving.stopping import stop_seconds
from tenuto.driving.telemetry import NO_FAR_ENDS, FarEnds
from tenuto.driving.tick import Hand, Tick
from tenuto.driving.valid import plan_errors
from tenuto.driving.vigilance import Attention, StartTest, StartWarning
from tenuto.driving.wording import wording
from tenuto.outputs.base import Output
from tenuto.styles.mixing import Intent
from tenuto.vehicles.actuators import Wire
from tenuto.vehicles.base import Arcs, Chassis, Sides
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

_NO_INTENT = Intent(0.0, 0.0, 0.0, 0.0)
_DRIVING = State.DRIVING  # read several times a tick
# The margin of a stop over the time of its ramp, s.
PATIENCE = 0.2
_STOPPED = (State.STOPPING, State.FAULT, State.EMERGENCY_STOP)
_NOBODY_ELSE: Mapping[str, Frame] = {}
_NOBODYS_HANDS: Mapping[str, Hand] = {}


class Pipeline:
    """Turns frames into ticks. It reads no clock and no device: `step` takes the frame and the time."""

    def __init__(self, profile: Planned) -> None:
        """Begin not enabled.

        Raises:
            PlanError: the plan has invalid numbers or unknown names.
            ProfileError: the profile's tables do not fit each other.
        """
        plan = profile.plan()
        wrong = plan_errors(plan)
        if wrong:
            raise PlanError(wrong)
        self.plan = plan
        self._ranks = Ranks(plan)
        first = self._ranks.first
        enables = plan.guard.hold_to_run or plan.guard.enable or ""
        guard = plan.guard
        categories = Categories(guard.released_category, guard.fault_category, guard.emergency_category)
        words = wording(
            enables,
            pressed_once=guard.hold_to_run is None,
            with_enable=guard.enable if guard.hold_to_run is not None else None,
            asked=next((one.asked() for one in plan.selection.switches if one.name == guard.enable), ""),
            stays=guard.enable_stays,
            keys=next((one.keys for one in plan.controls if one.name == guard.hold_to_run), None),
        )
        self._guard = Guard(words, first.bands, first.levers, categories=categories)
        self._ramp = CommandRamp(plan.chassis)
        self._couples, self._steers = plan.chassis.couples, isinstance(plan.chassis.ramp_way, Arcs)
        # On most vehicles all actuators follow the command at once.
        self._at_once = type(plan.chassis).actuators is Chassis.actuators
        self._ways = {
            mode.name: (within_speeds(mode.limits, mode.speeds), mode.style.way(mode.speeds)) for mode in plan.modes
        }
        self._outputs = {output.name: Output(output) for mode in plan.modes for output in mode.outputs}
        self._mode_of_outputs: ModePlan | None = None
        self._used: frozenset[str] = frozenset()
        self._output_levels: Mapping[str, float] = {name: output.level for name, output in self._outputs.items()}
        self._inputs = Inputs(plan)
        self._needs = Needs(guard.needs, enables)
        self._far = NO_FAR_ENDS
        self._needed = bool(guard.needs.wanted)
        self._lowers, self._together = self._inputs.lowers or self._needed, False
        attention = plan.guard.attention
        self._attention = Attention(attention) if attention < math.inf else None
        tests = plan.guard.test_at_start
        self._warning = StartWarning(guard.start_warning) if guard.start_warning > 0.0 else None
        self._start_test = StartTest(tests, plan.guard.emergency_stop) if tests else None
        # Most profiles have none of these, and this is checked at every tick.
        self._stop_or_inputs = guard.stop is not None or bool(plan.inputs) or self._needed
        self._bears = self._attention is not None or guard.grace > 0.0
        self._clock = OneWayClock(plan.period, plan.stall_timeout)
        # Requests from anywhere, also from another thread, that are not handled yet.
        self._emergencies: deque[Reason] = deque()
        self._reset = False
        self._link_loss = LinkLoss(guard)
        # The time limit of the present stop, s.
        self._stop_left: float | None = None
        self._demand = STANDSTILL
        self._command = STANDSTILL
        self._wire = Wire(plan.actuators) if plan.actuators else None
        self._actuators = plan.chassis.actuators(STANDSTILL)

    @property
    def trims(self) -> dict[str, float]:
        """The value of each trim as set by its buttons, which a profile may keep over restarts."""
        return {trim.plan.control: trim.set for trim in self._ranks.first.selection.trims}

    def emergency_stop(self, why: str) -> None:
        """Stop like the profile's emergency stop; it lasts until `reset`, followed by an enable.

        May be called from anywhere, at any time: a key, a message from the network, a watchdog.
        """
        self._emergencies.append(Reason(Code.EMERGENCY_STOP, f"emergency stop: {why}; reset it to go on"))

    def reset(self) -> None:
        """Permit a start after an emergency stop; it never causes a start. It counts at standstill only.

        An emergency stop requested in the same tick takes precedence, in either order.
        """
        self._reset = True

    def end(self, reason: str) -> None:
        """Request a final stop; the following steps ramp down to standstill."""
        self._guard.end(reason)

    def successor(self, plan: Plan) -> Pipeline:
        """Make the pipeline of another plan that follows this one: not enabled; an emergency stop continues."""
        new = Pipeline(plan)
        if not self._guard.memory.powered:
            new._guard.cut_power()
        if self._guard.state is State.EMERGENCY_STOP:
            text = "emergency stop: it was on when the profile changed; reset it to go on"
            new._emergencies.append(Reason(Code.EMERGENCY_STOP, text))
        new._emergencies.extend(self._emergencies)
        if self._start_test is not None and new._start_test is not None:
            new._start_test = self._start_test  # completed tests stay completed
        return new

    def halt(self, now: float) -> Tick:
        """Return a last tick with a standstill command, without a ramp. No step moves the robot after it."""
        self.end("the drive has ended")
        self._command = STANDSTILL
        ranks = self._ranks
        status = self._guard.step(ranks.held, ranks.current.away, (), standing=True)
        if self._outputs:
            self._set_outputs(False)
        return self._tick(now, 0.0, False, status, STANDSTILL, (), ())

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
        """Take a frame, or None if there is none, and return the tick for this time.

        Never raises for a fault of a device or a clock: it becomes a reason and a stop.

        Args:
            frame: the newest frame since the step before, of the first in rank.
            now: seconds on a clock that should only go forward; back is a fault.
            others: the newest frame of every other driver and distance sensor that something came from, by name.
            faults: faults outside the pipeline, such as a blocked sink.
            notices: other notices from outside the pipeline.
            far: the newest telemetry of each far end, by name; empty if none answers.
        """
        given = now if type(now) is float else real(now)
        dt, clock_faults = self._clock.step(given)
        shown, all_shown, said, now = frame, others, far, self._clock.now
        # Most frames are single and have a valid time: this is checked without a call.
        usual = frame is None or (type(frame.time) is float and 0.0 <= frame.time <= given and not frame.earlier)
        if others or not usual or self._clock.ahead:
            shown, all_shown, frame, others, far = self._timed(frame, others, far)
        ranks, plan = self._ranks, self.plan
        ranks.first.hear(frame, now, shown)
        hand = ranks.first
        faults = clock_faults + faults
        if plan.below:
            ranks.hear(others, now, all_shown)
            ranks.choose(self._guard.memory.state)
            hand = ranks.hand
            faults += ranks.faults
        else:
            faults += hand.faults
        if self._stop_or_inputs or far:
            faults += self._stopped(frame, others, far, now)
            self._far = said
        if self._bears:
            faults, told = self._bear(faults, now, dt)
            notices += told
        status = self._permission(faults, now, dt)
        driving = status.state is _DRIVING
        self._demand = ranks.demand if plan.below else hand.demand
        if self._lowers:
            notices += self._lower(now)
        before = self._command
        target = self._move(driving, now, dt)
        if self._inputs.watches:
            notices += self._watch(before, driving, now, dt)
        actions: tuple[str, ...] = ()
        notices += ranks.notices + self._needs.told + self._guard.last_stop
        if self._outputs:
            notices += self._set_outputs(driving and not ranks.changed)
        if plan.actions and hand.fresh and hand.touched:
            actions, refused = fire(plan.actions, hand.pressed, driving)
            notices += refused
        if driving and (target != self._demand or hand.meaning_changed):
            notices += self._remarks(target)
        return self._tick(given, dt, hand.came, status, target, actions, notices)

    def _timed(
        self, frame: Frame | None, others: Mapping[str, Frame], far: FarEnds
    ) -> tuple[Frame | None, Mapping[str, Frame], Frame | None, Mapping[str, Frame], FarEnds]:
        """Return frames with times, as a tick shows them, and then all of it on the clock that only goes forward."""
        clock = self._clock
        frame = timed(frame) if frame is not None else None
        others = {name: timed(one) for name, one in others.items()}
        if not clock.ahead:
            return frame, others, frame, others, far
        return frame, others, clock.frame(frame), clock.frames(others), clock.far(far)

    def _stopped(
        self, frame: Frame | None, others: Mapping[str, Frame], far: FarEnds, now: float
    ) -> tuple[Reason, ...]:
        """Read inputs and far ends, and list the reasons to stop: the stop switch, and theirs."""
        inputs, memory = self._inputs, self._guard.memory
        inputs.hear(frame, others)
        needed = self._needs.step(far, memory.state, now)
        return self._stop_switch() + inputs.faults(now, memory.powered) + needed

    def _stop_switch(self) -> tuple[Reason, ...]:
        stop = self.plan.guard.stop
        if not self._ranks.on(stop):
            return ()
        on, was = f"{stop} is on: nothing moves while it is on", f"{stop} was on, which is a stop"
        return (Condition(Code.STOP_SWITCH, on, was),)

    def _bear(self, faults: tuple[Reason, ...], now: float, dt: float) -> tuple[tuple[Reason, ...], tuple[Reason, ...]]:
        """Add missing attention, or apply the grace time to a link loss; return the faults and the notices."""
        if self._attention is not None:
            hand, driving = self._ranks.hand, self._guard.state is _DRIVING and self._ranks.current is self._ranks.hand
            asleep, told = self._attention.step(driving, hand.reader.positions, now)
            if asleep is not None or told is not None:
                return faults + ((asleep,) if asleep is not None else ()), (told,) if told is not None else ()
        # A driver who is needed from now on may have been silent for long: then the robot is not handed over.
        bears = self.plan.guard.grace > 0.0 and not self._ranks.changed
        return self._link_loss.bear(faults, self._guard.state, now, dt) if bears else (faults, ())

    def _permission(self, faults: tuple[Reason, ...], now: float, dt: float) -> GuardStatus:
        """Step the guard with its inputs."""
        settings, ranks, guard = self.plan.guard, self._ranks, self._guard
        before = guard.memory.state
        if settings.on_link_loss != "stop":
            good = ranks.hand.reader.good
            heard = good.time if good is not None else None
            if heard is not None and any(fault.code == Code.FAR_END_SILENT for fault in faults):
                heard = min(heard, now - settings.unnoticed)  # it was detected just now
            self._link_loss.step(faults, before, heard)
        emergency = self._emergency() if self._emergencies or settings.emergency_stop is not None else None
        if not faults and emergency is None and self._start_test is None and not ranks.changed:
            drives_on = guard.drives_on(ranks.held)
            if drives_on is not None:
                self._reset = False
                return drives_on
        status = self._ask(faults, emergency, now, dt)
        if status.state is _DRIVING:
            return status
        stopped = status.state in _STOPPED
        if stopped:
            ranks.disable()
        if stopped and (status.state is not before or status.state is not State.FAULT):
            ranks.forget_releases()  # a release during a stop does not count: the robot must stand first
        return status

    def _ask(self, faults: tuple[Reason, ...], emergency: Reason | None, now: float, dt: float) -> GuardStatus:
        """Step the guard at a tick with possible events."""
        settings, ranks, guard = self.plan.guard, self._ranks, self._guard
        before, sinks = guard.memory.state, self._link_loss.sinks(now)
        standing = self._command == STANDSTILL and not sinks
        reset = self._reset or (settings.reset is not None and ranks.pressed(settings.reset))
        self._reset = False
        if ranks.changed:
            guard.set_driver(ranks.hand.bands, ranks.hand.levers, released=ranks.released)
        # It does not end a drive, so it is not needed while driving.
        missing = () if before is _DRIVING else ranks.hand.missing(now) + ranks.above + self._needs.missing()
        if self._start_test is not None:
            missing += self._start_test.step(before, faults)
        category = self._inputs.category(faults, settings.fault_category)
        overdue = None if before is _DRIVING else self._overdue(standing or sinks, dt)
        if overdue is not None:
            faults, category = (*faults, overdue), 0
        warning = self._warning.step(before, now) if self._warning is not None else None
        why = ranks.why_not_held() if self.plan.below and before is _DRIVING else None
        status = guard.step(
            ranks.held, ranks.current.away, faults, standing, missing, emergency, reset, category, warning, why
        )
        if missing and status.state is State.NOT_ENABLED:
            ranks.disable()  # a press while a condition is missing must not enable later
        return status

    def _emergency(self) -> Reason | None:
        """Explain the emergency stop of this tick: a control is on, or it was requested."""
        settings, ranks = self.plan.guard, self._ranks
        emergency: Reason | None = None
        while self._emergencies:
            emergency = self._emergencies.popleft()
        button = settings.emergency_stop
        if button is None or not (ranks.on(button) or ranks.on(settings.emergency_stop_2)):
            return emergency
        on = f"emergency stop: {button} is on; release it, then reset it"
        return Condition(Code.EMERGENCY_STOP, on, f"emergency stop: {button} was pressed; reset it to go on")

    def _overdue(self, done: bool, dt: float) -> Reason | None:
        """Return the fault that a stop takes too long: whatever delays it, the power is removed then.

        Args:
            done: the command is standstill. dt: of this tick, s.
        """
        if done:
            self._stop_left = None
            return None
        if self._stop_left is None:
            self._stop_left = stop_seconds(self._command, self.plan.guard) + 2.0 * self.plan.period + PATIENCE
        self._stop_left -= dt
        if self._stop_left >= -ROUNDING_TIME:
            return None
        return Reason(Code.STOP_OVERDUE, "the stop took too long: the power is off until you enable again")

    def _lower(self, now: float) -> tuple[Reason, ...]:
        """Reduce the demand to the limits of the inputs, with the reasons."""
        self._demand, why = self._inputs.lower(self._demand, now)
        self._demand, beyond = self._needs.lower(self._demand)
        if self._inputs.tightens or beyond:
            self._ramp.rest()  # an S-curve would still accelerate for a moment
        # While each side slows down by itself, the middle between them may become faster.
        self._together = bool(why or beyond)
        return why + beyond

    def _watch(self, before: VelocityCommand, driving: bool, now: float, dt: float) -> tuple[Reason, ...]:
        """Brake if the new command could no longer be stopped in time, with the reason; record the command."""
        why: tuple[Reason, ...] = ()
        if driving:
            self._command, why = self._inputs.brake(before, self._command, now, dt)
            if why:
                self._ramp.rest()
        self._inputs.sent(self._command, now)
        return why

    def _move(self, driving: bool, now: float, dt: float) -> VelocityCommand:
        """Ramp the command towards its target, and return it."""
        if driving:
            hand = self._ranks.hand
            mode = hand.mode
            target, _ = self.plan.chassis.within_reach(self._demand)
            if self.plan.priority != "arc" and target != self._demand:
                target = self.plan.within_reach(self._demand)
            if self._couples:
                # A vehicle with coupled axes may be faster along one axis than demanded, but not than permitted.
                target = mode.speeds.capped(target, self._ranks.share * self._inputs.left)
            aim = None
            if self._steers and target == STANDSTILL and self._ranks.current is hand and not hand.meaning_changed:
                aim = mode.style.aim(hand.intent, hand.selection.setting)
            limits, way = self._ways[mode.name]
            way = "straight" if self._together and isinstance(way, Sides) else way
            self._command = self._ramp.step(self._command, target, dt, limits, way, aim, self._actuators)
            return target
        if self._guard.state is State.STOPPING and self._link_loss.sinks(now):
            self._ramp.rest()
            self._command = self._link_loss.descend(self._command, dt)
            return STANDSTILL
        # An emergency stop is sent even while nothing is to be sent; it ramps if its category says so.
        silent = self._link_loss.silent and self._guard.state is not State.EMERGENCY_STOP
        if silent or (self._command != STANDSTILL and self._guard.category == 0):
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

    def _set_outputs(self, driving: bool) -> tuple[Reason, ...]:
        """Let the outputs follow their switches if permitted, and report those that wait for a new move."""
        hand = self._ranks.hand
        powered = self._guard.memory.powered and self._guard.state is not State.EMERGENCY_STOP
        mode = hand.mode
        levels: dict[str, float] = {}
        waiting: tuple[Reason, ...] = ()
        if mode is not self._mode_of_outputs:
            self._mode_of_outputs = mode
            self._used = frozenset(output.name for output in mode.outputs)
            for used in mode.outputs:
                self._outputs[used.name].take(used)
        switches, shaped = hand.selection.switches, hand.shaped
        warning = self._warning is not None and self._guard.state is State.WAITING_FOR_REST
        for name, output in self._outputs.items():
            levels[name] = output.step(driving and name in self._used, switches, shaped, powered, warning)
            if output.waits:
                text = f"{name} waits: its switch was on before you drove; switch it off and on"
                waiting += (Reason(Code.OUTPUT_WAITS, text),)
        self._output_levels = levels
        return waiting

    def _remarks(self, target: VelocityCommand) -> tuple[Reason, ...]:
        """Return the motions that the vehicle cannot make at any speed, and the sticks to release.

        A motion that is only too fast does not count.
        """
        hand = self._ranks.hand
        told: tuple[Reason, ...] = ()
        parts = self.plan.chassis.cannot(self._demand) if target != self._demand else ()
        if parts:
            told += (Reason(Code.CANNOT_DO, f"this vehicle cannot do this: {', '.join(parts)}"),)
        if hand.meaning_changed and self._ranks.current is hand:
            text = f"mode {hand.mode.name}: the sticks have a new meaning; release {', '.join(hand.away)}"
            told += (Reason(Code.MODE_THROUGH_REST, text),)
        return told

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
        command, ranks, plan = self._command, self._ranks, self.plan
        hand = ranks.hand
        raw, positions, shaped, chosen = ranks.shown()
        power, own = self._guard.memory.powered, ranks.current is hand
        if self._at_once:
            self._actuators = plan.chassis.inverse(*command)
        else:
            aim = self._ramp.aim(target) if command == STANDSTILL else None
            self._actuators = plan.chassis.actuators(command, self._actuators, dt, aim)
        values = (
            now,
            dt,
            hand.frame,
            new_frame,
            raw,
            positions,
            shaped,
            hand.intent if own else _NO_INTENT,
            self._demand,
            status,
            target,
            command,
            self._actuators,
            chosen,
            self._output_levels,
            actions,
            notices,
            self._wire.step(self._actuators, power, self._output_levels) if self._wire is not None else {},
            power,
            plan.guard.command_timeout,
            not self._link_loss.silent or status.state is State.EMERGENCY_STOP,
            ranks.current.name,
            ranks.say() if plan.below else _NOBODYS_HANDS,
            self._far,
        )
        return tuple.__new__(Tick, values)  # the same as Tick(*values), but faster
