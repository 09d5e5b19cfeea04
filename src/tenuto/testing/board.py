"""Compares the code of a board with the profile here: the same schedule through both, tick by tick.

A schedule is the input of a careless driver and a faulty device: `any_schedule` makes one from a seed. `by_pipeline`
drives it here, `by_program` on a desktop (or on whatever runs the program); `difference` reports where they differ.
"""

from __future__ import annotations

import math
import random
import subprocess
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from tenuto.basics.frame import Frame
from tenuto.driving.pipeline import Pipeline
from tenuto.driving.plan import Plan
from tenuto.driving.tick import Tick
from tenuto.sim.hands import DRIVERS, Hands
from tenuto.vehicles.velocity import VelocityCommand

# The error of numbers computed in float, as a share of full scale.
CLOSE = 1e-5
# This many whole numbers may differ by one per tick: a half may be rounded up on one side and down on the other.
_ODD = 0.02
_LINKS = ("good", "good", "good", "lost", "late", "garbage", "failsafe", "spike", "missing", "bounce")
_CLOCKS = ("steady", "steady", "steady", "stall", "back", "uneven")


class Row(NamedTuple):
    """The input of one moment.

    Attributes:
        ms: time of the step. values: of a new frame, input → raw number; NaN for an invalid one; None for no frame.
        link: False if the receiver reports a lost transmitter. stop, reset: see the pipeline.
        came_at: time of the frame, ms; None for the time of the step.
        earlier: the frames before it since the step before: time, ms, values, link.
    """

    ms: int
    values: Mapping[str, float] | None
    link: bool = True
    stop: bool = False
    reset: bool = False
    came_at: int | None = None
    earlier: tuple[tuple[int, Mapping[str, float], bool], ...] = ()


class Made(NamedTuple):
    """The result of a row on one side."""

    state: str
    reason: str
    values: dict[str, float]
    power: bool
    send: bool
    actions: frozenset[str]

    @classmethod
    def of(cls, tick: Tick) -> Made:
        """Return the result of a tick."""
        reasons = tick.guard.reasons
        # A name that two things share is prefixed with its group.
        named = {f"{of}.{name}": value for of, values in (("actuators", tick.actuators), ("outputs", tick.outputs))
                 for name, value in values.items()}  # fmt: skip
        return cls(
            str(tick.guard.state), str(reasons[0].code) if reasons else "",
            {**tick.wire, **tick.outputs, **tick.actuators, **tick.command._asdict(), **named},
            tick.power, tick.send, frozenset(tick.actions),
        )  # fmt: skip


def any_schedule(plan: Plan, seed: int, scenes: int = 5) -> list[Row]:
    """Make the schedule of a seed: a drive with a correct start, and faults."""
    dice, hands = random.Random(seed), Hands(plan)
    rows: list[Row] = []
    period, ms = round(1000.0 * plan.period), 1000
    for _ in range(scenes):
        driver, link, clock = dice.choice(list(DRIVERS)), dice.choice(_LINKS), dice.choice(_CLOCKS)
        fast = dice.random() < 0.4
        ticks, begins = dice.randrange(20, 120), dice.random() < 0.9
        beginning = hands.begins if begins else 0
        odd = dice.randrange(beginning, beginning + ticks)
        for number in range(beginning + ticks):
            hands.act(driver, dice, plan.period, number if begins else -1)
            faulty = number >= beginning
            values, good = _sent(hands, link if faulty else "good", number - beginning, dice)
            step = period
            if number == odd and clock == "stall":
                step = round(1000.0 * plan.stall_timeout) + dice.randrange(1, 400)
            elif number == odd and clock == "back":
                step = -dice.randrange(1, 500)
            elif clock == "uneven":
                step = dice.randrange(math.ceil(0.6 * period), 2 * period)
            earlier = []
            if fast and faulty and step > 2 and values is not None:
                for at in sorted(dice.sample(range(1, step), min(dice.randrange(4), step - 1))):
                    hands.act(driver, dice, plan.period)
                    came, sound = _sent(hands, link, number - beginning, dice)
                    earlier += [(ms + at, came, sound)] if came is not None else []
                values, good = _sent(hands, "good", 0, dice)
            ms += step
            # If there is a switch for the reset, it is used.
            reset = dice.random() < 0.01 and plan.guard.reset is None
            rows.append(Row(ms, values, good, dice.random() < 0.001, reset, None, tuple(earlier)))
    return rows


def _sent(hands: Hands, link: str, number: int, dice: random.Random) -> tuple[Mapping[str, float] | None, bool]:
    """Return the present frame of a driver over a link, None if it is lost, and whether the link is good."""
    values = hands.values()
    return (values, True) if link == "good" else _spoiled(values, link, number, dice)


def _spoiled(
    values: Mapping[str, float], link: str, number: int, dice: random.Random
) -> tuple[Mapping[str, float] | None, bool]:
    """Return a frame with the faults of a link."""
    if link == "lost":
        return None, True
    if link == "late":
        return (values if number % 5 == 0 else None), True
    if link == "failsafe":
        return values, number > 60
    name = dice.choice(list(values))
    if link == "spike" and dice.random() < 0.05:
        return {**values, name: dice.choice((1e6, -1e6, values[name] * 1.01 + 1.0))}, True
    if link == "garbage" and dice.random() < 0.1:
        return {**values, name: dice.choice((math.nan, math.inf, -math.inf, 0.0))}, True
    if link == "missing" and dice.random() < 0.1:
        return {one: value for one, value in values.items() if one != name}, True
    return (values if link != "bounce" or dice.random() < 0.6 else None), True


