"""A drive at a glance: sticks, command, wheels over time, the guard's stops, and the path from above."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from tenuto.analysis.stops import Stop, find_stops
from tenuto.core.guard import State
from tenuto.sim.robots import PathPoint

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

# Told apart by people who are colour-blind, and in grey print by their lightness.
BLUE, ORANGE, RED, GREY = "#0072b2", "#d98500", "#b5122b", "#8a8f98"
_INCHES, _DPI = (12.8, 8.0), 100


def _lines(ax: Axes, time: np.ndarray, lines: Sequence[tuple[str, np.ndarray]], unit: str) -> None:
    """Draw up to two lines, each named in its own colour at the left above the axes."""
    for number, ((name, values), colour) in enumerate(zip(lines, (BLUE, ORANGE), strict=False)):
        # The first line is the wider one, so that it still shows where the second lies on it.
        ax.plot(time, values, color=colour, linewidth=(2.4, 1.2)[number])
        ax.text(
            0.28 * number,
            1.03,
            f"— {name}",
            color=colour,
            fontweight="bold",
            transform=ax.transAxes,
            va="bottom",
        )
    ax.axhline(0.0, color=GREY, linewidth=0.6, zorder=0)
    ax.set_ylabel(unit)
    ax.margins(x=0)
    ax.grid(axis="x", color="#e3e5e8", linewidth=0.6)


def plot_sticks(ax: Axes, table: pd.DataFrame, names: Sequence[str]) -> None:
    """Draw the positions of one or two controls over time; forward and left are up.

    Args:
        ax: where to draw.
        table: a row a tick, with the columns of a log.
        names: the controls, as the profile names them.
    """
    lines = [(f"stick: {name}", table[f"position.{name}"].to_numpy()) for name in names]
    _lines(ax, table["time"].to_numpy(), lines, "share of travel")
    ax.set_ylim(-1.08, 1.08)


def plot_command(ax: Axes, table: pd.DataFrame) -> None:
    """Draw the command over time, with what the driver asked for as a thin line behind it."""
    time = table["time"].to_numpy()
    ax.plot(time, table["demand.vx"], color=BLUE, linewidth=0.7, alpha=0.55, linestyle="--")
    ax.plot(time, table["demand.yaw_rate"], color=ORANGE, linewidth=0.7, alpha=0.55, linestyle="--")
    lines = [
        ("forward, m/s", table["command.vx"].to_numpy()),
        ("turn left, rad/s", table["command.yaw_rate"].to_numpy()),
    ]
    _lines(ax, time, lines, "command")
    ax.text(0.62, 1.03, "--- asked for by the stick", color=GREY, transform=ax.transAxes, va="bottom")


def plot_wheels(ax: Axes, table: pd.DataFrame) -> None:
    """Draw the wheel speeds over time."""
    lines = [
        ("left wheel", table["actuators.left_wheel"].to_numpy()),
        ("right wheel", table["actuators.right_wheel"].to_numpy()),
    ]
    _lines(ax, table["time"].to_numpy(), lines, "wheel, rad/s")


def shade_guard(ax: Axes, table: pd.DataFrame, *, named: bool = False) -> None:
    """Shade the time in which the guard did not permit driving: red for a stop, grey for not enabled.

    Args:
        ax: where to draw, over time in s.
        table: a row a tick, with the columns of a log.
        named: write the state and its first reason into each band.
    """
    time = table["time"].to_numpy()
    states = table["guard.state"].to_numpy()
    starts = np.flatnonzero(np.r_[True, states[1:] != states[:-1]])
    for first, after in zip(starts, np.r_[starts[1:], len(states) - 1], strict=True):
        state = State(states[first])
        if state is State.DRIVING:
            continue
        stopped = state in (State.STOPPING, State.FAULT)
        alpha = 0.30 if state is State.STOPPING else 0.15
        ax.axvspan(time[first], time[after], color=RED if stopped else GREY, alpha=alpha, linewidth=0)
        if named and state is not State.FAULT:
            reason = str(table["guard.codes"].iloc[first]).split("; ")[0].replace("_", " ")
            label = f"stop: {reason}" if stopped else str(state)
            left = min(time[first] + 0.004 * time[-1], 0.985 * time[-1])
            ax.text(
                left, 0.03, label, transform=ax.get_xaxis_transform(), rotation=90, fontsize=8.5, va="bottom",
                fontweight="bold", color=RED if stopped else "#4c525b",
            )  # fmt: skip


def plot_path(ax: Axes, path: Sequence[PathPoint], stops: Sequence[Stop] = ()) -> None:
    """Draw a path from above as the driver sees it at the start: x (forward) up, y to the left, in m.

    An arrow every few seconds shows where the robot faced; the stops that took it from its way are marked.
    """
    points = np.array(path)
    time, x, y, heading = points[:, 0], points[:, 1], points[:, 2], points[:, 3]
    ax.plot(y, x, color=BLUE, linewidth=1.8, zorder=2)
    marked = [min(int(np.searchsorted(time, stop.stood)), len(points) - 1) for stop in stops if stop.was_moving]
    for mark in _spaced(time, x, y, [0, len(points) - 1, *marked]):
        along = (0.3 * np.sin(heading[mark]), 0.3 * np.cos(heading[mark]))
        tip = (y[mark] + along[0], x[mark] + along[1])
        ax.annotate("", tip, (y[mark], x[mark]), arrowprops={"arrowstyle": "-|>", "color": BLUE, "lw": 2}, zorder=3)
        ax.annotate(f"{time[mark]:.0f} s", (y[mark], x[mark]), (7, -3), textcoords="offset points", fontsize=8)
    _mark(ax, x[0], y[0], "start", "o", BLUE)
    _mark(ax, x[-1], y[-1], "end", "s", BLUE)
    for stop, row in zip((stop for stop in stops if stop.was_moving), marked, strict=True):
        _mark(ax, x[row], y[row], f"{stop.title}:\nstopped at {stop.time:.1f} s", "X", RED, -28)
    ax.set_aspect("equal", adjustable="datalim")
    ax.invert_xaxis()
    ax.margins(0.15)
    ax.grid(color="#e3e5e8", linewidth=0.6)
    ax.set_xlabel("y (left), m")
    ax.set_ylabel("x (forward at the start), m")


def _spaced(time: np.ndarray, x: np.ndarray, y: np.ndarray, taken: Sequence[int]) -> list[int]:
    """Pick the points every four seconds that are not on top of one another or of the points taken."""
    marks: list[int] = []
    apart = 0.06 * max(np.ptp(x), np.ptp(y))
    for mark in np.searchsorted(time, np.arange(4.0, time[-1], 4.0)):
        if all(np.hypot(x[mark] - x[other], y[mark] - y[other]) > apart for other in (*taken, *marks)):
            marks.append(int(mark))
    return marks


def _mark(ax: Axes, x: float, y: float, text: str, marker: str, colour: str, down: int = -4) -> None:
    ax.plot([y], [x], marker, color=colour, markersize=10, markeredgecolor="white", zorder=4)
    box = {"facecolor": "white", "edgecolor": "none", "alpha": 0.75, "pad": 1}
    ax.annotate(
        text,
        (y, x),
        (10, down),
        textcoords="offset points",
        color=colour,
        fontweight="bold",
        fontsize=9,
        bbox=box,
    )


def drive_figure(table: pd.DataFrame, path: Sequence[PathPoint], sticks: Sequence[str], title: str = "") -> Figure:
    """Draw a whole drive on one page of 1280 × 800 pixels.

    Args:
        table: a row a tick, with the columns of a log (docs/formats.md).
        path: where the robot was.
        sticks: the controls to show, as the profile names them.
        title: stands above it all.
    """
    # A figure of its own, not pyplot's: no window, no state shared with whoever calls.
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=_INCHES, dpi=_DPI, layout="constrained")
    FigureCanvasAgg(figure)
    grid = figure.add_gridspec(3, 2, width_ratios=(1.55, 1.0))
    first = figure.add_subplot(grid[0, 0])
    rows = [first, *(figure.add_subplot(grid[row, 0], sharex=first) for row in (1, 2))]
    plot_sticks(rows[0], table, sticks)
    plot_command(rows[1], table)
    plot_wheels(rows[2], table)
    for number, ax in enumerate(rows):
        shade_guard(ax, table, named=number == 0)
        ax.tick_params(labelbottom=number == 2)
    rows[2].set_xlabel("time, s")
    above = figure.add_subplot(grid[:, 1])
    plot_path(above, path, find_stops(table))
    above.set_title("path seen from above", fontsize=10)
    figure.suptitle(title, fontweight="bold")
    return figure
