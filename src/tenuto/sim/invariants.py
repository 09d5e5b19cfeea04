"""Invariants of every tick, whatever happens: independent of the code of the pipeline and the guard.

Pass every tick of a drive to a `Watcher`; it returns the broken invariants. The project's own tests do so::

    watcher = Watcher(profile.plan())
    assert watcher.see(tick) == []
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping

from tenuto.basics.frame import Frame, frames_in
from tenuto.driving.guard import State
from tenuto.driving.plan import HELD_FROM, DriverPlan, Plan, rest_bands
from tenuto.driving.stopping import worst_stop
from tenuto.driving.tick import Hand, Tick
from tenuto.vehicles.base import ROUNDING, Sides
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# Rounding at a limit: m/s, rad/s.
_SLACK = 1e-6
_AXES = ("vx", "vy", "vz", "yaw_rate")

_NAMED = ("raw", "positions", "shaped", "actuators", "outputs", "wire", "trims", "switches")


def _named(tick: Tick) -> tuple[Mapping[str, float], ...]:
    """Return what has names in a tick, in the order of ``_NAMED``."""
    chosen = tick.chosen
    return (
        tick.raw, tick.positions, tick.shaped, tick.actuators, tick.outputs, tick.wire, chosen.trims, chosen.switches
    )  # fmt: skip


class _Person:
    """The observed state of one driver.

    Attributes:
        timeout: s without a good frame after which the link counts as lost.
        heard: time of the newest frame that counts. unbelieved: the newest one does not.
        held: hold-to-run is held in the newest one that counts. at_rest: so are all sticks that drive in this mode.
        released, enabled: since the last stop, hold-to-run was seen released, then held with sticks at rest.
    """

    def __init__(self, plan: Plan, lower: DriverPlan | None) -> None:
        self.lower, self._plan = lower, plan
        controls = plan.controls if lower is None else lower.controls
        self.timeout = plan.guard.link_timeout if lower is None else lower.link_timeout
        bands = rest_bands(plan, controls)
        self._bands = {mode.name: [(name, bands[name]) for name in mode.style.controls()] for mode in plan.modes}
        self._controls = {control.name: control for control in controls}
        self._reads = [(control.reads, *control.believable) for control in controls]
        self._reads += [(one.minus.reads, *one.minus.believable) for one in controls if one.minus is not None]
        self._holds = [name for name in (plan.guard.hold_to_run, plan.guard.hold_to_run_2) if name is not None]
        self._frame: Frame | None = None
        self.heard: float | None = None
        self.link_good = True
        self.unbelieved = self.held = self.at_rest = self.released = self.enabled = False

    def see(self, hand: Hand, tick: Tick) -> None:
        """Take one tick."""
        new, self._frame = hand.frame is not self._frame, hand.frame
        self.unbelieved = False
        let_go = new and hand.frame is not None and any(map(self._lets_go, frames_in(hand.frame)[:-1]))
        if new and hand.frame is not None:
            self.link_good = hand.frame.link_good
            self.unbelieved = not self._believed(hand.frame, tick.time)
            if not self.unbelieved and tick.time - hand.frame.time <= self.timeout + _SLACK:
                self.heard = tick.time
        if self.heard is None:
            return
        # The newest positions that counted remain until others come, as for the driver.
        holds, positions = self._holds, hand.positions
        self.held = all([positions[name] >= HELD_FROM for name in holds])
        if holds and positions[holds[0]] >= self._plan.guard.pressed_through:
            self.held = False
        self.at_rest = all([abs(positions[name]) <= band for name, band in self._bands[tick.chosen.mode]])
        # A switch that enables is not followed here: it is operated again after every stop, or is off.
        self.released = self.released or not self.held or not holds or let_go
        self.enabled = self.enabled or (self.released and self.held and self.at_rest)

    def _lets_go(self, frame: Frame) -> bool:
        """Return whether hold-to-run is off in a frame that counts."""
        if not self._believed(frame, frame.time):
            return False
        held = [self._controls[name] for name in self._holds]
        positions = [one.travel.position(float(frame.values[one.reads])) for one in held]
        return not all(HELD_FROM <= position < self._plan.guard.pressed_through for position in positions)

    def _believed(self, frame: Frame, now: float) -> bool:
        """Return whether a frame counts."""
        if not frame.link_good or not frame.time <= now + self._plan.period:
            return False
        values = frame.values
        for reads, low, high in self._reads:
            value = values.get(reads, math.nan)
            if not (isinstance(value, (int, float)) and low <= value <= high):
                return False
        return True

    def silent_at(self, now: float) -> float:
        """Return the time since the newest frame, s; 0 before the first one."""
        return now - self.heard if self.heard is not None else 0.0


class Watcher:
    """Watches the ticks of one pipeline, in their order."""

    def __init__(self, plan: Plan) -> None:
        self._plan = plan
        self._before: Tick | None = None
        self._longest: float | None = None
        self._people = {plan.driver: _Person(plan, None)}
        self._people |= {lower.name: _Person(plan, lower) for lower in plan.below if lower.controls}
        self._waits_since: float | None = None
        self._was_inside, self._answered_at, self._needs_any = False, -math.inf, bool(plan.guard.needs.wanted)
        self._outputs = [output for mode in plan.modes for output in mode.outputs]
        self._warning = {output.name for mode in plan.modes for output in mode.outputs if output.warns}
        self._lower = {lower.name: lower for lower in plan.below}
        guard = plan.guard
        # For each axis the limits of increasing and decreasing. Where each side has its own limits, the larger of both.
        sides = any(isinstance(mode.style.way(mode.speeds) or plan.chassis.ramp_way, Sides) for mode in plan.modes)
        both = [[max(mode.limits.axes[axis][way] for mode in plan.modes) for way in (0, 1)] for axis in range(4)]
        self._ramps = [[max(pair)] * 2 if sides else pair for pair in both]
        level = guard.stop_deceleration
        self._stops = (level, level, guard.stop_vertical_deceleration, guard.stop_turn_deceleration)

    def see(self, tick: Tick) -> list[str]:
        """Return what is broken at this tick, as text; nothing if all holds."""
        self._learn(tick)
        broken = [
            *self._finite(tick), *self._permitted(tick), *self._obeyed(tick), *self._limited(tick),
            *self._in_time(tick), *self._one_driver(tick), *self._warned(tick), *self._answered(tick),
            *self._same_names(tick),
        ]  # fmt: skip
        self._before = tick
        return [f"at {tick.time:.3f} s: {what}" for what in broken]

    def _learn(self, tick: Tick) -> None:
        """Follow, from the ticks alone, who has enabled the robot since its last stop."""
        before, driving = self._before, tick.guard.state is State.DRIVING
        stopped = before is not None and (before.guard.state is State.DRIVING or before.command != STANDSTILL)
        for name, person in self._people.items():
            if stopped and not driving:
                person.released = person.enabled = False
            person.see(tick.hands.get(name) or _only_hand(tick), tick)

    def _same_names(self, tick: Tick) -> Iterator[str]:
        """Every tick has the same controls, switches and outputs, whoever drives: a log has one heading."""
        before = self._before
        if before is not None:
            for what, was, now in zip(_NAMED, _named(before), _named(tick), strict=True):
                if was is not now and tuple(was) != tuple(now):
                    yield f"{what} are {', '.join(now)}; they were {', '.join(was)}"

    def _warned(self, tick: Tick) -> Iterator[str]:
        """The robot waits for the time of the start warning before it may move, and the outputs warn."""
        seconds, state = self._plan.guard.start_warning, tick.guard.state
        if not seconds:
            return
        waits = state is State.WAITING_FOR_REST
        began = self._waits_since is not None
        waited = tick.time - self._waits_since if self._waits_since is not None else 0.0
        begins = self._before is None or self._before.guard.state is not State.DRIVING
        if state is State.DRIVING and begins and waited < seconds - 1e-6:
            yield f"driving without a start warning of {seconds:g} s"
        self._waits_since = (self._waits_since if began else tick.time) if waits else None
        for name in self._warning:
            if waits and tick.outputs[name] != 1.0:
                yield f"{name} does not warn"

    def _needed(self, tick: Tick) -> list[_Person]:
        """List the drivers who must be heard, and hold, for the driving one to drive."""
        first, driver = self._people[self._plan.driver], self._people.get(tick.driver)
        if driver is None or driver is first:
            return [first]
        return [driver] if driver.lower is not None and driver.lower.alone else [first, driver]

    def _one_driver(self, tick: Tick) -> Iterator[str]:
        """Exactly one drives; nobody below while a higher one moves a stick, and nobody without the robot given."""
        if not self._lower:
            return
        if tick.driver not in self._people and tick.driver not in self._lower:
            yield f'"{tick.driver}" drives, whom nobody knows'
        lower, person = self._lower.get(tick.driver), self._people.get(tick.driver)
        if tick.guard.state is not State.DRIVING:
            return
        if person is not None and person.heard is None:
            yield f"{tick.driver} drives, who was never heard"
        if lower is not None:
            yield from self._below_first(tick, lower, person)

    def _below_first(self, tick: Tick, lower: DriverPlan, person: _Person | None) -> Iterator[str]:
        """What must hold while a driver of lower rank drives."""
        first, hand = self._people[self._plan.driver], tick.hands[self._plan.driver]
        if first.heard == tick.time and not first.unbelieved and not first.at_rest:
            yield f"{lower.name} drives, though the sticks of {self._plan.driver} are moved"
        if lower.permit is not None and hand.positions[lower.permit] < HELD_FROM:
            yield f"{lower.name} drives, though {lower.permit} is off"
        before = self._before
        if before is None or before.driver == tick.driver or lower.alone:
            return
        if not hand.fresh:
            yield f"{lower.name} drives, though {self._plan.driver} has done nothing to give it"
        if person is not None and not person.at_rest:
            yield f"{lower.name} was given the robot with sticks that are moved"

    def _finite(self, tick: Tick) -> Iterator[str]:
        # Nearly always all of them are met: one sum shows it.
        actuators, wire, outputs = tick.actuators, tick.wire, tick.outputs
        if math.isfinite(sum(actuators.values()) + sum(wire.values()) + sum(outputs.values()) + sum(tick.command)):
            return
        stages = {"actuator": actuators, "wire": wire, "output": outputs, "command": tick.command._asdict()}
        for stage, numbers in stages.items():
            yield from (f"{stage} {name} is {value}" for name, value in numbers.items() if not math.isfinite(value))

    def _permitted(self, tick: Tick) -> Iterator[str]:
        """No motion without permission, no permission without a driver, and no stop without a reason."""
        driving = tick.guard.state is State.DRIVING
        if driving == bool(tick.guard.reasons):
            yield f"{tick.guard.state} with {len(tick.guard.reasons)} reasons"
        if driving and not any(person.enabled for person in self._people.values()):
            yield "driving, though nobody has released, rested and pressed since the last stop"
        if driving:
            return
        without = self._before is not None and not self._before.power
        if tick.power and without and tick.guard.state is not State.WAITING_FOR_REST:
            yield f"the power comes back while {tick.guard.state}"
        yield from self._still(tick)

    def _still(self, tick: Tick) -> Iterator[str]:
        """What must hold without permission."""
        if tick.target != STANDSTILL:
            yield "it heads for a speed without permission"
        ramps = tick.guard.state is State.STOPPING or (
            tick.guard.state is State.EMERGENCY_STOP and self._plan.guard.emergency_category == 1
        )
        if tick.command != STANDSTILL and not ramps:
            yield f"it moves while {tick.guard.state}"
        if tick.guard.state is State.EMERGENCY_STOP and self._plan.guard.emergency_category == 0 and tick.power:
            yield "the emergency stop leaves the power on"
        before = self._before.command if self._before is not None else STANDSTILL
        for axis, old, new in zip(_AXES, before, tick.command, strict=True) if before != tick.command else ():
            if axis == "vz" and self._plan.guard.descend_speed > 0.0 and self._comes_down(old, new):
                continue
            if abs(new) > abs(old) + _SLACK or old * new < 0.0:
                yield f"{axis} goes from {old:.3f} to {new:.3f} without permission"
        off = not tick.power or tick.guard.state is State.EMERGENCY_STOP
        for output in self._outputs:
            rests = output.when_stopped == "idle" or (output.when_stopped == "keep" and off)
            rests = rests and not (output.warns and tick.guard.state is State.WAITING_FOR_REST)
            if rests and tick.outputs[output.name] != output.idle:
                yield f"output {output.name} is at {tick.outputs[output.name]:g} without permission"

    def _comes_down(self, old: float, new: float) -> bool:
        """Return whether it descends as the profile requires when nobody is heard, or stops descending."""
        return -self._plan.guard.descend_speed - _SLACK <= new <= max(old, 0.0) + _SLACK

    def _obeyed(self, tick: Tick) -> Iterator[str]:
        """The end of a permission takes effect in the same tick: a release, a bad frame, silence, a clock."""
        guard, before = self._plan.guard, self._before
        yield from self._emergency(tick)
        if tick.guard.state is not State.DRIVING:
            return
        for person in self._needed(tick):
            if person.heard is not None and not person.held:
                yield "driving, though hold-to-run is released"
            if person.unbelieved and not (guard.grace and not person.link_good):
                yield "driving, though the newest frame is not to be believed"
            if (silent := person.silent_at(tick.time)) > person.timeout + guard.grace + 2.0 * self._plan.period:
                yield f"driving, though nothing was heard for {silent:.2f} s"
        if before is not None and not 0.0 < tick.time - before.time <= self._plan.stall_timeout + _SLACK:
            yield f"driving, though the clock went on by {tick.time - before.time:.3f} s"

    def _emergency(self, tick: Tick) -> Iterator[str]:
        """The emergency stop takes effect at once, and only a reset at standstill ends it."""
        guard, before = self._plan.guard, self._before
        emergency = tick.guard.state is State.EMERGENCY_STOP
        for button in (guard.emergency_stop, guard.emergency_stop_2) if not emergency else ():
            hands = tick.hands.values() or [_only_hand(tick)]
            if button is not None and any(hand.positions[button] >= HELD_FROM for hand in hands):
                yield f"{button} is on, and it is {tick.guard.state}"
        left = before is not None and before.guard.state is State.EMERGENCY_STOP and not emergency
        if left and guard.reset is not None and not tick.hands and not self._was_reset(tick):
            yield "it left the emergency stop without a reset"
        if left and before is not None and before.command != STANDSTILL:
            yield "it left the emergency stop before it stood"

    def _was_reset(self, tick: Tick) -> bool:
        """Return whether the reset is on, or was on in a frame between two ticks."""
        if tick.chosen.switches.get(self._plan.guard.reset or ""):
            return True
        reads = next((one.reads for one in self._plan.selection.switches if one.name == self._plan.guard.reset), "")
        control = next((one for one in self._plan.controls if one.name == reads), None)
        frames = frames_in(tick.frame) if tick.frame is not None else ()
        raw = [frame.values.get(control.reads, math.nan) for frame in frames] if control is not None else []
        return control is not None and any(control.travel.position(one) >= HELD_FROM for one in raw if one == one)

    def _limited(self, tick: Tick) -> Iterator[str]:
        """No command beyond the limits of the vehicle or the profile, and none that changes faster."""
        if self._before is not None and tick.command == self._before.command:
            return
        # A command that is within the limits up to rounding, and is rounded once more, is within them.
        fits = self._plan.chassis.fits
        # One that is slower than any motor turns may have lost an axis to rounding, which it needed.
        still = max(map(abs, tick.command)) < _SLACK
        if not still and not fits(tick.command) and not fits(_less(tick.command)):
            yield f"the vehicle cannot do {tick.command}"
        driving = tick.guard.state is State.DRIVING
        before = self._before.command if self._before is not None else STANDSTILL
        halted = tick.command == STANDSTILL and (tick.dt == 0.0 or not tick.power or not tick.send)
        if halted or before == tick.command:
            return
        for axis, (old, new) in enumerate(zip(before, tick.command, strict=True)):
            grows, shrinks = self._ramps[axis]
            ramp = max(grows, shrinks) if old * new < 0.0 else grows if abs(new) > abs(old) else shrinks
            fastest = ramp if driving else self._stops[axis]
            if abs(new - old) > fastest * (tick.dt + _SLACK) + _SLACK:
                yield f"{_AXES[axis]} changes by {abs(new - old):.4f} in {tick.dt:.3f} s, at most {fastest:g} a second"

    def _answered(self, tick: Tick) -> Iterator[str]:
        """While it is driven, every far end answers as required; one that crosses a bound stops it."""
        needs, before = self._plan.guard.needs, self._before
        for one in tick.far.values():
            if self._answered_at < one.time <= tick.time:
                self._answered_at = one.time
        if not self._needs_any or tick.guard.state is not State.DRIVING:
            self._was_inside = False
            return
        borne = needs.answers + self._plan.guard.grace + 2.0 * max(tick.dt, self._plan.period)
        if not tick.far and tick.time - self._answered_at > borne:
            yield "driving, and no far end answers"
        inside = True
        for name, one in tick.far.items():
            if tick.time - one.time > borne:
                yield f"driving, and {name} has said nothing for {tick.time - one.time:.2f} s"
            unfit = (
                (needs.armed and one.armed is not True) or (bool(needs.modes) and one.mode not in needs.modes)
                or (needs.position and math.isnan(one.x + one.y)) or not (one.charge >= needs.charge_above
                or needs.charge_above == -math.inf) or not (one.voltage >= needs.voltage_above
                or needs.voltage_above == -math.inf)
            )  # fmt: skip
            if unfit:
                yield f"driving, and {name} is not as it must be: {one.in_words(tick.time)}"
            low = one.height <= needs.height_below or needs.height_below == math.inf
            near = math.hypot(one.x, one.y) <= needs.within or needs.within == math.inf
            inside = inside and low and near
        if self._was_inside and not inside and before is not None and before.guard.state is State.DRIVING:
            yield "driving on beyond a bound"
        self._was_inside = inside

    def _stop_takes(self) -> float:
        """Return the longest duration of a stop, s; computed when it is first needed."""
        if self._longest is None:
            self._longest = worst_stop(self._plan).seconds
        return self._longest

    def _in_time(self, tick: Tick) -> Iterator[str]:
        """After the last good frame the robot stands within the time that the profile promises."""
        if tick.command == STANDSTILL:
            return
        guard = self._plan.guard
        after = guard.grace + guard.descend_for + self._stop_takes() + 2 * max(tick.dt, self._plan.period)
        for person in self._needed(tick):
            silent, promise = person.silent_at(tick.time), person.timeout + after
            if silent > promise + self._plan.stall_timeout:
                yield f"it still moves {silent:.2f} s after the last good frame; it was to stand within {promise:.2f} s"


def _only_hand(tick: Tick) -> Hand:
    """Return the state of the only driver."""
    return Hand(tick.frame, tick.new_frame, tick.positions, None)


def _less(command: VelocityCommand) -> VelocityCommand:
    """Return a command reduced by the rounding at a limit."""
    return VelocityCommand(*(axis * (1.0 - ROUNDING) for axis in command))
