"""The fault campaign: drivers, links, clocks and devices with any fault, in simulated time.

A run is a story: a list of scenes, made from a seed. A `Watcher` sees every tick of it. A story that breaks an
invariant is reduced to the scenes that are needed, and can be kept and played again.
"""

from __future__ import annotations

import math
import random
from collections import Counter, deque
from collections.abc import Callable, Iterable, Iterator
from dataclasses import asdict, dataclass, field
from typing import Any

from tenuto.basics.frame import Frame, Signal
from tenuto.basics.reasons import Code, Reason
from tenuto.driving.changeover import Changeover
from tenuto.driving.guard import State
from tenuto.driving.measured import MEASURED, MeasuredPlan
from tenuto.driving.plan import Planned
from tenuto.driving.stopping import worst_stop
from tenuto.driving.tick import Tick
from tenuto.profile.profile import Profile
from tenuto.profile.text import profile_tables
from tenuto.sim.between import Between
from tenuto.sim.far_says import FAR_ENDS, FarEndSays
from tenuto.sim.hands import DRIVERS, Hands
from tenuto.sim.invariants import Watcher
from tenuto.sim.surroundings import LINES, Surroundings
from tenuto.sim.witness import KNOWN, Witness
from tenuto.vehicles.velocity import STANDSTILL

# The faults of the link; the episode sets how long each lasts.
LINKS = (
    "good", "good", "lost", "burst", "late", "reordered", "doubled", "frozen", "garbage", "failsafe", "weak",
)  # fmt: skip
CLOCKS = ("steady", "steady", "steady", "steady", "jump back", "stall", "sleep", "stands still")
DEVICES = ("there", "there", "there", "unplugged", "another")
# The faults of the processes around the pipeline: a sink that hangs, slow ticks, a profile that is saved again, and
# the whole program restarted: killed, or ended by a signal, which stops the robot first.
PROCESSES = ("sound", "sound", "sound", "sound", "sink blocked", "slow ticks", "profile changed", "restarted")


# How long a killed program takes to restart, s.
_DEAD = 2.0


@dataclass(frozen=True, slots=True)
class Episode:
    """A scene: a period with fixed conditions.

    Attributes:
        seconds: its duration. driver, link, clock, device, process: see above. seed: of its random numbers.
        enables: the driver enables as required: releases, rests, presses.
        second: the driving of those of lower rank, if there are any.
        line: to the robot; see `surroundings`. far: the behaviour of its far end; see `far_says`.
        between: whether something happens in frames between two ticks.
    """

    seconds: float
    driver: str
    link: str
    clock: str
    device: str
    seed: int
    enables: bool
    process: str = "sound"
    second: str = "absent"
    line: str = "good"
    far: str = "well"
    between: bool = False


@dataclass(slots=True)
class Outcome:
    """The results of one run, or of many.

    Attributes:
        runs, ticks, seconds: how much was simulated. driven: seconds of driving. by: the same for each driver.
        faults: stops by their first code.
        worst_time, worst_distance: from the last good frame or the first reason to standstill, s and m.
        promise_time, promise_distance: their limits.
        broken: the broken invariants, as text; the first story that broke one.
    """

    runs: int = 0
    ticks: int = 0
    seconds: float = 0.0
    driven: float = 0.0
    by: Counter[str] = field(default_factory=Counter)
    faults: Counter[str] = field(default_factory=Counter)
    worst_time: float = 0.0
    worst_distance: float = 0.0
    promise_time: float = 0.0
    promise_distance: float = 0.0
    broken: list[str] = field(default_factory=list)
    story: list[Episode] = field(default_factory=list)

    def add(self, other: Outcome) -> None:
        """Add other results to these."""
        for name in ("runs", "ticks", "seconds", "driven"):
            setattr(self, name, getattr(self, name) + getattr(other, name))
        for name in ("worst_time", "worst_distance", "promise_time", "promise_distance"):
            setattr(self, name, max(getattr(self, name), getattr(other, name)))
        self.faults.update(other.faults)
        self.by.update(other.by)
        if other.broken and not self.broken:
            self.broken, self.story = other.broken, other.story


def make_story(seed: int, scenes: int = 6) -> list[Episode]:
    """Make the story of a seed: always the same one."""
    dice, lines, fars = random.Random(seed), random.Random(f"lines {seed}"), random.Random(f"far {seed}")
    between = random.Random(f"between {seed}")
    return [
        Episode(
            round(dice.uniform(0.2, 3.0), 2), dice.choice(list(DRIVERS)), dice.choice(LINKS), dice.choice(CLOCKS),
            dice.choice(DEVICES), dice.randrange(1_000_000), dice.random() < 0.85,
            dice.choice(PROCESSES), dice.choice(list(DRIVERS)), lines.choice(LINES), fars.choice(FAR_ENDS),
            between.random() < 0.4,
        )
        for _ in range(scenes)
    ]  # fmt: skip


