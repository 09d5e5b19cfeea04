"""One driver: from the frames of a device to the demand."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Mapping
from itertools import pairwise

from tenuto.basics.frame import ROUNDING_TIME, Frame, frames_in, real
from tenuto.basics.reasons import LINK_CODES, Code, Condition, Reason
from tenuto.driving.enabling import Enabling
from tenuto.driving.holding import Holding
from tenuto.driving.plan import HELD_FROM, DriverPlan, Plan, rest_bands
from tenuto.driving.selection import Selection
from tenuto.sticks.control import Shaper
from tenuto.sticks.reading import Reader
from tenuto.styles.mixing import Intent
from tenuto.switches.base import SwitchPlan
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# The window in which the frames of a link are counted, s.
_COUNTED_OVER = 1.0
_VELOCITY = VelocityCommand._fields
# A demand below this along an axis, m/s and rad/s, is ignored: no wheel must steer for it.
NO_WISH = 1e-9


def _wish(demand: VelocityCommand) -> VelocityCommand:
    """Remove components that are too slow to count."""
    for axis in demand:
        if axis and -NO_WISH < axis < NO_WISH:
            return VelocityCommand(*(0.0 if abs(one) < NO_WISH else one for one in demand))
    return demand


class _Between:
    """What happened in the frames before the newest one of a tick.

    Attributes:
        on, off: the controls that were. pressed: the switches that were.
        released: hold-to-run was off in a good frame. disabled: the switch that enables was off.
    """

    def __init__(self) -> None:
        self.on, self.off, self.pressed = set[str](), set[str](), set[str]()
        self.released = self.disabled = False


class StickDriver:
    """A driver with sticks.

    Attributes:
        name: as the profile has it.
        reader, selection, mode: the readings of the newest good frame, and the present selection.
        frame: the newest frame, good or bad. came: it arrived with this tick. fresh: a good one arrived with this tick.
        faults: why this driver's frames must not be used at this tick.
        held: every enabling control is on in the newest good frame, and was off in none since the last tick, good or
            bad; None before the first good one.
        away: driving controls that are not at rest → position.
        hold_seen_off, enable_seen_off: with an additional switch, hold-to-run itself and the switch were seen off since
            the last stop.
        seen_at_rest: all of them were, since this driver was last heard again.
        shaped, intent, demand: see `tenuto.driving.tick.Tick`.
        meaning_changed: the sticks have a new meaning, and have not been seen at rest since.
    """

    def __init__(self, plan: Plan, lower: DriverPlan | None = None) -> None:
        """Begin with nothing heard.

        Args:
            plan: of the robot. lower: of a driver of lower rank; None for the first in rank.
        """
        self._plan, self.lower = plan, lower
        controls = plan.controls if lower is None else lower.controls
        self.name = plan.driver if lower is None else lower.name
        self._share = 1.0 if lower is None else lower.share
        self._link_timeout = plan.guard.link_timeout if lower is None else lower.link_timeout
        self._timeout = self._link_timeout + ROUNDING_TIME
        self._timeout_key = "link_timeout" if lower is None else f"link_timeout of {lower.name}"
        self.reader = Reader(controls, plan.period, plan.guard.frozen_after)
        self._shaper = Shaper(controls, plan.sticks)
        self.selection = Selection(plan.selection if lower is None else lower.selection, plan.modes)
        self.mode = self.selection.mode
        self.bands = rest_bands(plan, controls)
        self._bands = {
            mode.name: tuple((name, self.bands[name]) for name in mode.style.controls()) for mode in plan.modes
        }
        self.levers = [control.name for control in controls if control.one_way]
        self.frame: Frame | None = None
        self.came = self.fresh = False
        self.faults: tuple[Reason, ...] = ()
        self.held: bool | None = None
        self._heading = plan.selection.heading
        self.enabling = self._enabling()
        self._holding = Holding(plan.guard)
        self._plain_hold = plan.guard.hold_to_run if self._holding.plain else None
        self.hold_seen_off = self.enable_seen_off = False
        # Hold-to-run itself, without a switch that enables in addition.
        self._holds = False
        # The stop controls, and those that are on in the newest frame, even if the rest of it is bad.
        stops = (plan.guard.stop, plan.guard.emergency_stop, plan.guard.emergency_stop_2)
        self._stops = tuple(
            (one.name, one.reads, *one.believable, one.travel.direct()) for one in controls if one.name in stops
        )
        self._stopping: tuple[str, ...] = ()
        self._holds_to = tuple(name for name in (plan.guard.hold_to_run, plan.guard.hold_to_run_2) if name is not None)
        # A lever that permits while it is on: off, it is a release too.
        self._lever = self._lever_of(plan)
        # Hold-to-run was off in some frame of this tick, and `held` by the newest good one alone.
        self._let_go = self._newest_good = False
        self._held_then: bool | None = None
        self.good_since: float | None = None
        self.away: dict[str, float] = {}
        self.seen_at_rest = False
        self.meaning_changed = False
        self.shaped: Mapping[str, float] = self.reader.positions
        self.intent = Intent(0.0, 0.0, 0.0, 0.0)
        self.demand = STANDSTILL
        # What happened in the frames before the newest one of this tick; None if there are none.
        self._between: _Between | None = None
        # As many of the newest frames as must arrive in the window: the oldest must be within it.
        self._arrivals: deque[float] = deque(maxlen=math.ceil(plan.guard.least_frame_rate * _COUNTED_OVER))
        self._weighs_link = plan.guard.least_quality > 0.0 or bool(self._arrivals.maxlen)

    def hear(self, frame: Frame | None, now: float, shown: Frame | None = None) -> None:
        """Take the newest frame and those before it since the last tick, or None when nothing came.

        Each is taken in the same way, in its order. So whatever happened in one of them has happened.

        Args:
            frame: with times on the clock of the pipeline. now: s. shown: the same frame as the caller has it.
        """
        self.came, self.fresh = frame is not None, False
        bad: tuple[Reason, ...] = ()
        self._begin_tick()
        if frame is not None:
            if frame.earlier:
                bad = self._catch_up(frame)
            bad = self._take(frame, now, bad)
            self.frame, self._newest_good = shown or frame, self.reader.good is frame
            self._held_then = self.held
            if self._let_go and self.held:
                self.held = False
        # Right after a good frame the link is good, if only its age is monitored.
        newest = self.reader.good if self.fresh and frame is self.reader.good else None
        sound = newest is not None and not self._weighs_link and now - newest.time <= self._timeout
        self.faults = (bad if sound else bad + self.link_faults(now)) + self._holding.faults
        if self.enabling is not None and self.fresh and not self.faults:
            # A hold-to-run that was never released does not drive, even if the switch is pressed again.
            let_go = self._between is not None and self._between.released
            self.hold_seen_off = self.hold_seen_off or let_go or not self._holds
            disabled = self._between is not None and self._between.disabled
            self.enable_seen_off = self.enable_seen_off or disabled or not self.enabling.on
        if self.faults:
            self.good_since = None
            if any(fault.code in LINK_CODES for fault in self.faults):
                self.seen_at_rest = False

    def _begin_tick(self) -> None:
        """Forget what happened between the two ticks before."""
        self.held, self._let_go, self._between = self._held_then, False, None

    def _take(self, frame: Frame, now: float, bad: tuple[Reason, ...]) -> tuple[Reason, ...]:
        """Take one frame; return the faults of this tick so far, with its own."""
        if self._stops:
            self._stopping = self._stops_on_in(frame)
        before = self.reader.good
        wrong = self.reader.take(frame, now)
        if not wrong:
            self.fresh = True
            if self._arrivals.maxlen:
                self._arrivals.append(frame.time)
            self._understand(frame.time - before.time if before is not None else 0.0, frame.time)
            return bad
        self._let_go = self._let_go or self._lets_go_in(frame)
        known = [fault.code for fault in bad]
        return bad + tuple(fault for fault in wrong if fault.code not in known)

    def _catch_up(self, frame: Frame) -> tuple[Reason, ...]:
        """Take the frames before the newest one, and note what must not be forgotten when the next one is taken."""
        bad: tuple[Reason, ...] = ()
        self._between = between = _Between()
        for one, following in pairwise(frames_in(frame)):
            self.fresh, fresh = False, self.fresh
            bad = self._take(one, following.time, bad)
            between.on.update(self._stopping)
            if self.fresh:
                self._note(between)
            self.fresh = self.fresh or fresh
            bad += tuple(fault for fault in self._holding.faults if fault.code not in [one.code for one in bad])
        return bad

    def _note(self, between: _Between) -> None:
        """Note what is on, off and pressed in a good frame."""
        for name, position in self.reader.positions.items():
            (between.on if position >= HELD_FROM else between.off).add(name)
        between.pressed.update(name for name, switch in self.selection.switches.items() if switch.pressed)
        if not self._holds:
            self._let_go = between.released = True
        if self.enabling is not None and not self.enabling.on:
            between.disabled = True

    @property
    def _seen_off(self) -> bool:
        """Whether hold-to-run and an additional switch were both seen off since the last stop."""
        return (self.hold_seen_off and self.enable_seen_off) or self._plan.guard.hold_to_run is None

    @property
    def holds(self) -> bool:
        """Whether this driver holds now: ``held``, unless a stop has ended that since the newest frame."""
        return bool(self.held) and (self.enabling is None or (self.enabling.on and self._seen_off))

    def _lets_go_in(self, frame: Frame) -> bool:
        """Return whether a frame that is bad otherwise says that hold-to-run or the lever is off, or pressed hard."""
        through = self._plan.guard.pressed_through
        if self._lever is not None and self.reader.position(frame, self._lever[0]) < self._lever[1]:
            return True
        return any(not HELD_FROM <= position < through for name in self._holds_to
                   if (position := self.reader.position(frame, name)) == position)  # fmt: skip

    def _stops_on_in(self, frame: Frame) -> tuple[str, ...]:
        """Return the stop controls that are on in a frame, also in one that is bad otherwise."""
        on: tuple[str, ...] = ()
        for name, reads, lowest, highest, position_at in self._stops:
            value = frame.values.get(reads, math.nan)
            if type(value) is not float:
                value = real(value)
            if lowest <= value <= highest and position_at(value) >= HELD_FROM:
                on += (name,)
        return on

    def on(self, control: str | None) -> bool:
        """Return whether a control is on, or was since the last tick; False for no name."""
        if control is None:
            return False
        if self._between is not None and control in self._between.on:
            return True
        return self.reader.positions[control] >= HELD_FROM or control in self._stopping

    def stays_on(self, control: str | None) -> bool:
        """Return whether a control is on, and has been since the last tick; False for no name."""
        if control is None or (self._between is not None and control in self._between.off):
            return False
        return self.reader.positions[control] >= HELD_FROM

    def pressed(self, switch: str | None) -> bool:
        """Return whether a switch was pressed since the last tick; False for no name."""
        if switch is None or not self.fresh:
            return False
        if self._between is not None and switch in self._between.pressed:
            return True
        return self._newest_good and self.selection.switches[switch].pressed

    @property
    def touched(self) -> bool:
        """Whether any switch was moved since the last tick."""
        return self.selection.moved or (self._between is not None and bool(self._between.pressed))

    def missing(self, now: float) -> tuple[Reason, ...]:
        """List the missing conditions for a start, besides hold-to-run and sticks at rest."""
        missing = self.reader.missing()
        wanted = self._plan.guard.link_good_for
        if wanted > 0.0 and self.held is not None:
            good = now - self.good_since if self.good_since is not None else 0.0
            if good < wanted - ROUNDING_TIME:
                missing += (
                    Reason(Code.LINK_SETTLING, f"the link has been good for {good:.2f} s, and {wanted:g} s are needed"),
                )
        if not self.mode.may_start:
            missing += (
                Reason(Code.MODE_MAY_NOT_START, f"mode {self.mode.name} does not permit a start: choose another"),
            )
        return missing

    def link_faults(self, now: float) -> tuple[Reason, ...]:
        """Return whether the last good frame is too old, or too few frames arrive."""
        if self.held is None:
            return ()  # there was none yet: the guard reports it
        good, guard = self.reader.good, self._plan.guard
        if good is None:
            return ()
        age = now - good.time
        # Written so that a NaN clock fails it too.
        if not age <= self._timeout:
            text = f"no good frame for {age:.2f} s ({self._timeout_key} {self._link_timeout:g} s)"
            return (Condition(Code.LINK_QUIET, text, f"the link was quiet for {age:.2f} s"),)
        signal, least = good.signal, guard.least_quality
        if signal is not None and not signal.quality >= least and least > 0.0:  # NaN is no quality either
            weak = f"only {signal.quality:.0f} % of the radio's frames arrive (least_quality {least:g} %)"
            return (Condition(Code.LINK_WEAK, weak, f"only {signal.quality:.0f} % of the radio's frames arrived"),)
        arrivals = self._arrivals
        if arrivals and now - arrivals[0] > _COUNTED_OVER + ROUNDING_TIME:
            came = sum(now - time <= _COUNTED_OVER + ROUNDING_TIME for time in arrivals)
            sparse = f"{came} good frames in the last second (least_frame_rate {guard.least_frame_rate:g} Hz)"
            return (Condition(Code.LINK_SPARSE, sparse, f"only {came} good frames came in a second"),)
        return ()

    def _understand(self, dt: float, time: float) -> None:
        """Derive the demand from the positions of a good frame; ``dt`` s after the previous good frame."""
        positions, selection = self.reader.positions, self.selection
        if not selection.still:
            selection.step(positions, time)
        mode = selection.mode
        if mode is not self.mode:
            if mode.style != self.mode.style and self._plan.selection.through_rest:
                self.meaning_changed = True
            self.mode = mode
        hold = self._plain_hold
        self.held = positions[hold] >= HELD_FROM if hold is not None else self._holding.held(positions, time)
        self._holds = self.held
        if self.enabling is not None:
            self.held = self._is_enabled(positions) and self.held and self._seen_off
        if self.good_since is None:
            self.good_since = time
        self._shape(dt)

    def _shape(self, dt: float) -> None:
        """Compute the demand from the positions."""
        positions, selection, mode = self.reader.positions, self.selection, self.mode
        away: dict[str, float] = {}
        for name, band in self._bands[mode.name]:
            if not -band <= (position := positions[name]) <= band:
                away[name] = position
        self.away = away
        if not away:
            self.seen_at_rest, self.meaning_changed = True, False
        chosen, heading = selection.chosen, self._heading
        shaped = self._shaper.step(positions, dt, chosen.rates)
        if chosen.trims:
            for name, trim in chosen.trims.items():
                shaped[name] = min(max(shaped[name] + trim, -1.0), 1.0)
        if heading is not None:
            shaped[heading] = positions[heading]  # a measurement, not a stick: no rates, no curve
        self.shaped = shaped
        self.intent = intent = mode.style.intent(shaped)
        if self.meaning_changed:
            self.demand = STANDSTILL
        else:
            self.demand = mode.style.demand(intent, mode.speeds, selection.setting, shaped)
            if self._share != 1.0:
                self.demand = VelocityCommand(*(self._share * axis for axis in self.demand))
            self.demand = _wish(self.demand)

    def _is_enabled(self, positions: Mapping[str, float]) -> bool:
        """Return whether the driver's enabling switch is on, if there is one."""
        enable = self._plan.guard.enable
        if self.enabling is None or enable is None:
            return True
        on = self.enabling.step(self.selection.switches[enable], positions)
        return on and not (self._between is not None and self._between.disabled)

    def _lever_of(self, plan: Plan) -> tuple[str, float] | None:
        """Return the control of a lever that enables, and below which position it is off; None if there is none."""
        if plan.guard.enable is None or not plan.guard.enable_stays:
            return None
        switch = self._enabling_switch()
        below = switch.released_below()
        return (switch.reads, below) if below is not None and switch.reads in self.reader.positions else None

    def _enabling(self) -> Enabling | None:
        """Make the state of the enabling switch, if there is one."""
        guard = self._plan.guard
        if guard.enable is None:
            return None
        return Enabling(stays=guard.enable_stays, reads=self._enabling_switch().reads)

    def _enabling_switch(self) -> SwitchPlan:
        chosen = self._plan.selection if self.lower is None else self.lower.selection
        return next(switch for switch in chosen.switches if switch.name == self._plan.guard.enable)


