"""A drive in a few figures."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from tenuto.analysis.stops import Stop, find_stops
from tenuto.driving.guard import State
from tenuto.sim.robots import PathPoint

if TYPE_CHECKING:
    import pandas as pd

# A robot slower than this, in m/s and rad/s, counts as standing.
STANDING_BELOW = 0.01


@dataclass(frozen=True, slots=True)
class DriveSummary:
    """A drive in a few figures.

    Attributes:
        seconds: from the first tick to the last. ticks: their number.
        seconds_driving: while the guard permitted driving.
        distance: length of the path, m.
        top_speed: fastest command along the ground, m/s. top_turn_speed: rad/s. Both without sign.
        stops: see `Stop`.
    """

    seconds: float
    ticks: int
    seconds_driving: float
    distance: float
    top_speed: float
    top_turn_speed: float
    stops: tuple[Stop, ...]


def summarise(table: pd.DataFrame, path: Sequence[PathPoint]) -> DriveSummary:
    """Sum up a drive.

    Args:
        table: a row per tick, with the columns of a log (docs/formats.md).
        path: of the robot.
    """
    driving = table["guard.state"] == State.DRIVING
    return DriveSummary(
        seconds=float(table["time"].iloc[-1] - table["time"].iloc[0]),
        ticks=len(table),
        seconds_driving=float(table["dt"][driving].sum()),
        distance=distance_along(path),
        top_speed=float(np.hypot(table["command.vx"], table["command.vy"]).max()),
        top_turn_speed=float(table["command.yaw_rate"].abs().max()),
        stops=tuple(find_stops(table)),
    )


def distance_along(path: Sequence[PathPoint], start: float = -np.inf, end: float = np.inf) -> float:
    """Return the length of a path in m, or of the part between two times in s."""
    places = np.array([(point.x, point.y) for point in path if start <= point.time <= end])
    if len(places) < 2:
        return 0.0
    return float(np.hypot(*np.diff(places, axis=0).T).sum())


def roll_out(path: Sequence[PathPoint], stop: Stop) -> tuple[float, float]:
    """Return the duration and distance of the robot's own motion after a stop began, in s and m."""
    stood = next(
        (p.time for p in path if p.time >= stop.stood and max(abs(p.vx), abs(p.yaw_rate)) < STANDING_BELOW),
        path[-1].time,
    )
    return stood - stop.time, distance_along(path, stop.time, stood)
