"""Who drives: the first in rank, unless the robot was given to a lower driver; moving a stick takes it back.

========== ==================================================================================================
what       when
========== ==================================================================================================
takes over the first in rank, or one above who may drive alone, moves a stick out of its rest, presses ``takes_over``,
           or changes the mode while a script drives; at once, in the same tick, without a jump (the command goes on
           from where it is, within the limits)
is given   the first in rank presses what gives it, sticks at rest, and who gets it is heard, holds, and has the
           sticks at rest too; or, with ``at_once``, the first in rank has enabled and moved nothing
goes back  ``permit`` is switched off; after every stop; whoever drives is not heard, and one above holds and is heard
stops      one above who was not heard before comes on with a stick away from rest: nobody moved it, it may be jammed
========== ==================================================================================================
"""

from __future__ import annotations

from collections.abc import Mapping

from tenuto.basics.frame import Frame
from tenuto.basics.reasons import LINK_CODES, Code, Condition, Reason
from tenuto.driving.driver import StickDriver, VelocityDriver
from tenuto.driving.guard import State
from tenuto.driving.hands import AllHands, Shown
from tenuto.driving.plan import Plan
from tenuto.driving.tick import Hand
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand


def _is_seen(one: StickDriver) -> bool:
    """Return whether the present positions of a driver's sticks are known, even over a weak link."""
    return not any(fault.code in LINK_CODES and fault.code not in _STILL_SEEN for fault in one.faults)


def _is_lost(one: StickDriver | VelocityDriver) -> bool:
    """Return whether a driver is not heard any more; a single bad frame does not count."""
    return any(fault.code in LINK_CODES for fault in one.faults)


# Over a link that loses many frames the positions of the sticks are still known.
_STILL_SEEN = (Code.LINK_WEAK, Code.LINK_SPARSE)
# The driver who has begun to enable the robot, or whose drive is being stopped, stays the present one.
_KEPT = (State.WAITING_FOR_REST, State.DRIVING, State.STOPPING)


