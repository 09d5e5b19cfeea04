"""Explains the robot's behaviour at one moment of a log."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from tenuto.analysis.logs import ticks_of
from tenuto.basics.errors import RecordingError
from tenuto.driving.explain import Explanation, explain
from tenuto.driving.follow import FOLLOWED, follow_plan, followed_controls
from tenuto.driving.plan import Plan, Planned

if TYPE_CHECKING:
    import pandas as pd

_CODES = ("guard.codes", "notice_codes")


def explain_at(table: pd.DataFrame, planned: Planned, at: float | None = None) -> Explanation:
    """Explain the newest tick at a moment, with the durations of its reasons.

    Args:
        table: a log, as returned by `tenuto.load_log`. planned: the profile or plan that it was driven with.
        at: s on the log's clock; None for its last tick.

    Raises:
        RecordingError: the log has no such moment.
    """
    time = table["time"].to_numpy()
    first, last = float(time[0]), float(time[-1])
    at = last if at is None else at
    if not first <= at <= last:
        raise RecordingError(f"the log goes from {first:.2f} to {last:.2f} s: there is no {at:g} s in it")
    row = int(np.searchsorted(time, at, side="right")) - 1
    tick = next(ticks_of(table.iloc[row : row + 1]))
    return explain(tick, plan_of_log(table, planned), _held_since(table, row))


def plan_of_log(table: pd.DataFrame, planned: Planned) -> Plan:
    """Return the plan that made a log with a profile: that of a following robot if its controls are velocities."""
    plan = planned.plan()
    raw = {str(column).removeprefix("raw.") for column in table.columns if str(column).startswith("raw.")}
    if not raw >= {info.name for info in FOLLOWED}:
        return plan
    return follow_plan(plan, [info for info in followed_controls(plan) if info.name in raw])


def _held_since(table: pd.DataFrame, row: int) -> dict[str, float]:
    """Return for each code of a row the time for which it has held without a break, s."""
    found: dict[str, float] = {}
    for column in _CODES:
        if column not in table.columns:
            continue
        rows = table[column].tolist()
        for code in filter(None, rows[row].split("; ")):
            begun = row
            while begun > 0 and code in rows[begun - 1].split("; "):
                begun -= 1
            found[code] = float(table["time"].iloc[row] - table["time"].iloc[begun])
    return found
