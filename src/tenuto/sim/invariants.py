"""What must hold at every tick, whatever happens: independent of how the pipeline and the guard are written.

Hand every tick of a drive to a `Watcher`; it says what is broken. The project's own tests do so with every tick::

    watcher = Watcher(profile.plan())
    assert watcher.see(tick) == []
"""

from __future__ import annotations

import math
from collections.abc import Iterator

from tenuto.core.demand import STANDSTILL
from tenuto.core.guard import State
from tenuto.core.plan import HELD_FROM, Plan, rest_bands
from tenuto.core.tick import Tick

# What rounding may add to a limit: m/s, rad/s.
_SLACK = 1e-6
_AXES = ("vx", "vy", "vz", "yaw_rate")


class Watcher:
    """Watches the ticks of one pipeline, in their order."""

    def __init__(self, plan: Plan) -> None:
        self._plan = plan
        self._bands = rest_bands(plan)
        self._before: Tick | None = None
        # Since the robot last stopped: hold-to-run was seen released, and then held with the sticks at rest.
        self._released = self._enabled = False
        self._heard: float | None = None
        self._held = False
        guard = plan.guard
        self._ramps = [max(max(mode.limits.axes[axis][:2]) for mode in plan.modes) for axis in range(4)]
        level = guard.stop_deceleration
        self._stops = (level, level, guard.stop_vertical_deceleration, guard.stop_turn_deceleration)

    def see(self, tick: Tick) -> list[str]:
        """Give what is broken at this tick, in words; nothing when all holds."""
        self._learn(tick)
        broken = [
            *self._finite(tick), *self._permitted(tick), *self._obeyed(tick), *self._limited(tick), *self._in_time(tick)
        ]  # fmt: skip
        self._before = tick
        return [f"at {tick.time:.3f} s: {what}" for what in broken]

    def _learn(self, tick: Tick) -> None:
        """Follow, from the ticks alone, whether a driver has enabled the robot since it last stopped."""
        before, driving = self._before, tick.guard.state is State.DRIVING
        if before is not None and not driving and (before.guard.state is State.DRIVING or before.command != STANDSTILL):
            self._released = self._enabled = False
        if tick.new_frame and self._believed(tick):
            self._heard = tick.time
        if self._heard is None:
            return
        # The newest positions that could be believed count until others come, as they do for the driver.
        hold = self._plan.guard.hold_to_run
        held = hold is None or tick.positions[hold] >= HELD_FROM
        style = next(mode.style for mode in self._plan.modes if mode.name == tick.chosen.mode)
        at_rest = all(abs(tick.positions[name]) <= self._bands[name] for name in style.controls())
        # What is switched on to enable is not followed here: it is pressed afresh after every stop, or it is not on.
        self._held = held
        self._released = self._released or not held or hold is None
        self._enabled = self._enabled or (self._released and held and at_rest)

    def _believed(self, tick: Tick) -> bool:
        """Tell whether a driver can stand behind the newest frame."""
        frame = tick.frame
        if frame is None or not frame.link_good or not frame.time <= tick.time + self._plan.period:
            return False
        for control in self._plan.controls:
            for reads, (low, high) in ((control.reads, control.believable), *_opposite(control.minus)):
                value = frame.values.get(reads, math.nan)
                if not (isinstance(value, (int, float)) and low <= value <= high):
                    return False
        return True

    def _finite(self, tick: Tick) -> Iterator[str]:
        stages = {
            "actuator": tick.actuators,
            "wire": tick.wire,
            "output": tick.outputs,
            "command": tick.command._asdict(),
        }
        # Nearly always all are: one sum tells.
        if math.isfinite(sum(sum(numbers.values()) for numbers in stages.values())):
            return
        for stage, numbers in stages.items():
            yield from (f"{stage} {name} is {value}" for name, value in numbers.items() if not math.isfinite(value))

    def _permitted(self, tick: Tick) -> Iterator[str]:
        """No motion without permission, no permission without a driver, and no stop without a reason."""
        driving = tick.guard.state is State.DRIVING
        if driving == bool(tick.guard.reasons):
            yield f"{tick.guard.state} with {len(tick.guard.reasons)} reasons"
        if driving and not self._enabled:
            yield "driving, though nobody has released, rested and pressed since the last stop"
        if driving:
            return
        yield from self._still(tick)

    def _still(self, tick: Tick) -> Iterator[str]:
        """What must hold while there is no permission."""
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
        for axis, old, new in zip(_AXES, before, tick.command, strict=True):
            if axis == "vz" and self._plan.guard.descend_speed > 0.0 and self._comes_down(old, new):
                continue
            if abs(new) > abs(old) + _SLACK or old * new < 0.0:
                yield f"{axis} goes from {old:.3f} to {new:.3f} without permission"
        for mode in self._plan.modes:
            for output in mode.outputs:
                if output.when_stopped == "idle" and tick.outputs[output.name] != output.idle:
                    yield f"output {output.name} is at {tick.outputs[output.name]:g} without permission"

    def _comes_down(self, old: float, new: float) -> bool:
        """Tell whether it sinks as the profile wants it when nobody is heard, or stops sinking."""
        return -self._plan.guard.descend_speed - _SLACK <= new <= max(old, 0.0) + _SLACK

    def _obeyed(self, tick: Tick) -> Iterator[str]:
        """What ends a permission ends it in the same tick: a hand that lets go, a bad frame, silence, a clock."""
        guard, before = self._plan.guard, self._before
        button = guard.emergency_stop
        pushed = button is not None and tick.positions[button] >= HELD_FROM
        emergency = tick.guard.state is State.EMERGENCY_STOP
        if pushed and not emergency:
            yield f"{button} is on, and it is {tick.guard.state}"
        left = before is not None and before.guard.state is State.EMERGENCY_STOP and not emergency
        if left and guard.reset is not None and not tick.chosen.switches.get(guard.reset):
            yield "it left the emergency stop without a reset"
        if tick.guard.state is not State.DRIVING:
            return
        if self._heard is not None and not self._held:
            yield "driving, though hold-to-run is released"
        if tick.new_frame and not self._believed(tick):
            yield "driving, though the newest frame is not to be believed"
        if self._heard is not None and tick.time - self._heard > guard.link_timeout + 2.0 * self._plan.period:
            yield f"driving, though nothing was heard for {tick.time - self._heard:.2f} s"
        if before is not None and not 0.0 < tick.time - before.time <= self._plan.stall_timeout + _SLACK:
            yield f"driving, though the clock went on by {tick.time - before.time:.3f} s"

    def _limited(self, tick: Tick) -> Iterator[str]:
        """No command beyond what the vehicle can do or the profile allows, and none that changes faster."""
        if not self._plan.chassis.fits(tick.command):
            yield f"the vehicle cannot do {tick.command}"
        driving = tick.guard.state is State.DRIVING
        before = self._before.command if self._before is not None else STANDSTILL
        for axis, (old, new) in enumerate(zip(before, tick.command, strict=True)):
            fastest = self._ramps[axis] if driving else self._stops[axis]
            halted = tick.command == STANDSTILL and (tick.dt == 0.0 or not tick.power or not tick.send)
            if abs(new - old) > fastest * tick.dt + _SLACK and not halted:
                yield f"{_AXES[axis]} changes by {abs(new - old):.4f} in {tick.dt:.3f} s, at most {fastest:g} a second"

    def _in_time(self, tick: Tick) -> Iterator[str]:
        """After the last good frame the robot stands within the time that the profile promises."""
        if self._heard is None or tick.command == STANDSTILL or tick.time < self._heard:
            return
        guard = self._plan.guard
        promise = (
            guard.link_timeout + guard.descend_for + longest_stop(self._plan) + 2 * max(tick.dt, self._plan.period)
        )
        silent = tick.time - self._heard
        if silent > promise + self._plan.stall_timeout:
            yield f"it still moves {silent:.2f} s after the last good frame; it was to stand within {promise:.2f} s"


def _opposite(minus: object) -> tuple[tuple[str, tuple[float, float]], ...]:
    return () if minus is None else ((minus.reads, minus.believable),)  # type: ignore[attr-defined]


def longest_stop(plan: Plan) -> float:
    """Give the longest that a stop of the guard takes from any speed of the profile, s."""
    guard = plan.guard
    return max(
        max(
            math.hypot(max(mode.speeds.forward, mode.speeds.backward), mode.speeds.sideways) / guard.stop_deceleration,
            mode.speeds.turn / guard.stop_turn_deceleration,
            max(mode.speeds.up, mode.speeds.down) / guard.stop_vertical_deceleration,
        )
        for mode in plan.modes
    )
