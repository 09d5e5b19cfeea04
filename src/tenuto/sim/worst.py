"""Every fault with one profile, closed loop: driven on its simulated robot, and compared with the promises."""

from __future__ import annotations

import copy
import math
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from itertools import pairwise, product
from typing import NamedTuple

from tenuto.basics.frame import Frame
from tenuto.driving.driver import StickDriver
from tenuto.driving.guard import State
from tenuto.driving.measured import MEASURED
from tenuto.driving.modes import NO_CHOICE, ChoicePlan, LevelPlan, ModePlan
from tenuto.driving.pipeline import Pipeline
from tenuto.driving.plan import Plan, Planned
from tenuto.driving.stopping import Stop, stop_seconds, worst_stop
from tenuto.driving.tick import Tick
from tenuto.sim.hands import Hands
from tenuto.sim.robots import SimulatedRobot, simulated_robot
from tenuto.sticks.centring import centring_time
from tenuto.switches.base import Operated
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# Durations, at most, s: of driving before the fault, of watching after it, and of rolling out after the command stands.
_RUN_UP, _WATCHED, _ROLLS = 40.0, 60.0, 10.0
# The step of a robot that gets no more commands, s.
_FINE = 0.005
# The number of stick positions that are driven: those with the longest stops.
_WAYS = 6
# Its motion is steady once nothing has changed by this much, for this number of ticks.
_SAME, _STILL = 1e-9, 10
# If nothing enables it, it is held with its sticks at rest for this time first, s.
_HELD = Operated("held", ((0.0, 0.1),))


class Fault(NamedTuple):
    """One fault at full speed.

    Attributes:
        name: as text. happens: turns a frame into the one that arrives; None for no frame.
        others: turns the frames of other sources into those that arrive.
        press: what is pressed. hold: hold-to-run is still held.
        reaction: how long the command may stay unchanged, s. ramps: it is reduced on a ramp, or ends at once.
        dead: the loop makes no more ticks: the far end stops by itself when the command is no longer valid.
    """

    name: str
    reaction: float
    ramps: bool = True
    happens: Callable[[Frame], Frame | None] = lambda frame: frame
    others: Callable[[dict[str, Frame]], dict[str, Frame]] = lambda frames: frames
    press: str | None = None
    hold: bool = True
    dead: bool = False


class Worst(NamedTuple):
    """The worst result of one fault.

    Attributes:
        fault: its name. promise: the limit of the command, at any speed.
        seconds, metres: until the command was standstill, the greatest. velocity: the one with the longest stop.
        robot_metres: how far the simulated robot went, with the lag of its motors.
    """

    fault: str
    promise: Stop
    seconds: float
    metres: float
    velocity: VelocityCommand
    robot_metres: float


def faults_of(plan: Plan) -> Iterator[Fault]:
    """List the faults that are possible for a robot of this plan."""
    guard, tick = plan.guard, plan.period
    ramps = guard.fault_category != 0
    if guard.hold_to_run is not None:
        yield Fault("hold-to-run is released", tick, guard.released_category != 0, hold=False)
    if guard.on_link_loss == "stop":
        borne = guard.grace + tick if guard.grace else 0.0
        yield Fault("the link goes silent", guard.link_timeout + tick + borne, ramps, lambda frame: None)
        failsafe = "the receiver reports failsafe"
        yield Fault(failsafe, tick + borne, ramps, lambda frame: frame._replace(link_good=False))
    yield Fault("a control sends no number", tick, ramps, _without_numbers)
    if guard.emergency_stop is not None:
        emergency = guard.emergency_category != 0
        yield Fault("the emergency stop is pressed", tick, emergency, press=guard.emergency_stop)
    if guard.stop is not None:
        yield Fault(f"{guard.stop} is switched on", tick, ramps, press=guard.stop)
    for inhibit in plan.inhibits:
        if inhibit.category is None or inhibit.heard_from is None:
            continue
        source, down = inhibit.heard_from, inhibit.category != 0
        off = Frame(0.0, {inhibit.reads: inhibit.on_from - (1.0 if inhibit.closed else 0.0)})
        yield Fault(f"{inhibit.name} inhibits", tick, down, others=_instead(source, off))
        yield Fault(f"{inhibit.name} falls silent", inhibit.timeout + tick, down, others=_instead(source, None))
    for measured in plan.measured:
        if measured.heard_from is not None:
            silent = _instead(measured.heard_from, None)
            yield Fault(f"{measured.name} falls silent", measured.timeout + tick, ramps, others=silent)
            wrong = Frame(0.0, {measured.reads: 1e6 / measured.scale})
            yield Fault(
                f"{measured.name} is not as commanded", tick, False, others=_instead(measured.heard_from, wrong)
            )
    yield Fault("the program dies", guard.command_timeout, False, dead=True)


