"""A log on the page: the robot's position, the sticks, and the explanation, at the selected moment."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import numpy as np

from tenuto.analysis.logs import ticks_of
from tenuto.analysis.report import path_of
from tenuto.analysis.why import explain_at, plan_of_log
from tenuto.basics.reasons import Code
from tenuto.basics.text import parted
from tenuto.driving.plan import Planned
from tenuto.page.facts import robot_facts, tick_facts
from tenuto.views.scene import scene_of

if TYPE_CHECKING:
    import pandas as pd

# Number of points of the whole drive that are drawn.
_POINTS = 600
_DIGITS = 3


class Player:
    """A log, moment by moment.

    Attributes:
        robot: the data of the robot for the page.
    """

    def __init__(self, table: pd.DataFrame, planned: Planned, title: str, origin: str) -> None:
        """Take a log and its profile.

        Args:
            table: as `tenuto.load_log` returns it. planned: the profile. title: the robot's name. origin: the log's.
        """
        self._table, self._planned = table, planned
        plan = plan_of_log(table, planned)
        self._times = table["time"].to_numpy()
        self._scene = scene_of(plan, title, origin)
        self.robot = robot_facts(plan, title, origin)
        self._path = self._poses()

    def overview(self) -> dict[str, Any]:
        """Describe the whole log: duration, states of the guard, notes, and the commanded speed."""
        few = np.unique(np.linspace(0, len(self._times) - 1, _POINTS).astype(int))
        return {
            "type": "log",
            "begin": float(self._times[0]),
            "end": float(self._times[-1]),
            "states": list(self._states()),
            "marks": list(self._marks()),
            "times": self._times[few].round(_DIGITS).tolist(),
            "speed": self._table["command.vx"].to_numpy()[few].round(_DIGITS).tolist(),
            "path": [[round(one, _DIGITS) for one in pose] for pose in self._path[few].tolist()] if self._known else [],
        }

    def at(self, time: float) -> dict[str, Any]:
        """Return the data of the page at a time, s, with the explanation; of the nearest tick."""
        time = min(max(time, float(self._times[0])), float(self._times[-1])) if math.isfinite(time) else 0.0
        row = max(int(np.searchsorted(self._times, time, side="right")) - 1, 0)
        tick = next(ticks_of(self._table.iloc[row : row + 1]))
        why = explain_at(self._table, self._planned, float(self._times[row]))
        facts = tick_facts(self._scene, tick, True)
        facts["pose"] = [round(float(one), _DIGITS) for one in self._path[row]] if self._known else None
        steps = [{"stage": step.stage, "text": step.text} for step in why.steps]
        return {"type": "tick", **facts, "answer": why.answer, "steps": steps}

    def _poses(self) -> np.ndarray:
        """Return x, y and heading at every tick: as reported by a far end, else integrated from the commands."""
        self._known = True
        for name in {str(column).split(".")[1] for column in self._table.columns if str(column).startswith("far.")}:
            columns = [f"far.{name}.{what}" for what in ("x", "y", "heading")]
            if all(column in self._table.columns for column in columns):
                poses = self._table[columns].ffill().to_numpy()
                if np.isfinite(poses).any():
                    return np.asarray(np.nan_to_num(poses))
        plan = self._planned.plan()
        self._known = plan.chassis.units.known
        if not self._known:
            return np.zeros((len(self._times), 3))
        points = path_of(self._table, plan).robot.path
        at = np.array([one.time for one in points])
        xyh = np.array([(one.x, one.y, one.heading) for one in points])
        rows = np.clip(np.searchsorted(at, self._times - self._times[0], side="right") - 1, 0, len(points) - 1)
        return np.asarray(xyh[rows])

    def _states(self) -> Iterator[list[Any]]:
        """List the states of the guard with their start times."""
        states = self._table["guard.state"].tolist()
        for row, state in enumerate(states):
            if row == 0 or state != states[row - 1]:
                yield [round(float(self._times[row]), _DIGITS), state]

    def _marks(self) -> Iterator[list[Any]]:
        """List the notes with their times."""
        for row, codes in enumerate(self._table["notice_codes"].tolist()):
            texts = zip(codes.split("; "), parted(self._table["notices"].iloc[row]), strict=False)
            notes = [text for code, text in texts if code == Code.NOTE]
            if notes:
                yield [round(float(self._times[row]), _DIGITS), ", ".join(notes)]
