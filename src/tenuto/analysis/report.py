"""The content of a report on a drive: facts, the guard's events, and the numbers of its figures."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tenuto.analysis.logs import ticks_of
from tenuto.analysis.summary import summarise
from tenuto.basics.number import Array
from tenuto.driving.guard import State
from tenuto.driving.plan import Plan
from tenuto.sim.robots import PathPoint
from tenuto.sinks.simulated import SimulatedSink

if TYPE_CHECKING:
    import pandas as pd

# A command that the vehicle reduced by more than this was beyond its limits.
_CUT = 1e-6


class Fact(NamedTuple):
    """One line of the report: its name, its value as text, and as a number in SI if there is one."""

    name: str
    text: str
    value: float = math.nan


class StateChange(NamedTuple):
    """A change of the guard's state: time, s; the new state; the reason; and the command's speed then, m/s."""

    time: float
    state: str
    why: str
    speed: float


def path_of(table: pd.DataFrame, plan: Plan) -> SimulatedSink:
    """Drive the simulated robot with the actuators of a log: for a log without odometry, this estimates the path."""
    sink = SimulatedSink()
    sink.start(plan)
    for tick in ticks_of(table):
        sink.write(tick)
    return sink


def frame_gaps(table: pd.DataFrame) -> Array:
    """Return the times between frames, s; and the last one, to the end of the log, if nothing came then."""
    fresh = table[table["new_frame"] == 1]
    came = (fresh["time"] - fresh["frame_age"]).to_numpy()
    if len(came) == 0:
        return np.array([float(table["time"].iloc[-1] - table["time"].iloc[0])])
    gaps = np.diff(came)
    rest = float(table["time"].iloc[-1]) - came[-1]
    return np.append(gaps, rest) if rest > (np.median(gaps) if len(gaps) else 0.0) * 2.0 else gaps


def saturated(table: pd.DataFrame) -> Array:
    """Return for each row whether the demand exceeded the vehicle's limits while somebody drove."""
    cut = np.zeros(len(table), dtype=bool)
    for axis in ("vx", "vy", "vz", "yaw_rate"):
        cut |= (table[f"demand.{axis}"] - table[f"target.{axis}"]).abs().to_numpy() > _CUT
    return np.asarray(cut & (table["guard.state"] == State.DRIVING).to_numpy())


def facts(table: pd.DataFrame, plan: Plan, path: list[PathPoint]) -> list[Fact]:
    """Sum up a drive: distance, speeds, modes, link and loop."""
    summary = summarise(table, path)
    units = plan.chassis.units
    found = [
        Fact("time", f"{summary.seconds:.1f} s, {summary.seconds_driving:.1f} s of it driving", summary.seconds),
        *([Fact("distance, by the commands", f"{summary.distance:.2f} m", summary.distance)] if units.known else []),
        Fact("top speed", units.speed.shown(summary.top_speed), summary.top_speed),
        Fact("top turning speed", units.turn.shown(summary.top_turn_speed, ".0f"), summary.top_turn_speed),
        Fact("stops", f"{len(summary.stops)}, {sum(s.was_moving for s in summary.stops)} of them from motion",
             float(len(summary.stops))),
    ]  # fmt: skip
    for mode, seconds in table["dt"].groupby(table["mode"]).sum().items():
        if mode:
            found.append(Fact(f"in mode {mode}", f"{seconds:.1f} s", float(seconds)))
    if plan.below:
        driving = table[table["guard.state"] == State.DRIVING]
        for driver, seconds in driving["dt"].groupby(driving["driver"]).sum().items():
            found.append(Fact(f"driven by {driver or 'nobody'}", f"{seconds:.1f} s", float(seconds)))
    beyond = float(table["dt"].to_numpy()[saturated(table)].sum())
    found.append(Fact("demand beyond the vehicle", f"{beyond:.1f} s", beyond))
    return found + _link_facts(table, plan) + _far_facts(table) + _loop_facts(table, plan)