def _without_numbers(frame: Frame) -> Frame:
    return frame._replace(values={**frame.values, next(iter(frame.values)): math.nan})


def _instead(source: str, frame: Frame | None) -> Callable[[dict[str, Frame]], dict[str, Frame]]:
    """Put another frame, of the same moment, in the place of one source's; None removes it."""

    def change(frames: dict[str, Frame]) -> dict[str, Frame]:
        kept = {name: one for name, one in frames.items() if name != source}
        if frame is None or source not in frames:
            return kept
        there = frames[source]
        return kept | {source: there._replace(values={**there.values, **frame.values})}

    return change


def worst_of(profile: Planned, ways: int = _WAYS) -> list[Worst]:
    """Drive every fault from the stick positions with the longest stops, and keep the worst result of each.

    A fault that ends at once, or has no stop of its own (``on_link_loss`` "descend" and "silent"), is left out or
    measured to the end of the command.

    Args:
        profile: of the robot. The driver of the highest rank drives it, in every mode, at the highest level.
        ways: number of stick positions that are driven in each.

    Returns:
        The worst result of each fault; nothing if it cannot be driven by sticks alone.
    """
    plan = profile.plan()
    driven = [DrivenRobot.driven(fixed, way) for fixed in in_each_mode(plan) for way in _ways(fixed, ways)]
    moving = [stage for stage in driven if stage is not None]
    return [_worst(plan, fault, moving) for fault in faults_of(plan)] if moving else []


def in_each_mode(plan: Plan) -> Iterator[Plan]:
    """Return the plan with nothing to choose and no test at start, once for each mode and kind of steering."""
    for mode, steering in product(plan.modes, plan.selection.steering.order):
        yield _fixed(plan, mode, steering)


def initial_mode(plan: Plan) -> Plan:
    """Return the plan with nothing to choose and no test at start, as it begins."""
    return _fixed(plan, plan.mode, plan.selection.steering.begin)


def _fixed(plan: Plan, mode: ModePlan, steering: str) -> Plan:
    levels = LevelPlan(steps=(max(plan.selection.levels.steps),))
    only = replace(mode, name="", fallback=True, may_start=True, rates=None)
    steered = ChoicePlan(order=(steering,), begin=steering)
    chosen = replace(plan.selection, mode=NO_CHOICE, rates=NO_CHOICE, levels=levels, steering=steered)
    guard = replace(plan.guard, attention=math.inf, test_at_start=(), start_warning=0.0)
    return replace(plan, modes=(only,), selection=chosen, guard=guard, below=())


def _ways(plan: Plan, count: int) -> list[dict[str, float]]:
    """Return the stick positions with the longest stops, of all with sticks at an end or at rest."""
    names = plan.mode.style.controls()
    places = (-1.0, 0.0, 1.0) if len(names) <= 6 else (-1.0, 1.0)
    driver, hands, found = StickDriver(plan), Hands(plan), list[tuple[float, dict[str, float]]]()
    for number, positions in enumerate(product(places, repeat=len(names)), start=1):
        way = dict(zip(names, positions, strict=True))
        now = 100.0 * number  # late enough that nothing is smoothed any more
        driver.hear(Frame(now, hands.put(True, None, **way)), now)
        velocity = plan.within_reach(driver.demand)
        metres = math.hypot(velocity.vx, velocity.vy) * (plan.guard.unnoticed + stop_seconds(velocity, plan.guard) / 2)
        if metres > 0.0:
            found.append((metres, way))
    found.sort(key=lambda one: -one[0])
    return [way for _, way in found[:count]]


