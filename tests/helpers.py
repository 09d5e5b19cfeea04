"""What several tests need: Medlar's profile, and a pipeline that is stepped in simulated time."""

from __future__ import annotations

from typing import Any

from tenuto import Frame, Pipeline, Tick, load_profile
from tenuto.core.pipeline import Planned
from tenuto.data import shipped

MEDLAR = load_profile(shipped("medlar.toml"))
PERIOD = 1.0 / MEDLAR.loop.rate
CENTRE, FORWARD, BACK = 983.0, -30454.0, 30454.0  # raw numbers of Medlar's pad


def pad(forward: float = 0.0, left: float = 0.0, held: bool = False) -> dict[str, float]:
    """What Medlar's pad sends for sticks at −1…1 of their travel."""

    def raw(position: float) -> float:
        return CENTRE + position * ((FORWARD - CENTRE) if position > 0 else (CENTRE - BACK))

    return {"left_y": raw(forward), "right_x": raw(left), "left_shoulder": float(held)}


class Bench:
    """A pipeline on the workbench; every tick is kept."""

    def __init__(self, profile: Planned = MEDLAR) -> None:
        self.pipeline = Pipeline(profile)
        self.now = 0.0
        self.ticks: list[Tick] = []

    def step(self, values: dict[str, float] | None, dt: float = PERIOD, **more: Any) -> Tick:
        self.now += dt
        frame = None if values is None else Frame(self.now, values)._replace(**more)
        self.ticks.append(self.pipeline.step(frame, self.now))
        return self.ticks[-1]

    def run(self, seconds: float, values: dict[str, float] | None) -> Tick:
        for _ in range(round(seconds / PERIOD)):
            self.step(values)
        return self.ticks[-1]

    def drive(self, seconds: float, forward: float = 1.0, left: float = 0.0) -> Tick:
        """Enable as a driver does, then push the sticks."""
        self.run(0.1, pad())
        self.run(0.1, pad(held=True))
        return self.run(seconds, pad(forward, left, held=True))