def play(profile: Planned, story: Iterable[Episode], on_tick: Callable[[Tick], object] | None = None) -> Outcome:
    """Play a story with a profile; it ends at the first tick that breaks an invariant.

    Args:
        profile: of the robot. story: what happens. on_tick: called with every tick.
    """
    story = list(story)
    # The sensors of some robots tell the truth, those of others are random.
    stage = _Stage(profile, random.Random(story[0].seed) if story and story[0].seed % 3 else None, on_tick)
    for episode in story:
        stage.play(episode)
        if stage.outcome.broken:
            break
    stage.outcome.runs = 1
    stage.outcome.story = story if stage.outcome.broken else []
    return stage.outcome


def soak(profile: Planned, seeds: Iterable[int]) -> Iterator[Outcome]:
    """Play the stories of many seeds; return the results."""
    for seed in seeds:
        yield play(profile, make_story(seed))


def shrink(profile: Planned, story: list[Episode]) -> list[Episode]:
    """Reduce a story that breaks an invariant to what is needed for that."""

    def breaks(shorter: list[Episode]) -> bool:
        return bool(play(profile, shorter).broken)

    progress = True
    while progress:
        progress = False
        for candidate in _shorter(story):
            if breaks(candidate):
                story, progress = candidate, True
                break
    return story


def _shorter(story: list[Episode]) -> Iterator[list[Episode]]:
    """Return stories with something removed, those with much removed first."""
    for row in range(len(story)):
        yield story[:row] + story[row + 1 :]
    plain = {"driver": "careful", "link": "good", "clock": "steady", "device": "there", "process": "sound",
             "second": "absent", "line": "good", "between": False}  # fmt: skip
    for row, episode in enumerate(story):
        data = asdict(episode)
        for key, value in plain.items():
            if data[key] != value:
                yield [*story[:row], Episode(**{**data, key: value}), *story[row + 1 :]]
        if episode.seconds > 0.2:
            yield [*story[:row], Episode(**{**data, "seconds": round(episode.seconds / 2, 2)}), *story[row + 1 :]]


