"""Five faults, one after another, on the shipped robots, and the reaction of the guard to each."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

from tenuto.analysis.stops import Stop, find_stops
from tenuto.basics.frame import Frame
from tenuto.driving.pipeline import Pipeline
from tenuto.driving.tick import Tick
from tenuto.profile.profile import Profile
from tenuto.sim.hands import Hands
from tenuto.sim.robots import PathPoint, simulated_robot

# Times of the fault, of its end, and of the end of the story, s.
WRONG_AT, WELL_AT, END = 5.0, 7.0, 12.0


class Trouble(NamedTuple):
    """One fault.

    Attributes:
        title: a short text. robot: one of the shipped ones. pushed: the sticks that are held all the time.
        happens: turns a frame into the one that arrives; None for no frame.
        stalls: how long the loop hangs at the beginning of the fault, s.
        pressed: what is pressed during the fault.
    """

    title: str
    robot: str
    pushed: dict[str, float]
    happens: Callable[[Frame], Frame | None] = lambda frame: frame
    stalls: float = 0.0
    pressed: str | None = None


def _garbled(reads: str) -> Callable[[Frame], Frame]:
    return lambda frame: frame._replace(values={**frame.values, reads: math.nan})


TROUBLES = (
    Trouble("the radio goes silent", "medlar", {"drive": 0.9, "steer": 0.3}, lambda frame: None),
    Trouble("a number is corrupt", "quince", {"throttle": 0.9, "steer": 0.5}, _garbled("left_y")),
    Trouble("the emergency stop is pressed", "medlar-lift", {"drive": 1.0}, pressed="east"),
    Trouble("the computer hangs", "sorrel", {"ahead": 0.9, "steer": 0.2}, stalls=1.0),
    Trouble("the link is lost in flight", "damson", {"forward": 0.9, "climb": 0.6}, lambda frame: None),
)


@dataclass(frozen=True, slots=True)
class Told:
    """The course of one fault.

    Attributes:
        trouble, profile: see there. ticks: all of them. path: of the simulated robot.
        stop: of the guard.
    """

    trouble: Trouble
    profile: Profile
    ticks: list[Tick]
    path: list[PathPoint]
    stop: Stop


def tell(trouble: Trouble, profile: Profile) -> Told:
    """Run it: enabled, driven, and the sticks held all the time; nobody releases anything."""
    import pandas as pd

    plan = profile.plan()
    pipeline, hands, robot = Pipeline(plan.without_far_end()), Hands(plan), simulated_robot(plan.chassis)
    ticks: list[Tick] = []
    now, hung = 0.0, trouble.stalls
    while now < END:
        step = plan.period
        wrong = WRONG_AT <= now < WELL_AT
        if wrong and hung:
            step, hung = hung, 0.0
        robot.advance(step)
        now += step
        pushed = trouble.pushed if now > 1.0 else {}
        values = hands.put(now > 0.5, trouble.pressed if wrong else None, **pushed)
        frame: Frame | None = Frame(now, values)
        if wrong and frame is not None:
            frame = trouble.happens(frame)
        ticks.append(pipeline.step(frame, now))
        if ticks[-1].send:
            robot.command(ticks[-1].actuators, ticks[-1].valid_for, ticks[-1].power)
    stop = find_stops(pd.DataFrame([tick.as_row() for tick in ticks]))[0]
    return Told(trouble, profile, ticks, robot.path, stop)


def tell_all() -> list[Told]:
    """Run all five."""
    from tenuto.data import shipped
    from tenuto.profile.load import load_profile

    return [tell(trouble, load_profile(shipped(f"{trouble.robot}.toml"))) for trouble in TROUBLES]