def _link_facts(table: pd.DataFrame, plan: Plan) -> list[Fact]:
    gaps, timeout = frame_gaps(table), plan.guard.link_timeout
    longest, lost = float(gaps.max()), int((gaps > timeout).sum())
    rate = 1.0 / float(np.median(gaps)) if len(gaps) and np.median(gaps) > 0.0 else 0.0
    quality = table["link.quality"]
    said = (
        [Fact("link quality, at worst", f"{quality.min():.0f} %", float(quality.min()))]
        if quality.notna().any()
        else []
    )
    return [
        Fact("ticks with a new frame", f"{int(table['new_frame'].sum())}, usually {rate:.0f} a second", rate),
        Fact("longest silence", f"{longest:.2f} s (link_timeout {timeout:g} s)", longest),
        Fact("silences beyond the timeout", f"{lost}", float(lost)),
        *(_counted("broken frames", table, "link.bad") + _counted("frames that the receiver lost", table, "link.lost")),
        *said,
    ]


def far_names(table: pd.DataFrame) -> list[str]:
    """Name the far ends that have columns in a log."""
    return list(dict.fromkeys(str(one).split(".")[1] for one in table.columns if str(one).startswith("far.")))


def _far_facts(table: pd.DataFrame) -> list[Fact]:
    """Sum up the answers of each far end: the longest silence, the time it did not follow, battery, round trip."""
    found: list[Fact] = []
    driving = (table["guard.state"] == State.DRIVING).to_numpy()
    dt = table["dt"].to_numpy()
    for name in far_names(table):
        silent = (table["time"] - table[f"far.{name}.time"]).max()
        found.append(Fact(f"{name}: longest silence", f"{silent:.2f} s", float(silent)))
        stands = float(dt[driving & (table.get(f"far.{name}.follows", 1.0) == 0.0)].sum())
        if stands:
            found.append(Fact(f"{name}: driven, but did not follow", f"{stands:.1f} s", stands))
        for what, least, scale, unit in (
            ("voltage", True, 1.0, "V"), ("charge", True, 100.0, "%"), ("height", False, 1.0, "m"),
            ("round_trip", False, 1000.0, "ms"), ("loss", False, 100.0, "%"),
        ):  # fmt: skip
            column = table.get(f"far.{name}.{what}")
            if column is not None and column.notna().any() and (what != "height" or column.max() > 0.05):
                value = float(column.min() if least else column.max())
                said = f"{name}: {what.replace('_', ' ')}, at {'least' if least else 'most'}"
                found.append(Fact(said, f"{scale * value:.3g} {unit}", value))
    return found


def _counted(name: str, table: pd.DataFrame, column: str) -> list[Fact]:
    """Describe a count that grew over the drive, if the source counts it."""
    counts = table[column].dropna() if column in table.columns else None
    if counts is None or counts.empty:
        return []
    grown = float(counts.iloc[-1] - counts.iloc[0])
    return [Fact(name, f"{grown:.0f}", grown)]


def _loop_facts(table: pd.DataFrame, plan: Plan) -> list[Fact]:
    steps = np.diff(table["time"].to_numpy())
    if len(steps) == 0:
        return []
    late = int((steps > 1.5 * plan.period).sum())
    worst = float(steps.max())
    return [
        Fact("ticks", f"{len(table)}, {1.0 / float(np.median(steps)):.0f} a second", float(len(table))),
        Fact("ticks more than half a period late", f"{late}", float(late)),
        Fact("longest step of the loop", f"{1000.0 * worst:.0f} ms (planned {1000.0 * plan.period:.0f} ms)", worst),
    ]


def events(table: pd.DataFrame) -> list[StateChange]:
    """List the changes of the guard's state."""
    states = table["guard.state"].to_numpy()
    rows = np.flatnonzero(np.r_[True, states[1:] != states[:-1]])
    return [
        StateChange(
            float(table["time"].iloc[row]), str(states[row]), str(table["guard.reasons"].iloc[row]),
            float(np.hypot(table["command.vx"].iloc[row], table["command.vy"].iloc[row])),
        )
        for row in rows.tolist()
    ]  # fmt: skip
