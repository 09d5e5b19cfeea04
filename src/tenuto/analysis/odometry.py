"""The measured motion of a robot: a CSV or Parquet file of velocities or of poses, on its own clock."""

from __future__ import annotations

from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tenuto.analysis.report import far_names
from tenuto.basics.errors import RecordingError
from tenuto.basics.extras import needs
from tenuto.basics.number import Array
from tenuto.files import read_bytes
from tenuto.vehicles.base import Chassis

if TYPE_CHECKING:
    import pandas as pd

_LEAST_ROWS = 20
# A distance between rows of more than this many usual steps is a gap, and is not used.
_GAP = 5.0
# What was heard no later than this after the number before is the same number, s.
_REPEATED = 1e-3


class Motion(NamedTuple):
    """The motion of a robot, in steps from one measurement to the next; arrays of one length.

    Attributes:
        start, end: of each step, s on the odometry's clock.
        vx: mean speed ahead in it, m/s. yaw_rate: rad/s; all NaN if it was not measured.
    """

    start: Array
    end: Array
    vx: Array
    yaw_rate: Array


def load_odometry(path: str | Path) -> Motion:
    """Read a measured motion.

    Args:
        path: a file that ends in ``.csv`` or ``.parquet`` with a column ``time`` (s, rising), and either ``vx`` (m/s)
            and perhaps ``yaw_rate`` (rad/s), or ``x``, ``y`` (m) and ``heading`` (rad, left positive).

    Raises:
        RecordingError: it cannot be read, lacks those columns, or has too few rows.
    """
    needs("pandas")
    import pandas as pd

    file = Path(path)
    try:
        if file.suffix not in (".csv", ".parquet"):
            raise ValueError("expected a file that ends in .csv or .parquet")
        data = BytesIO(read_bytes(file))
        table = pd.read_csv(data) if file.suffix == ".csv" else pd.read_parquet(data)
        return _motion(table)
    except OSError as error:
        raise RecordingError(f"{path}: cannot be read: {error.strerror or error}") from error
    except (ValueError, TypeError, KeyError) as error:
        raise RecordingError(f"{path}: {error}") from error


def motion_in_log(table: pd.DataFrame, chassis: Chassis) -> Motion:
    """Return what a far end measured during a drive, from its log: its speed, or that of its wheels.

    Args:
        table: a log, as returned by `tenuto.load_log`. chassis: of its profile: converts wheel speeds to a motion.

    Raises:
        RecordingError: no far end has measured either, or not for long enough.
    """
    names = far_names(table)
    why = "this log has no telemetry of a far end"
    for name in names:
        said = table[["time", f"far.{name}.time"]].rename(columns={f"far.{name}.time": "heard"}).copy()
        for axis in ("vx", "yaw_rate"):
            if f"far.{name}.{axis}" in table.columns:
                said[axis] = table[f"far.{name}.{axis}"]
        wheels = {one: f"far.{name}.wheels.{one}" for one in chassis.bounds()}
        if "vx" not in said.columns and set(wheels.values()) <= set(table.columns):
            speeds = {one: table[column].to_numpy(dtype=float) for one, column in wheels.items()}
            vx, _, _, turn = chassis.forward(speeds)
            said["vx"], said["yaw_rate"] = vx, turn
        if "vx" not in said.columns:
            why = f"{name} reports neither its speed nor that of all wheels ({', '.join(wheels)})"
            continue
        said = said.dropna()
        # An answer is as old as its newest number; a repeated number was not measured again.
        newest = said["heard"].cummax().shift(fill_value=-np.inf)
        fresh = said[said["heard"] > newest + _REPEATED].drop(columns="time").rename(columns={"heard": "time"})
        try:
            return _motion(fresh)
        except ValueError as error:
            why = f"{name}: {error}"
    raise RecordingError(f"{why}; or pass the measurement with --odometry")


def _motion(table: pd.DataFrame) -> Motion:
    """Make steps from a table. Raises `ValueError` with a description of the error."""
    columns = set(table.columns)
    pose = {"x", "y", "heading"} <= columns
    if "time" not in columns or not (pose or "vx" in columns):
        have = ", ".join(map(str, table.columns))
        raise ValueError(f"expected columns time, and vx (and yaw_rate), or x, y and heading; it has {have}")
    used = ["time", *(("x", "y", "heading") if pose else [name for name in ("vx", "yaw_rate") if name in columns])]
    numbers = table[used].astype("float64").to_numpy()
    bad = np.flatnonzero(~np.isfinite(numbers).all(axis=1))
    if len(bad):
        raise ValueError(f"row {bad[0] + 2} has a value that is not a number")
    time = numbers[:, 0]
    back = np.flatnonzero(np.diff(time) <= 0.0)
    if len(back):
        raise ValueError(
            f"its time does not increase from {time[back[0]]:g} s to {time[back[0] + 1]:g} s, row {back[0] + 3}"
        )
    if len(time) < _LEAST_ROWS:
        raise ValueError(f"expected at least {_LEAST_ROWS} rows, found {len(time)}")
    whole = np.diff(time) <= _GAP * _usual_step(np.diff(time))
    start, end = time[:-1][whole], time[1:][whole]
    if pose:
        x, y, heading = numbers[:, 1:].T
        vx, turn = _of_poses(x, y, heading, np.diff(time))
    else:
        vx = (numbers[:-1, 1] + numbers[1:, 1]) / 2.0
        turn = (numbers[:-1, 2] + numbers[1:, 2]) / 2.0 if "yaw_rate" in columns else np.full(len(vx), np.nan)
    return Motion(start, end, vx[whole], turn[whole])


def _usual_step(steps: Array) -> float:
    """Return the step that half of the time is made of, s: rows that were received in bursts take no time."""
    rising = np.sort(steps)
    return float(rising[np.searchsorted(np.cumsum(rising), rising.sum() / 2.0)])


def _of_poses(x: Array, y: Array, heading: Array, dt: Array) -> tuple[Array, Array]:
    """Return speeds from poses: the chord of an arc lies half the turn from the heading, and is shorter by sinc."""
    turn = np.diff(np.unwrap(heading))
    middle = np.unwrap(heading)[:-1] + turn / 2.0
    chord = np.diff(x) * np.cos(middle) + np.diff(y) * np.sin(middle)
    return chord / np.sinc(turn / 2.0 / np.pi) / dt, turn / dt