class DrivenRobot:
    """A robot that is being driven; a copy of it is driven on.

    Attributes:
        rolls: its simulated robot moves; otherwise only its commands are needed.
        why: its reason when it was driven no more, or why it is not.
    """

    def __init__(self, plan: Plan, way: Mapping[str, float], rolls: bool = True) -> None:
        self.plan, self.way, self.rolls = plan, way, rolls
        self.pipeline, self.robot = Pipeline(plan.without_far_end()), simulated_robot(plan.chassis)
        self.hands, self.now = Hands(plan), 0.0
        self.tick: Tick | None = None
        self.why = ""
        # The greatest rate at which each axis increased and decreased, m/s² and rad/s².
        self.grew, self.shrank = [0.0] * 4, [0.0] * 4
        # A gesture counts only if its sticks were held for its time.
        gestures = [one.operated().presses[0][0] for one in plan.selection.switches if one.held_at()]
        self._patience = max(_STILL, math.ceil(max(gestures, default=0.0) / plan.period))
        self._enabling = next((one for one in plan.selection.switches if one.name == plan.guard.enable), None)
        self._operated = self._enabling.operated() if self._enabling is not None else _HELD
        self._undone = self._enabling.undone() if self._enabling is not None else Operated("release it", ())
        # A lever keeps its position; a button that would switch off again at the next press is released.
        self._stays = plan.guard.enable_stays and not self._undone.presses

    @classmethod
    def driven(cls, plan: Plan, way: Mapping[str, float], rolls: bool = True) -> DrivenRobot | None:
        """Enable it, and drive until nothing changes, including turning wheels; None if that fails."""
        stage = cls.begun(plan, way, rolls)
        return stage if stage.settle() else None

    @classmethod
    def begun(cls, plan: Plan, way: Mapping[str, float], rolls: bool = True) -> DrivenRobot:
        """Begin with a robot that is enabled as required."""
        stage = cls(plan, way, rolls)
        stage.enable()
        return stage

    def enable(self) -> None:
        """Release all for as long as the link must be good; then hold, with sticks at rest, and enable."""
        if self.tick is not None:
            self._operate(self._undone)
        # A release must be seen too, and a centre that is measured at start.
        let_go = max(self.plan.guard.link_good_for, self._operated.presses[-1][1], centring_time(self.plan.controls))
        for _ in range(math.ceil(let_go / self.plan.period) + 10):
            self.step(held=False, pushed=False)
        self._operate(self._operated)

    def end(self) -> None:
        """Stop driving, beside the release: an enabling control that does not stay is operated once more."""
        if self.plan.guard.hold_to_run is None and not self._stays:
            self._operate(self._undone if self._undone.presses else self._operated)

    def _operate(self, how: Operated) -> None:
        for on in how.ticks(self.plan.period, stays=self._stays):
            self.step(pushed=False, enables=on)

    def turn(self, way: Mapping[str, float]) -> bool:
        """Change the stick positions until nothing changes any more; return whether it is driven then."""
        self.way = way
        return self.settle()

    def settle(self) -> bool:
        """Drive on until nothing has changed for a while; return whether it is driven then."""
        still = 0
        for _ in range(round(_RUN_UP / self.plan.period)):
            before, tick = self.tick, self.step()
            if before is not None and tick.guard.state is State.DRIVING:
                # Slow shaping may demand a motion later, if the vehicle cannot do what is demanded at first.
                pairs = [*zip(before.command, tick.command, strict=True), *zip(before.demand, tick.demand, strict=True)]
                pairs += [(before.actuators[name], value) for name, value in tick.actuators.items()]
                still = still + 1 if max(abs(a - b) for a, b in pairs) < _SAME else 0
            if still >= self._patience:
                return True
        return self.tick is not None and self.tick.guard.state is State.DRIVING

    def step(
        self,
        *,
        held: bool = True,
        pushed: bool = True,
        fault: Fault | None = None,
        press: str | None = None,
        at: float | None = None,
        enables: bool | None = None,
    ) -> Tick:
        """Advance one tick, with a fault in the frames, or with something pressed, or put ``at`` a position, −1…1.

        The switch that enables is operated if ``enables`` is true; otherwise it keeps its position.
        """
        plan, fault = self.plan, fault or Fault("", 0.0)
        if self.rolls:
            self.robot.advance(plan.period)
        self.now += plan.period
        enabling = self._enabling if held and (self._stays if enables is None else enables) else None
        gesture = enabling.held_at() if enabling is not None else {}
        reads = enabling.reads or None if enabling is not None else None
        way = {**(self.way if pushed else {}), **gesture}
        values = self.hands.put(held and fault.hold, press or fault.press or reads, **way)
        if press is not None and at is not None:
            values |= next(one for one in plan.controls if one.name == press).raw_at(at)
        if plan.selection.heading is not None:  # the heading sensor reports straight ahead
            heading = next(one for one in plan.controls if one.name == plan.selection.heading)
            values |= heading.raw_at(0.0)
        others = self._others()
        frame = fault.happens(Frame(self.now, values))
        before = self.tick.command if self.tick is not None else STANDSTILL
        driven = self.tick is None or self.tick.guard.state is State.DRIVING
        self.tick = self.pipeline.step(frame, self.now, others=fault.others(others))
        if driven and self.tick.guard.reasons:
            self.why = self.tick.guard.reasons[0].text
        for axis, (was, now) in enumerate(zip(before, self.tick.command, strict=True)):
            changed = self.grew if abs(now) > abs(was) else self.shrank
            changed[axis] = max(changed[axis], abs(now - was) / plan.period)
        if self.tick.send and self.rolls:
            self.robot.command(self.tick.actuators, self.tick.valid_for, self.tick.power)
        return self.tick

    def _others(self) -> dict[str, Frame]:
        """Return the frames of sensors that see nothing, of inhibit inputs that permit, and of exact speeds."""
        plan = self.plan
        others = {name: Frame(self.now, {}) for name in {one.heard_from for one in plan.inputs} if name is not None}
        for inhibit in plan.inhibits:
            if inhibit.heard_from is not None:
                good = inhibit.on_from if inhibit.closed else inhibit.on_from - 1.0
                others[inhibit.heard_from] = _with(others[inhibit.heard_from], inhibit.reads, good)
        for sensor in plan.distances:
            if sensor.heard_from is not None:
                others[sensor.heard_from] = _with(others[sensor.heard_from], sensor.reads, 1e6)
        for measured in plan.measured:
            if measured.heard_from is not None and self.tick is not None:
                speed = self.tick.command[MEASURED[measured.of]]
                others[measured.heard_from] = _with(others[measured.heard_from], measured.reads, speed / measured.scale)
        return others

    def copied(self) -> DrivenRobot:
        """Return a copy of this moment; constant parts are shared, and its path before is dropped."""
        plan, robot = self.plan, self.robot
        del robot.path[:-1], robot.history[:-1]
        shared = (plan, plan.chassis, plan.guard, plan.selection, *plan.modes, *plan.controls)
        return copy.deepcopy(self, {id(one): one for one in shared})


