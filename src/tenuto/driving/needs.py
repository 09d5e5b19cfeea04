"""The conditions at the far end before and during a drive, and whether it follows.

A far end that does not report a required value does not meet the condition: silence permits nothing.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator

from tenuto.basics.reasons import Code, Condition, Reason
from tenuto.driving.guard import State
from tenuto.driving.needs_plan import SAID_BY, NeedsPlan
from tenuto.driving.telemetry import NO_FAR_ENDS, SILENT_AFTER, FarEnds, Telemetry
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# How long the driver is informed that the robot may be enabled, s.
_OFFERED_FOR = 5.0
# A far end takes a moment to start; after this time, s, one that does not follow is reported.
FOLLOWS_WITHIN = 0.5
_UNDER_WAY = (State.DRIVING, State.WAITING_FOR_REST)


def _not_above(value: float, least: float, what: str, unit: str) -> str:
    if math.isnan(value):
        return f"its {what} is not known"
    return "" if value >= least else f"its {what} is {value:.3g} {unit}, below {least:g} {unit}"


def _not_below(value: float, most: float, what: str) -> str:
    if math.isnan(value):
        return f"its {what} is not known"
    return "" if value <= most else f"its {what} is {value:.2f} m, above {most:g} m"


def _not_armed(armed: bool | None) -> str:
    if armed is None:
        return "it does not report whether it is armed"
    return "" if armed else "it is not armed"


def _not_in(mode: str, modes: tuple[str, ...]) -> str:
    return "" if mode in modes else f"its mode is {mode or 'not known'}, not {' or '.join(modes)}"


def _not_placed(one: Telemetry) -> str:
    return "" if math.isfinite(one.x) and math.isfinite(one.y) else "its position is not known"


_AWAY = "distance from the origin"
# Key → what is wrong with a far end, in words; empty if the condition is met.
_CHECKS: dict[str, Callable[[Telemetry, NeedsPlan], str]] = {
    "armed": lambda one, plan: _not_armed(one.armed),
    "modes": lambda one, plan: _not_in(one.mode, plan.modes),
    "position": lambda one, plan: _not_placed(one),
    "voltage_above": lambda one, plan: _not_above(one.voltage, plan.voltage_above, "battery", "V"),
    "charge_above": lambda one, plan: _not_above(100.0 * one.charge, 100.0 * plan.charge_above, "battery", "%"),
    "height_below": lambda one, plan: _not_below(one.height, plan.height_below, "height"),
    "within": lambda one, plan: _not_below(math.hypot(one.x, one.y), plan.within, _AWAY),
    "height_from": lambda one, plan: _not_above(one.height, plan.height_from, "height", "m"),
}
# Beyond these the robot is stopped once, and may then be enabled to come back.
_BOUNDS = ("height_below", "within")


class Needs:
    """The state of the needs of one pipeline.

    Attributes:
        told: notices for the driver: the robot may be enabled now, or a far end does not follow.
    """

    def __init__(self, plan: NeedsPlan, enables: str) -> None:
        """Take the needs, and the name of what enables."""
        self._plan, self._enables = plan, enables
        self._wanted = plan.wanted
        self._far = NO_FAR_ENDS
        self._now = 0.0
        # A need that has ended a drive stays a fault while it is not met.
        self._broken: frozenset[str] = frozenset()
        self._ready_since: float | None = None
        self._was_ready = not self._wanted
        self._began: float | None = None
        self._outside = False
        self.told: tuple[Reason, ...] = ()

    def step(self, far: FarEnds, state: State, now: float) -> tuple[Reason, ...]:
        """Take the telemetry of the far ends, and return the reasons to stop.

        Args:
            far: by name. state: of the tick before. now: s.
        """
        self._far, self._now = far, now
        self._began = (now if self._began is None else self._began) if state is State.DRIVING else None
        self.told = self._notices(state)
        if not self._wanted:
            return ()
        wrong = {key: reasons for key in self._wanted if key != "height_from" and (reasons := [*self._wrong(key)])}
        bounds = frozenset(key for key in _BOUNDS if key in wrong)
        if state in _UNDER_WAY:
            crossed = frozenset() if self._outside else bounds
            self._broken = frozenset(wrong) - frozenset(_BOUNDS) | crossed
        elif state in (State.STOPPING, State.FAULT):
            self._broken &= frozenset(wrong) - (frozenset() if state is State.STOPPING else frozenset(_BOUNDS))
        else:
            self._broken = frozenset()
        # After a stop beyond a bound it may only come back.
        self._outside = bool(bounds) and (self._outside or state not in _UNDER_WAY or bool(self._broken & bounds))
        return tuple(reason for key in self._wanted if key in self._broken for reason in wrong[key])

    def missing(self) -> tuple[Reason, ...]:
        """List the conditions that are not met yet, before an enable."""
        found = tuple(
            Reason(Code.FAR_END_NOT_READY, reason.text)
            for key in self._wanted
            if key not in _BOUNDS and key not in self._broken
            for reason in self._wrong(key)
        )
        if found or self._broken:
            self._ready_since, self._was_ready = None, False
        elif self._ready_since is None:
            self._ready_since = self._now
        return found

    def _notices(self, state: State) -> tuple[Reason, ...]:
        """Report that it may be enabled now, or that a far end does not follow; ``state`` of the tick before."""
        told: tuple[Reason, ...] = ()
        if state is State.NOT_ENABLED and self._ready_since is not None and not self._was_ready:
            if self._now - self._ready_since < _OFFERED_FOR:
                text = f"the far end is ready: press {self._enables} to drive"
                told += (Reason(Code.ENABLE_OFFERED, text),)
            else:
                self._was_ready = True
        if state is State.DRIVING and self._began is not None and self._now - self._began >= FOLLOWS_WITHIN:
            for name, one in self._far.items():
                why = self._why_not_followed(one)
                told += (Reason(Code.FAR_END_STANDS, f"{name} does not follow: {why}"),) if why else ()
        return told

    def _why_not_followed(self, one: Telemetry) -> str:
        """Explain why a far end does not follow; empty if it follows, or does not report it."""
        age = one.age(self._now)
        if "follows" in one.says and age > SILENT_AFTER:
            return f"silent for {age:.0f} s" if math.isfinite(age) else "nothing was heard from it yet"
        if one.follows is not False:
            return ""
        return "; ".join((*filter(None, (one.state,)), *one.reasons)) or "no reason is reported"

    def lower(self, demand: VelocityCommand) -> tuple[VelocityCommand, tuple[Reason, ...]]:
        """Permit only the way back to a robot beyond a bound; return the demand, and why it was removed."""
        if not self._outside or demand == STANDSTILL:
            return demand, ()
        for name, one in self._far.items():
            out = self._leads_out(one, demand)
            if out:
                return STANDSTILL, (Reason(Code.BEYOND_BOUND, f"{name}: {out}: only the way back is free"),)
        return demand, ()

    def _leads_out(self, one: Telemetry, demand: VelocityCommand) -> str:
        """Describe the bound that a demand would exceed further; empty for none."""
        plan = self._plan
        too_high = "height_below" in self._wanted and "height" in one.says and not one.height <= plan.height_below
        if too_high and demand.vz >= 0.0:
            return _not_below(one.height, plan.height_below, "height")
        if "within" in self._wanted and "x" in one.says and not math.hypot(one.x, one.y) <= plan.within:
            c, s = math.cos(one.heading), math.sin(one.heading)
            outward = one.x * (demand.vx * c - demand.vy * s) + one.y * (demand.vx * s + demand.vy * c)
            if not outward < 0.0 and (demand.vx or demand.vy):
                return _not_below(math.hypot(one.x, one.y), plan.within, _AWAY)
        return ""

    def _wrong(self, key: str) -> Iterator[Reason]:
        """Describe which far ends that report the value do not meet a need, or that none reports it."""
        plan, now = self._plan, self._now
        if key == "answers":
            for name, one in self._far.items():
                silent = one.age(now)
                if not silent <= plan.answers:
                    for_how_long = f"nothing for {silent:.1f} s" if math.isfinite(silent) else "nothing yet"
                    text = f"{name} has sent {for_how_long} (guard.needs.answers {plan.answers:g} s)"
                    yield Condition(Code.FAR_END_SILENT, text, f"{name} was silent for more than {plan.answers:g} s")
            if not self._far:
                yield Reason(Code.FAR_END_SILENT, "no far end answers, but guard.needs requires one")
            return
        able = {name: one for name, one in self._far.items() if SAID_BY[key] <= one.says}
        for name, one in able.items():
            said = _CHECKS[key](one, plan)
            if said:
                yield Condition(
                    Code.FAR_END_UNFIT, f"{name}: {said} (guard.needs.{_KEYS.get(key, key)})", f"{name}: {said}"
                )
        if not able:
            yield Reason(Code.FAR_END_UNFIT, f"no far end reports what guard.needs.{_KEYS.get(key, key)} requires")


_KEYS = {"modes": "mode"}