class _Stage:
    """One run in progress."""

    def __init__(
        self, profile: Planned, dice: random.Random | None, on_tick: Callable[[Tick], object] | None = None
    ) -> None:
        """Prepare it; with random surroundings of the robot if its sensors tell the truth."""
        self._on_tick = on_tick
        self.plan = profile.plan()
        self.world = Surroundings(self.plan, dice) if dice is not None else None
        self.line = Changeover(self.plan)
        self.watcher = Watcher(self.plan)
        self._tables = profile_tables(profile) if isinstance(profile, Profile) else None
        self.witness = self._witness()
        self.far_end = FarEndSays(self.plan.guard.needs)
        self.hands = Hands(self.plan)
        self.others = {lower.name: Hands(self.plan, lower.controls) for lower in self.plan.below if lower.controls}
        self.outcome = Outcome()
        guard = self.plan.guard
        # The longest permitted way from the first sign of a fault to standstill, from any speed.
        promised = worst_stop(self.plan, guard.unnoticed + 3 * self.plan.period)
        self.outcome.promise_time = promised.seconds + guard.descend_for
        self.outcome.promise_distance = promised.metres
        self.now, self.told = 0.0, STANDSTILL
        self.stopping: tuple[float, float] | None = None
        self.heard = 0.0
        self.driving = self.ending = False
        self.standing = True

    def _witness(self, before: Witness | None = None) -> Witness | None:
        """Return a second watcher if there is a file and all drivers hold known devices; it continues the last one."""
        tables = self._tables
        pads = tables is not None and all(
            one.get("source", {"kind": "gamepad"})["kind"] in KNOWN
            for one in (tables, *tables.get("drivers", {}).values()) if one.get("sends", "sticks") == "sticks"
        )  # fmt: skip
        return Witness(tables, before) if tables is not None and pads else None

    def play(self, episode: Episode) -> None:
        """Play one episode."""
        dice, fars = random.Random(episode.seed), random.Random(f"far {episode.seed}")
        link, second_link = _Link(episode, dice), _Link(episode, dice)
        between = Between(random.Random(f"between {episode.seed}")) if episode.between else None
        steps = max(1, round(episode.seconds / self.plan.period))
        jump_at = dice.randrange(steps) if episode.clock != "steady" else -1
        happens_at = dice.randrange(steps)
        for step in range(steps):
            beginning = step if episode.enables else -1
            self.hands.act(episode.driver, dice, self.plan.period, beginning)
            dt = self.plan.period if step != jump_at else _odd_step(episode.clock, dice)
            if episode.process == "slow ticks":
                dt += dice.uniform(0.0, 0.4 * self.plan.stall_timeout)
            self.now += dt
            if self.world is not None:
                # Time passes, however the program's clock jumps.
                passed = dt if dt >= 0.0 else self.plan.period
                self.outcome.broken = self.world.live(passed, 0.0 < dt <= self.plan.period)
            frame = self._frame(episode, link)
            others = self._others(episode, dice, second_link, beginning)
            if between is not None:
                frame, others = between.add(self.plan, frame, others, self.plan.period)
            faults = self._process(episode, step - happens_at)
            far = self.far_end.at(self.now, episode.far, fars)
            tick = self.line.step(frame, self.now, others=others, faults=faults, far=far)
            self.told = tick.command
            if self.world is not None and not self.outcome.broken:
                self.outcome.broken = self.world.take(tick, episode.line)
                self.told = self.world.velocity
            self._see(tick, faults)
            if self._on_tick is not None:
                self._on_tick(tick)
            if self.witness is not None and not self.outcome.broken:
                self.outcome.broken = self.witness.see(frame, others, tick)
            if self.outcome.broken:
                return

    def _frame(self, episode: Episode, link: _Link) -> Frame | None:
        """Return the frame of the first in rank that arrives now."""
        if episode.device == "unplugged":
            return None
        values = self.hands.values()
        if episode.device == "another":
            values = {f"axis_{number}": value for number, value in enumerate(values.values())}
        return link.carry(Frame(self.now, values, signal=Signal(link.quality, -70.0, 8.0)), self.now)

    def _others(self, episode: Episode, dice: random.Random, link: _Link, beginning: int) -> dict[str, Frame]:
        """Return the frames of drivers of lower rank, of sensors and of contacts."""
        frames: dict[str, Frame] = {}
        for name, hands in self.others.items():
            hands.act(episode.second, dice, self.plan.period, beginning)
            frame = link.carry(Frame(self.now, hands.values(), signal=Signal(link.quality, -70.0, 8.0)), self.now)
            if frame is not None:
                frames[name] = frame
        for lower in self.plan.below:
            if not lower.controls and dice.random() < 0.9:
                speed = dice.choice((0.5, 1.0, -0.3, 0.0)) if dice.random() > 0.005 else math.nan
                frames[lower.name] = Frame(self.now, {"vx": speed, "yaw_rate": dice.uniform(-1.0, 1.0)})
        return frames | self._inputs(dice)

    def _inputs(self, dice: random.Random) -> dict[str, Frame]:
        """Return the frames of sensors and contacts."""
        frames: dict[str, Frame] = {}
        for sensor in self.plan.distances:
            if sensor.heard_from == sensor.name and dice.random() < 0.8:
                metres = dice.uniform(-0.1, 6.0)
                if self.world is not None:
                    metres = self.world.gaps[sensor.name]
                frames[sensor.name] = Frame(self.now, {sensor.reads: metres / sensor.scale})
        for inhibit in self.plan.inhibits:
            if inhibit.heard_from == inhibit.name and dice.random() < 0.98:
                on = inhibit.closed is (dice.random() < 0.995)
                frames[inhibit.name] = Frame(self.now, {inhibit.reads: inhibit.on_from + (0.0 if on else -1.0)})
        for measured in self.plan.measured:
            if measured.heard_from == measured.name and dice.random() < 0.95:
                frames[measured.name] = Frame(self.now, {measured.reads: self._speed(measured, dice) / measured.scale})
        return frames

    def _speed(self, measured: MeasuredPlan, dice: random.Random) -> float:
        """Return the measured velocity: near the command, and now and then that of a runaway robot."""
        far = 3.0 if dice.random() < 0.005 else 0.9
        return self.told[MEASURED[measured.of]] + dice.uniform(-far, far) * measured.tolerance

    def _process(self, episode: Episode, since: int) -> tuple[Reason, ...]:
        """Apply the process fault of the episode, ``since`` ticks after its moment."""
        if episode.process == "sink blocked" and 0 <= since < 40:
            return (Reason(Code.SINK_BLOCKED, "a sink has accepted nothing"),)
        if since == 0 and episode.process == "profile changed":
            if episode.seed % 3 == 0:
                self.line.refuse("it is broken")
            else:
                self.line.change(self.plan)
        elif since == 0 and episode.process == "restarted" and episode.seed % 2:
            self.line.end("it was asked to end by a signal")
            self.ending = True
        elif since == 0 and episode.process == "restarted":
            self._start_again()
        if self.ending and since != 0 and self.standing:
            self._start_again()
        return ()

    def _start_again(self) -> None:
        """Kill the program for a while, and restart it."""
        # The robot stops by itself meanwhile: no command comes in time.
        if self.world is not None:
            self.outcome.broken = self.world.die(_DEAD)
        self.line, self.watcher, self.witness = Changeover(self.plan), Watcher(self.plan), self._witness()
        self.stopping, self.driving, self.ending = None, False, False

    def _see(self, tick: Tick, faults: tuple[Reason, ...]) -> None:
        outcome = self.outcome
        if self.line.changed:
            if self.stopping is not None or self.driving:
                outcome.broken = [f"at {tick.time:.3f} s: the profile was changed before the robot stood"]
            self.watcher, self.witness = Watcher(self.plan), self._witness(self.witness)
        outcome.broken = outcome.broken or self.watcher.see(tick)
        self.standing = tick.command == STANDSTILL and tick.guard.state not in (State.DRIVING, State.STOPPING)
        if self.ending and tick.guard.state is State.DRIVING:
            outcome.broken += [f"at {tick.time:.3f} s: driving, though it was asked to end"]
        if faults and tick.guard.state is State.DRIVING:
            outcome.broken += [f"at {tick.time:.3f} s: driving, though {faults[0].text}"]
        outcome.ticks += 1
        outcome.seconds += min(tick.dt, 1.0)
        if tick.guard.state is State.DRIVING:
            outcome.driven += tick.dt
            outcome.by[tick.driver] += tick.dt  # type: ignore[assignment]  # seconds may be counted too
            self.driving, self.stopping = True, None
            if tick.new_frame:
                self.heard = tick.time
            return
        if self.driving:
            outcome.faults[tick.guard.reasons[0].code] += 1
            self.driving, self.stopping = False, (min(self.heard, tick.time), 0.0)
        if self.stopping is None:
            return
        began, distance = self.stopping
        moving = tick.command != STANDSTILL
        distance += math.hypot(tick.command.vx, tick.command.vy) * min(tick.dt, self.plan.stall_timeout)
        outcome.worst_distance = max(outcome.worst_distance, distance)
        # After a jump of the clock, no duration is known.
        if moving and tick.dt <= self.plan.stall_timeout:
            outcome.worst_time = max(outcome.worst_time, tick.time - began)
        self.stopping = (began, distance) if moving else None