def _with(frame: Frame, reads: str, value: float) -> Frame:
    return frame._replace(values={**frame.values, reads: value})


def _worst(plan: Plan, fault: Fault, driven: list[DrivenRobot]) -> Worst:
    promise = worst_stop(plan, fault.reaction, ramps=fault.ramps)
    worst = Worst(fault.name, promise, 0.0, 0.0, STANDSTILL, 0.0)
    for stage in driven:
        one = _measured(plan, fault, stage.copied(), promise)
        further = max(worst, one, key=lambda found: found.metres)
        worst = further._replace(
            seconds=max(worst.seconds, one.seconds), robot_metres=max(worst.robot_metres, one.robot_metres)
        )
    return worst


def _measured(plan: Plan, fault: Fault, stage: DrivenRobot, promise: Stop) -> Worst:
    """Apply a fault just after a tick, and measure until command and robot stand."""
    assert stage.tick is not None
    robot, velocity, command = stage.robot, stage.tick.command, stage.tick.command
    began, metres, seconds = stage.now, 0.0, 0.0
    before = len(robot.path)
    while stage.now - began < _WATCHED:
        if fault.dead:
            # No more ticks come: the robot follows its last command until its own watchdog ends it.
            robot.advance(_FINE)
            stage.now += _FINE
            if robot.obeys:
                metres, seconds = metres + math.hypot(command.vx, command.vy) * _FINE, seconds + _FINE
            else:
                command = STANDSTILL
        else:
            metres += math.hypot(command.vx, command.vy) * plan.period
            command = stage.step(fault=fault).command
            seconds = stage.now - began
        if command == STANDSTILL:
            break
    for _ in range(round(_ROLLS / plan.period)):
        if robot.standing:
            break
        robot.advance(plan.period)
    return Worst(fault.name, promise, seconds, metres, velocity, _way(robot, before))


def _way(robot: SimulatedRobot, before: int) -> float:
    """Return how far a robot went along the ground since a point of its path, m."""
    points = robot.path[before - 1 :]
    return sum(math.hypot(b.x - a.x, b.y - a.y) for a, b in pairwise(points))
