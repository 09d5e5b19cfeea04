"""Last stage: from the value of an actuator to the number that is sent."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from tenuto.basics.number import Array, Value

_REV_MIN = 60.0 / math.tau
_DEG = 180.0 / math.pi
# One half, with room for rounding.
HALF = 0.501
# Two thresholds, so that it does not chatter: what moves goes on above the first, what stands starts above the second.
GOES_BELOW, COMES_ABOVE = 0.25, 0.5
_NOTHING: Mapping[str, float] = {}


@dataclass(frozen=True, slots=True, kw_only=True)
class ActuatorPlan:
    """The form of one actuator.

    Attributes:
        name: of the actuator, as the chassis has it; of an axle, or of an output.
        of: the wheels that one servo turns together; empty for a single actuator.
        level: it is an output: its number follows its level, with or without power.
        idle: the level of an output in a mode that does not set it.
        form: "rad/s" or "rev/min" (of the motor, with ``gear_ratio``), "deg", "share" (−1…1 of ``full``), "duty" (a
            share as a whole number of ``bits``, with a direction), "pulse" (µs), "contacts" (one for each direction).
        full: the value of the chassis for the share 1; rad/s, rad, N or 1.
        reverse: the wiring or the gears reverse it.
        gear_ratio: turns of the motor for one of the wheel.
        smallest: the share that just overcomes static friction; a smaller one is raised to it or dropped.
        bits: of the duty. at_zero: "brake" or "coast", the H-bridge at zero.
        low_us, middle_us, high_us: the pulses at the shares −1, 0 and 1. sub_trim_us: added to all.
    """

    name: str
    of: tuple[str, ...] = ()
    level: bool = False
    idle: float = 0.0
    form: str = "share"
    full: float = 1.0
    reverse: bool = False
    gear_ratio: float = 1.0
    smallest: float = 0.0
    bits: int = 8
    at_zero: str = "coast"
    low_us: float = 1000.0
    middle_us: float = 1500.0
    high_us: float = 2000.0
    sub_trim_us: float = 0.0

    @property
    def outputs(self) -> tuple[str, ...]:
        """The names of the numbers that are sent for it."""
        if self.form == "duty":
            return (f"{self.name}.duty", f"{self.name}.direction", f"{self.name}.brake")
        if self.form == "contacts":
            return (f"{self.name}.ahead", f"{self.name}.back")
        return (f"{self.name}.{self.form.replace('/', '_per_')}",)


def overcome_friction(share: float, smallest: float, moving: bool) -> tuple[float, bool]:
    """Raise a share that is too small to move the motor to the smallest that does, or drop it.

    The motor starts at half the smallest useful share and stops at a quarter of it, so it neither creeps and
    hums, nor chatters.

    Args:
        share: −1…1. smallest: 0…1. moving: the earlier result.

    Returns:
        The share, and whether the motor moves.
    """
    size = abs(share)
    moving = size > smallest * (GOES_BELOW if moving else COMES_ABOVE)
    if not moving:
        return 0.0, False
    return math.copysign(max(size, smallest), share), True


def closed_contact(share: float, was: int) -> int:
    """Return which of two contacts is closed for a share: 1 forward, −1 backward, 0 neither.

    A contact closes above one half and opens below a quarter; both are open for a moment before the other closes.

    Args:
        share: −1…1. was: the earlier result.
    """
    wanted = 0 if abs(share) <= (GOES_BELOW if was else COMES_ABOVE) else 1 if share > 0.0 else -1
    return 0 if wanted * was < 0 else wanted


def rounded(value: Value) -> Value:
    """Round to whole numbers, halves away from zero: forward and backward are treated alike.

    A value within rounding of one half counts as one half: the result does not flicker, and is the same on any machine.
    """
    if isinstance(value, np.ndarray):
        return np.sign(value) * np.floor(np.abs(value) + HALF)
    return math.copysign(math.floor(abs(value) + HALF), value) if value else 0.0


def pulse(share: Value, plan: ActuatorPlan) -> Value:
    """Return the pulse in µs for a share: each half by itself, then the sub-trim, within the ends, rounded.

    Args:
        share: −1…1, one number or an array. plan: ``low_us`` may be above ``high_us`` for a reversed servo.
    """
    if isinstance(share, np.ndarray):
        whole: Array = np.where(share >= 0.0, plan.high_us - plan.middle_us, plan.middle_us - plan.low_us)
        low, high = sorted((plan.low_us, plan.high_us))
        return rounded(np.clip(plan.middle_us + share * whole + plan.sub_trim_us, low, high))
    half = plan.high_us - plan.middle_us if share >= 0.0 else plan.middle_us - plan.low_us
    low, high = sorted((plan.low_us, plan.high_us))
    return rounded(min(max(plan.middle_us + share * half + plan.sub_trim_us, low), high))


def middle_angle(first: float, second: float) -> float:
    """Return the angle of a virtual wheel midway between two that turn about one centre, rad (mean of cotangents).

    This one angle sets a linkage with Ackermann geometry (D. Wong, "Theory of Ground Vehicles", Wiley).
    """
    a, b = math.tan(first), math.tan(second)
    return math.atan(2.0 * a * b / (a + b)) if a + b else 0.0


class Wire:
    """Computes the numbers for all actuators and outputs, and remembers which motors move."""

    def __init__(self, plans: tuple[ActuatorPlan, ...]) -> None:
        self._plans = plans
        self._moving = dict.fromkeys((plan.name for plan in plans), False)
        self._closed = dict.fromkeys((plan.name for plan in plans), 0)

    def step(
        self, actuators: Mapping[str, float], power: bool = True, levels: Mapping[str, float] = _NOTHING
    ) -> dict[str, float]:
        """Return the numbers to send, name → number; whole ones if the form has only those.

        Without power those of actuators are 0: no speed, no duty and no brake, and no pulse at all. An output keeps
        its level: a gripper that holds without power holds.

        Args:
            actuators: the value of each. power: whether they may have power. levels: of the outputs.
        """
        found: dict[str, float] = {}
        for plan in self._plans:
            if not (power or plan.level):
                found |= dict.fromkeys(plan.outputs, 0.0)
                self._closed[plan.name] = 0
                continue
            if plan.of:
                value = middle_angle(*(actuators[name] for name in plan.of))
            else:
                value = levels.get(plan.name, plan.idle) if plan.level else actuators[plan.name]
            if plan.reverse:
                value = 0.0 - value
            if plan.form == "contacts":
                closed = self._closed[plan.name] = closed_contact(value / plan.full, self._closed[plan.name])
                found |= zip(plan.outputs, (float(closed > 0), float(closed < 0)), strict=True)
                continue
            if plan.smallest:
                share, self._moving[plan.name] = overcome_friction(
                    value / plan.full, plan.smallest, self._moving[plan.name]
                )
                value = share * plan.full
            _FORMS[plan.form](found, plan, value)
        return found


def _speed(found: dict[str, float], plan: ActuatorPlan, value: float) -> None:
    found[plan.outputs[0]] = value * plan.gear_ratio * (_REV_MIN if plan.form == "rev/min" else 1.0)


def _degrees(found: dict[str, float], plan: ActuatorPlan, value: float) -> None:
    found[plan.outputs[0]] = value * _DEG


def _share(found: dict[str, float], plan: ActuatorPlan, value: float) -> None:
    found[plan.outputs[0]] = min(max(value / plan.full, -1.0), 1.0)


def _pulse(found: dict[str, float], plan: ActuatorPlan, value: float) -> None:
    found[plan.outputs[0]] = pulse(min(max(value / plan.full, -1.0), 1.0), plan)


def _duty(found: dict[str, float], plan: ActuatorPlan, value: float) -> None:
    most = 2**plan.bits - 1
    duty = rounded(min(max(value / plan.full, -1.0), 1.0) * most)
    name, direction, brake = plan.outputs
    found[name] = abs(duty)
    found[direction] = (duty > 0.0) - (duty < 0.0)
    found[brake] = float(duty == 0.0 and plan.at_zero == "brake")


_FORMS = {"rad/s": _speed, "rev/min": _speed, "deg": _degrees, "share": _share, "duty": _duty, "pulse": _pulse}