class VelocityDriver:
    """A script or a planner: its frames are velocities, ``vx``, ``vy``, ``vz`` in m/s and ``yaw_rate`` in rad/s.

    A missing component is 0. A velocity beyond the speeds of the mode is reduced on the same arc.

    Attributes:
        name, faults, fresh, held, away, demand: as of a `StickDriver`.
    """

    away: Mapping[str, float] = {}

    def __init__(self, plan: Plan, lower: DriverPlan) -> None:
        self._period, self.lower, self.name = plan.period, lower, lower.name
        self.faults: tuple[Reason, ...] = ()
        self.fresh = False
        self.held: bool | None = None
        self.demand = STANDSTILL
        self._heard: float | None = None

    def hear(self, frame: Frame | None, now: float, shown: Frame | None = None) -> None:
        """Take a frame, or None when nothing came; see `StickDriver.hear`."""
        problems = [self._problem(one, now) for one in (frames_in(frame) if frame is not None else ())]
        bad = next(filter(None, problems), "")
        self.fresh = frame is not None and not problems[-1]
        self.faults = (Reason(Code.VELOCITY_BAD, f"{self.name}: {bad}"),) if bad else ()
        if frame is not None and self.fresh:
            self._heard, self.held = frame.time, True
            self.demand = VelocityCommand(*(float(frame.values.get(axis, 0.0)) for axis in _VELOCITY))
        age = math.inf if self._heard is None else now - self._heard
        if not age <= self.lower.link_timeout:
            text = f"{self.name}: no good velocity for {age:.2f} s (link_timeout {self.lower.link_timeout:g} s)"
            self.faults += (Condition(Code.LINK_QUIET, text, f"{self.name} was quiet for {age:.2f} s"),)

    @property
    def holds(self) -> bool:
        """Whether it may drive: a planner holds as soon as it sends."""
        return bool(self.held)

    def _problem(self, frame: Frame, now: float) -> str:
        if not frame.link_good:
            return frame.note or "the source says that its link is not good"
        if not (self._heard or -math.inf) <= frame.time <= now + self._period:
            return f"a velocity has the time {frame.time} s, but it is {now} s"
        for axis in _VELOCITY:
            value = frame.values.get(axis, 0.0)
            if not math.isfinite(real(value)):
                return f"{axis} is {str(real(value))[:20]}, which is not a velocity"
        return ""