class Ranks:
    """All drivers of a robot, by rank.

    Attributes:
        first: the first in rank. all: every one, by falling rank.
        current: who drives, or would. hand: whose controls count: the same, or the first in rank where a script drives.
        changed: the driver changed at this tick.
        notices: why the robot was not handed over, and whose frames are missing.
    """

    def __init__(self, plan: Plan) -> None:
        self._plan = plan
        self.first = StickDriver(plan)
        below = [StickDriver(plan, lower) if lower.controls else VelocityDriver(plan, lower) for lower in plan.below]
        self.all: tuple[StickDriver | VelocityDriver, ...] = (self.first, *below)
        self.current: StickDriver | VelocityDriver = self.first
        self._before: StickDriver | VelocityDriver = self.first
        self.hand = self.first
        self.changed = False
        self.notices: tuple[Reason, ...] = ()
        self._below = tuple(below)
        self._hands = AllHands([one for one in self.all if isinstance(one, StickDriver)])
        # Those who may enable the robot.
        self._able = tuple(
            one for one in self.all if isinstance(one, StickDriver) and (one.lower is None or one.lower.alone)
        )
        self._released: dict[str, bool] = {}
        self._permits = {lower.name: False for lower in plan.below}
        self._mode = self.first.mode
        # The driver who took over at this tick by a stick that was never seen at rest.
        self._came_on: StickDriver | None = None
        # Enabled, and no stick was moved since: a driver with ``at_once`` may get the robot.
        self._untouched, self._begins_at_once = False, any(lower.at_once for lower in plan.below)

    def hear(self, others: Mapping[str, Frame], now: float, shown: Mapping[str, Frame]) -> None:
        """Pass the frames of this tick to the drivers below; the first in rank has its frame already."""
        for driver in self._below:
            driver.hear(others.get(driver.name), now, shown.get(driver.name))

    def disable(self) -> None:
        """Clear the enabling switches: after a stop they must be pressed again."""
        for driver in self.all:
            if isinstance(driver, StickDriver) and driver.enabling is not None:
                driver.enabling.stop()

    @property
    def held(self) -> bool | None:
        """Whether all drivers who must hold do, in the newest good frames; None before the first frame."""
        current, first = self.current, self.first
        if current is first:
            return first.held
        if self._is_alone(current) and (first.held is not None or not self._permit(current)):
            return current.held if current.held is None else current.holds
        return None if first.held is None else bool(first.held and current.holds)

    def why_not_held(self) -> Reason | None:
        """Explain why nobody holds, if that is not by a release of the first in rank."""
        if self.held is not False:
            return None
        current, first, guard = self.current, self.first, self._plan.guard
        holds = " or ".join(name for name in (guard.hold_to_run, guard.enable) if name)
        code = Code.SWITCHED_OFF if guard.hold_to_run is None else Code.HOLD_RELEASED
        if not self.changed:
            lets_go = first if not self._is_alone(current) and first.held is False else current
            done = "was released" if guard.hold_to_run else "was switched off"
            return Reason(code, f"{holds} of {lets_go.name} {done}")
        before, off = self._before, not self._may(self._before)
        why = f"{self._permit(before)} of {first.name} is off, and {before.name} may not drive without it"
        text = why if off else f"{current.name} took over"
        return Reason(code, f"{text}; {holds} of {current.name} is not {'held' if guard.hold_to_run else 'on'}")

    @property
    def faults(self) -> tuple[Reason, ...]:
        """The faults in the frames of drivers who must be heard."""
        current, first = self.current, self.first
        if self._came_on is not None:
            return (*first.faults, self._jammed(self._came_on))
        if current is first:
            return first.faults
        own = tuple(
            fault if fault.text.startswith(current.name) else fault.of(current.name) for fault in current.faults
        )
        # A permit is only known while the first in rank is heard.
        return own if self._is_alone(current) and not self._permit(current) else first.faults + own

    @property
    def above(self) -> tuple[Reason, ...]:
        """Why the present driver may not begin: a driver above is moving a stick, or there is no permit."""
        current = self.current
        if current is self.first:
            return ()
        higher = self.all[: self.all.index(current)]
        text = f"{current.name} may not drive: {self._permit(current)} of {self.first.name} is off"
        off = () if self._may(current) else (Reason(Code.PERMIT_OFF, text),)
        return off + tuple(
            Reason(Code.HAND_ABOVE, f"{one.name} ranks higher, and {name} is not at rest there")
            for one in higher if isinstance(one, StickDriver) and one in self._able and _is_seen(one)
            for name in one.away
        )  # fmt: skip

    @property
    def share(self) -> float:
        """The share of all speeds from the speed level and the driver's rank, 0…1."""
        level, lower = self.hand.selection.setting.level, self.current.lower
        return level if lower is None else level * lower.share

    @property
    def demand(self) -> VelocityCommand:
        """The demand of the present driver."""
        current = self.current
        if self._begins_at_once and self._untouched and current is self.first:
            return STANDSTILL  # without a dead zone, the offset of a stick at rest must not drive before a script
        return (
            current.demand
            if isinstance(current, StickDriver)
            else self.hand.mode.speeds.slow(current.demand, current.lower.share * self.hand.selection.chosen.level)
        )

    @property
    def released(self) -> bool:
        """Whether hold-to-run of the present driver was seen released since the last stop."""
        return self._released.get(self.current.name, False)

    def on(self, control: str | None) -> StickDriver | None:
        """Return the first driver who has a control on."""
        if not self._below:
            return self.first if self.first.on(control) else None
        for one in self.all if control is not None else ():
            if isinstance(one, StickDriver) and one.on(control):
                return one
        return None

    def pressed(self, switch: str | None) -> bool:
        """Return whether a driver who may enable pressed a switch at this tick."""
        if not self._below:
            return self.first.pressed(switch)
        return switch is not None and any(one.pressed(switch) for one in self._able)

    def choose(self, state: State) -> None:
        """Set who drives from this tick on, if there are several drivers; the state is that of the tick before."""
        before = self._before = self.current
        self.notices, self._came_on = (), None
        if state not in _KEPT:
            self._see_releases(state)
            # The driver who holds; otherwise one who is heard, because a release must be seen too.
            heard = [one for one in self._able if one.held is not None and not one.faults]
            holding = [one for one in heard if one.holds]
            self.current = next((one for one in holding if self._may(one)), (holding or heard or [self.first])[0])
            self._untouched = True
        elif state is State.DRIVING:
            self._untouched = self._untouched and not self.first.away
            taken = self._taken()
            self._came_on = taken if taken is not None and not taken.seen_at_rest else None
            self.current = taken or self._given() or self._kept()
        self.changed = self.current is not before
        self._permits = {
            one.name: self.first.stays_on(one.lower.permit) for one in self._below if one.lower is not None
        }
        self._mode = self.first.mode
        if self.changed:
            self.hand = self.current if isinstance(self.current, StickDriver) else self.first
        self.notices += tuple(
            Reason(Code.DRIVER_UNHEARD, fault.text if one.name in fault.text else f"{one.name}: {fault.text}")
            for one in self._below if one is not self.current and one.held is not None for fault in one.faults
        )  # fmt: skip

    def _see_releases(self, state: State) -> None:
        for one in self._able:
            if state is State.EMERGENCY_STOP:
                self._released[one.name] = False
            elif one.held is False and not one.faults:
                self._released[one.name] = True

    def forget_releases(self) -> None:
        """Require a new release of every hold-to-run: the robot is being stopped."""
        self._released.clear()
        for one in self.all:
            if isinstance(one, StickDriver):
                one.hold_seen_off = one.enable_seen_off = False

    def _taken(self) -> StickDriver | None:
        """Return the driver of the highest rank who takes over in this tick."""
        key = self._plan.guard.takes_over
        rank = self.all.index(self.current)
        for one in self._able:
            if self.all.index(one) >= rank:
                return None
            # A stick that is seen to move counts even over a weak link, whose fault stops the robot.
            if (one.faults and not one.fresh) or one.held is None or not self._may(one):
                continue
            mode_switched = (
                one is self.first and not isinstance(self.current, StickDriver) and one.mode is not self._mode
            )
            if one.away or one.on(key) or mode_switched:
                return one
        return None

    def _given(self) -> StickDriver | VelocityDriver | None:
        """Return the driver who gets the robot at this tick."""
        first = self.first
        for one in self._below:
            lower = one.lower
            if lower is None or one is self.current:
                continue
            permitted = first.stays_on(lower.permit)
            asked = first.pressed(lower.given_by) or (lower.at_once and self._untouched and first.fresh)
            if not (asked or (lower.given_by is None and permitted and not self._permits[one.name])):
                continue
            why = self._not_given(one)
            if lower.permit is not None and not permitted:
                why += [f"{lower.permit} is off"]
            why += [f"{name} of {first.name} is not at rest" for name in first.away]
            if not why:
                self._untouched = False
                return one
            self.notices += (Reason(Code.NOT_GIVEN, f"{one.name} cannot take over: {'; '.join(why)}"),)
        return None

    def _not_given(self, one: StickDriver | VelocityDriver) -> list[str]:
        """List why a driver cannot get the robot."""
        if one.held is None:
            return ["nothing was heard from there yet"]
        why = [fault.text for fault in one.faults]
        if not one.holds:
            why.append("hold-to-run is not held there, or was not pressed again since the last stop")
        return why + [f"{name} is at {position:+z.2f}, not at rest" for name, position in one.away.items()]

    def _kept(self) -> StickDriver | VelocityDriver:
        """Return the present driver, unless the permit is off, or it is not heard and another one holds."""
        if self.current is not self.first and _is_lost(self.current):
            # A silent driver below takes the robot from no driver who holds and is heard.
            heard = [one for one in self._able if one is not self.current and not one.faults]
            holds = next((one for one in heard if one.holds and self._may(one)), None)
            if holds is not None:
                return holds
        return self.current if self._may(self.current) else self.first

    @staticmethod
    def _is_alone(one: StickDriver | VelocityDriver) -> bool:
        return one.lower is not None and one.lower.alone

    @staticmethod
    def _permit(one: StickDriver | VelocityDriver) -> str | None:
        """Return the permit of a driver: a control of the first in rank."""
        return None if one.lower is None else one.lower.permit

    def _may(self, one: StickDriver | VelocityDriver) -> bool:
        """Return whether a driver needs no permit, or has it."""
        permit = self._permit(one)
        return permit is None or self.first.stays_on(permit)

    @staticmethod
    def _jammed(one: StickDriver) -> Reason:
        names = ", ".join(one.away)
        return Condition(
            Code.CAME_ON_AWAY,
            f"{one.name} came on with {names} away from rest: release it, then press again",
            f"{one.name} had come on with {names} away from rest",
        )

    def shown(self) -> Shown:
        """Return the controls that a tick shows: those of the present hand, and those that only others have."""
        return self._hands.shown(self.hand)

    def say(self) -> dict[str, Hand]:
        """Describe the state of every driver's controls."""
        return {
            one.name: Hand(one.frame, one.fresh, one.reader.positions, one.held)
            for one in self.all
            if isinstance(one, StickDriver)
        }