def by_pipeline(plan: Plan, rows: Sequence[Row]) -> list[Made]:
    """Drive a schedule here."""
    pipeline, made = Pipeline(plan), []
    for row in rows:
        now = row.ms / 1000.0
        came = now if row.came_at is None else row.came_at / 1000.0
        earlier = tuple(Frame(at / 1000.0, values, link) for at, values, link in row.earlier)
        frame = Frame(came, row.values, row.link, earlier=earlier) if row.values is not None else None
        if row.stop:
            pipeline.emergency_stop("asked for")
        if row.reset:
            pipeline.reset()
        made.append(Made.of(pipeline.step(frame, now)))
    return made


def as_table(rows: Sequence[Row], inputs: Sequence[str]) -> str:
    """Write a schedule as the program of a board reads it."""
    lines = [",".join(("time", ".step", ".link", ".stop", ".reset", *inputs))]

    def add(ms: int, values: Mapping[str, float] | None, *flags: bool) -> None:
        cells = ["" if values is None or name not in values else repr(values[name]) for name in inputs]
        lines.append(",".join((f"{ms / 1000.0:.3f}", *(f"{flag:d}" for flag in flags), *cells)))

    for row in rows:
        for at, values, link in row.earlier:
            add(at, values, False, link, False, False)
        add(row.ms, row.values, True, row.link, row.stop, row.reset)
    return "\n".join(lines) + "\n"


def by_program(command: Sequence[str | Path], plan: Plan, rows: Sequence[Row], begins_ms: int = 0) -> list[Made]:
    """Drive a schedule with a program that reads it and prints ticks; its clock starts at ``begins_ms``.

    Raises:
        RuntimeError: the program fails; with its output.
    """
    inputs = list(dict.fromkeys(reads for control in plan.controls for reads in control.all_reads))
    run = subprocess.run(
        [*map(str, command), str(begins_ms)], input=as_table(rows, inputs), capture_output=True, text=True, check=False
    )
    if run.returncode:
        raise RuntimeError(run.stderr or f"the program ended with {run.returncode}")
    return made_of_output(run.stdout, plan)


def made_of_output(text: str, plan: Plan) -> list[Made]:
    """Read the output of a board's program."""
    header, *lines = text.splitlines()
    return list(_read(header.split(","), lines, plan))


def _read(names: list[str], lines: list[str], plan: Plan) -> Iterator[Made]:
    power = names.index("power")
    for line in lines:
        cells = line.split(",")
        fired = frozenset(
            action.name for action, cell in zip(plan.actions, cells[power + 2 :], strict=True) if cell == "1"
        )
        values = {name: float(cell) for name, cell in zip(names[3:power], cells[3:power], strict=True)}
        yield Made(cells[1], cells[2], values, cells[power] == "1", cells[power + 1] == "1", fired)


def full_scale(plan: Plan) -> dict[str, float]:
    """Return the full scale of each number: of a speed the fastest of any mode, of an actuator its limit."""
    speeds = plan.full_speeds()
    forward, turn = max(speeds.forward, speeds.backward), speeds.turn
    full = {"vx": forward, "vy": max(speeds.sideways, forward), "vz": max(speeds.up, speeds.down), "yaw_rate": turn}
    fastest, _ = plan.chassis.within_reach(VelocityCommand(forward, speeds.sideways, speeds.up, turn))
    does = plan.chassis.actuators(fastest)
    for name, bounds in plan.chassis.bounds().items():
        full[name] = bounds.most if math.isfinite(bounds.most) else abs(does[name])
    for one in plan.actuators:
        for name in one.outputs:
            full[name] = {"duty": 2.0**one.bits, "pulse": 1e5}.get(
                one.form, full.get(one.name, 1.0) * one.gear_ratio * 10.0
            )
    return {name: value or 1.0 for name, value in full.items()}


def difference(plan: Plan, here: Sequence[Made], there: Sequence[Made], close: float = CLOSE) -> str:
    """Describe the first tick at which two sides differ, and the difference; empty if they never do.

    Numbers may differ by ``close`` of full scale, or by ``close`` itself if full scale is less than 1.
    """
    if len(here) != len(there):
        return f"{len(here)} ticks here, {len(there)} there"
    full, odd = full_scale(plan), 0
    for number, (a, b) in enumerate(zip(here, there, strict=True)):
        if (a.state, a.reason, a.power, a.send, a.actions) != (b.state, b.reason, b.power, b.send, b.actions):
            return f"tick {number}: {a[:2]}, {a[3:]} here, {b[:2]}, {b[3:]} there"
        for name, value in b.values.items():
            within = close * max(full.get(name, 1.0), 1.0)
            if name.endswith((".pulse", ".duty")) and abs(a.values[name] - value) == 1.0:
                odd += 1  # a half was rounded up on one side and down on the other
            elif not _near(a.values[name], value, within, name.endswith("_angle")):
                return f"tick {number}: {name} is {a.values[name]:.9g} here, {value:.9g} there"
    return f"{odd} whole numbers are one apart" if odd > 3 + _ODD * len(here) else ""


def _near(a: float, b: float, within: float, turns: bool) -> bool:
    apart = abs(math.remainder(a - b, math.tau)) if turns else abs(a - b)
    return apart <= within