def _odd_step(clock: str, dice: random.Random) -> float:
    """Return an abnormal step of time."""
    return {
        "jump back": -dice.uniform(0.01, 20.0),
        "stall": dice.uniform(0.1, 1.5),
        "sleep": dice.uniform(10.0, 4000.0),
        "stands still": 0.0,
    }[clock]


class _Link:
    """The frames on their way, with the faults of the link."""

    def __init__(self, episode: Episode, dice: random.Random) -> None:
        self._kind, self._dice = episode.link, dice
        self._waiting: deque[Frame] = deque()
        self._frozen: dict[str, float] | None = None
        self._burst = 0
        self.quality = 20.0 if episode.link == "weak" else 100.0

    def carry(self, frame: Frame, now: float) -> Frame | None:
        """Take the frame that is sent now; return the one that arrives now."""
        dice, kind = self._dice, self._kind
        if kind == "lost":
            return None if dice.random() < 0.5 else frame
        if kind == "burst":
            self._burst = self._burst - 1 if self._burst > 0 else (dice.randrange(40) if dice.random() < 0.05 else 0)
            return None if self._burst else frame
        if kind in ("late", "reordered", "doubled"):
            return self._queued(frame)
        if kind == "frozen":
            self._frozen = self._frozen or dict(frame.values)
            return frame._replace(values=self._frozen)
        if kind == "garbage" and dice.random() < 0.1:
            broken: dict[str, Any] = dict(frame.values)
            broken[dice.choice(list(broken))] = dice.choice((math.nan, math.inf, -1e9, 1e9, None, "x"))
            return frame._replace(values=broken)
        if kind == "failsafe" and dice.random() < 0.3:
            return frame._replace(link_good=False, note="failsafe")
        return frame

    def _queued(self, frame: Frame) -> Frame | None:
        self._waiting.append(frame)
        if self._kind == "doubled":
            return self._waiting[0] if len(self._waiting) < 2 else self._waiting.popleft()
        if len(self._waiting) < (12 if self._kind == "late" else 3):
            return None
        if self._kind == "reordered" and self._dice.random() < 0.3:
            self._waiting.rotate(1)
        return self._waiting.popleft()
