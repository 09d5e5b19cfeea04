"""The guard's stops in a table of ticks: time, reason, time to standstill, and when it drove again."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from tenuto.driving.guard import State

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True, slots=True)
class Stop:
    """One stop of the guard.

    Attributes:
        time: when the guard began to stop, s.
        stood: when the robot's command had reached standstill, s.
        until: when it permitted driving again, s; None if it never did.
        codes: the codes of its reasons, joined as in the log.
        reasons: the same as text.
        speed: the command's forward speed when it began, m/s.
        was_moving: the robot moved at the beginning of the stop.
    """

    time: float
    stood: float
    until: float | None
    codes: str
    reasons: str
    speed: float
    was_moving: bool

    @property
    def title(self) -> str:
        """A short text for a figure, such as "link quiet"."""
        return self.codes.split("; ")[0].replace("_", " ")


def find_stops(table: pd.DataFrame) -> list[Stop]:
    """List every stop of a drive in order.

    Args:
        table: a row per tick, with the columns of a log (docs/formats.md).
    """
    time = table["time"].to_numpy()
    driving = (table["guard.state"] == State.DRIVING).to_numpy()
    axes = [f"command.{axis}" for axis in ("vx", "vy", "vz", "yaw_rate")]
    standing = (table[axes] == 0.0).all(axis=1).to_numpy()
    stops: list[Stop] = []
    for row in range(1, len(table)):
        if not driving[row - 1] or driving[row]:
            continue
        stood = row + int(standing[row:].argmax()) if standing[row:].any() else len(table) - 1
        again = row + int(driving[row:].argmax()) if driving[row:].any() else None
        stops.append(
            Stop(
                time=float(time[row]),
                stood=float(time[stood]),
                until=None if again is None else float(time[again]),
                codes=str(table["guard.codes"].iloc[row]),
                reasons=str(table["guard.reasons"].iloc[row]),
                speed=float(table["command.vx"].iloc[row - 1]),
                was_moving=not bool(standing[row - 1]),
            )
        )
    return stops
