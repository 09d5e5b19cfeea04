"""A drive at a glance: sticks, command, wheels over time, the guard's stops, and the path from above."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from tenuto.analysis.stops import Stop, find_stops
from tenuto.driving.guard import State
from tenuto.figures.robots import draw_robot, outline_of
from tenuto.sim.robots import PathPoint
from tenuto.vehicles import Chassis
from tenuto.vehicles.units import METRIC, Units

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

# Distinguishable for colour-blind people, and in grey print by their lightness.
BLUE, ORANGE, RED, GREY = "#0072b2", "#d98500", "#b5122b", "#8a8f98"
COLOURS = (BLUE, ORANGE, "#00795c", "#8d4a85", "#4c525b", "#5aa9d6")
_ENDINGS = ("angle", "wheel", "track", "thrust")
_INCHES, _DPI = (12.8, 8.0), 100
# The path's part of the figure without its margins, pixels: wide, high. Stops so near to each other have one text.
_PATH_PIXELS, _NEAR_PIXELS = (235, 455), 40
_MARKER: dict[str, Any] = {"markersize": 10, "markeredgecolor": "white", "zorder": 4}


def _align_zeros(ax: Axes, right: Axes) -> None:
    """Draw the zeros of both scales at one height, with room for all lines of each."""
    ends = [one.get_ylim() for one in (ax, right)]
    below = max(max(-low, 0.0) / max(high, -low) for low, high in ends)
    above = max(max(high, 0.0) / max(high, -low) for low, high in ends)
    for one, (low, high) in zip((ax, right), ends, strict=True):
        most = max(high, -low)
        one.set_ylim(-below * most, above * most)


def _lines(
    ax: Axes,
    time: np.ndarray,
    lines: Sequence[tuple[str, np.ndarray]],
    unit: str,
    sides: Sequence[Axes] | None = None,
) -> None:
    """Draw up to six lines, each named in its own colour above the axes; each on its own axes if these are given."""
    left = 0.0
    for number, ((name, values), colour) in enumerate(zip(lines, COLOURS, strict=False)):
        # The first line is wider, so that it still shows where the others cover it.
        (sides[number] if sides is not None else ax).plot(
            time, values, color=colour, linewidth=2.4 if number == 0 else 1.2
        )
        ax.text(
            left, 1.03, f"— {name}", color=colour, fontweight="bold", fontsize=9, transform=ax.transAxes, va="bottom"
        )
        left += 0.045 + 0.0135 * len(name)
    ax.axhline(0.0, color=GREY, linewidth=0.6, zorder=0)
    ax.set_ylabel(unit)
    ax.margins(x=0)
    ax.grid(axis="x", color="#e3e5e8", linewidth=0.6)


def plot_sticks(ax: Axes, table: pd.DataFrame, names: Sequence[str]) -> None:
    """Draw the positions of some controls over time; forward and left are up.

    Args:
        ax: where to draw.
        table: a row per tick, with the columns of a log.
        names: the controls, as the profile names them.
    """
    lines = [
        (f"stick: {name}" if number == 0 else name, table[f"position.{name}"].to_numpy())
        for number, name in enumerate(names)
    ]
    _lines(ax, table["time"].to_numpy(), lines, "share of travel")
    ax.set_ylim(-1.08, 1.08)


def plot_command(ax: Axes, table: pd.DataFrame, units: Units = METRIC) -> None:
    """Draw the command over time, with the demand as a thin line behind it; axes that rest are left out.

    Args:
        ax: where to draw. table: a row per tick, with the columns of a log. units: of the vehicle.
    """
    time = table["time"].to_numpy()
    names = {"vx": "forward", "yaw_rate": "turn left", "vy": "left", "vz": "up"}
    moved = [axis for axis in names if axis in ("vx", "yaw_rate") or table[f"command.{axis}"].abs().max() > 1e-6]
    # Degrees have another magnitude than metres, so their scale is on the right.
    right = ax.twinx() if units.known else ax
    sides = {axis: right if axis == "yaw_rate" else ax for axis in moved}
    for axis, colour in zip(moved, COLOURS, strict=False):
        asked = units.of(axis).scale * table[f"demand.{axis}"]
        sides[axis].plot(time, asked, color=colour, linewidth=0.7, alpha=0.55, linestyle="--")
    lines = [(names[axis], units.of(axis).scale * table[f"command.{axis}"].to_numpy()) for axis in moved]
    _lines(ax, time, lines, f"command, {units.speed.name}", [sides[axis] for axis in moved])
    if right is not ax:
        _align_zeros(ax, right)
        right.set_ylabel(units.turn.name, color=ORANGE)
        right.tick_params(axis="y", colors=ORANGE)
    ax.text(1.0, 1.03, "--- demand", color=GREY, transform=ax.transAxes, va="bottom", ha="right", fontsize=8.5)


def plot_actuators(ax: Axes, table: pd.DataFrame, ending: str) -> None:
    """Draw the actuators whose names have a suffix: "wheel", "track", "angle", "thrust", or "" for all others."""
    degrees = 180.0 / np.pi
    unit, scale = {
        "wheel": ("wheel, deg/s", degrees), "track": ("sprocket, deg/s", degrees), "angle": ("angle, deg", degrees),
        "thrust": ("thrust, N", 1.0),
    }.get(ending, ("share of full", 1.0))  # fmt: skip
    columns = actuator_columns(table)[ending]
    lines = [
        (
            column.removeprefix("actuators.").removesuffix(f"_{ending}").replace("_", " "),
            scale * table[column].to_numpy(),
        )
        for column in columns
    ]
    _lines(ax, table["time"].to_numpy(), lines, unit)


def actuator_columns(table: pd.DataFrame) -> dict[str, list[str]]:
    """Sort the columns of the actuators by the suffixes of their names, those that steer first."""
    found: dict[str, list[str]] = {}
    for column in table.columns:
        if str(column).startswith("actuators."):
            ending = str(column).rpartition("_")[2]
            found.setdefault(ending if ending in _ENDINGS else "", []).append(str(column))
    return {ending: found[ending] for ending in (*_ENDINGS, "") if ending in found}


def shade_guard(ax: Axes, table: pd.DataFrame, *, named: bool = False) -> None:
    """Shade the time in which the guard did not permit driving: red for a stop, grey for not enabled.

    Args:
        ax: where to draw, over time in s.
        table: a row per tick, with the columns of a log.
        named: write the state and its first reason into each band.
    """
    time = table["time"].to_numpy()
    states = table["guard.state"].to_numpy()
    starts = np.flatnonzero(np.r_[True, states[1:] != states[:-1]])
    written = -np.inf
    for first, after in zip(starts, np.r_[starts[1:], len(states) - 1], strict=True):
        state = State(states[first])
        if state is State.DRIVING:
            continue
        stopped = state in (State.STOPPING, State.FAULT, State.EMERGENCY_STOP)
        alpha = 0.30 if state is State.STOPPING else 0.15
        ax.axvspan(time[first], time[after], color=RED if stopped else GREY, alpha=alpha, linewidth=0)
        if named and state is not State.FAULT:
            reason = str(table["guard.codes"].iloc[first]).split("; ")[0].replace("_", " ")
            label = f"stop: {reason}" if stopped else str(state)
            left = min(time[first] + 0.004 * time[-1], 0.985 * time[-1])
            if left - written < 0.012 * time[-1]:
                continue  # there is no room beside the last one
            written = left
            ax.text(
                left, 0.03, label, transform=ax.get_xaxis_transform(), rotation=90, fontsize=8.5, va="bottom",
                fontweight="bold", color=RED if stopped else "#4c525b",
            )  # fmt: skip


def plot_path(
    ax: Axes,
    path: Sequence[PathPoint],
    stops: Sequence[Stop] = (),
    chassis: Chassis | None = None,
    actuators: Sequence[Mapping[str, float]] = (),
) -> None:
    """Draw a path from above as the driver sees it at the start: x (forward) up, y to the left, in m.

    Every few seconds the robot is drawn at its position, with its wheels at their angles; stops from motion are
    marked.

    Args:
        ax: where to draw.
        path: of the robot. stops: of the guard.
        chassis: the vehicle; an arrow replaces it by default. actuators: at each point of the path.
    """
    points = np.array(path)
    time, x, y, heading = points[:, 0], points[:, 1], points[:, 2], points[:, 3]
    ax.plot(y, x, color=BLUE, linewidth=1.8, zorder=2)
    marked = [min(int(np.searchsorted(time, stop.stood)), len(points) - 1) for stop in stops if stop.was_moving]
    # A robot that is small compared with its path is drawn larger: its wheels must be visible.
    size = (
        1.0 if chassis is None else max(1.0, 0.055 * max(np.ptp(x), np.ptp(y), 1.0) / np.ptp(outline_of(chassis)[:, 0]))
    )
    long = size * np.ptp(outline_of(chassis)[:, 0]) if chassis is not None else 0.0
    texts = _Texts(x, y)
    for mark in _spaced(time, x, y, [0, len(points) - 1, *marked], long):
        texts.leave_out(x[mark], y[mark], long)
        if chassis is None:
            tip = (y[mark] + 0.3 * np.sin(heading[mark]), x[mark] + 0.3 * np.cos(heading[mark]))
            ax.annotate("", tip, (y[mark], x[mark]), arrowprops={"arrowstyle": "-|>", "color": BLUE, "lw": 2}, zorder=3)
        else:
            does = actuators[mark] if mark < len(actuators) else None
            draw_robot(ax, chassis, x[mark], y[mark], heading[mark], does, size=size)
        beside = y[mark] - (size * _right_reach(chassis, heading[mark]) if chassis is not None else 0.0)
        ax.annotate(
            f"{time[mark]:.0f} s", (beside, x[mark]), (4, -3), textcoords="offset points", fontsize=8, zorder=7,
            bbox={"facecolor": "white", "edgecolor": "none", "alpha": 0.7, "pad": 1},
        )  # fmt: skip
    if chassis is not None and size > 1.05:
        ax.text(0.99, 0.01, f"robot drawn {size:.1f} times as large", transform=ax.transAxes, ha="right", fontsize=8)
    moved = max(np.ptp(x), np.ptp(y)) > 0.0
    found = [(stop, x[row], y[row]) for stop, row in zip((one for one in stops if one.was_moving), marked, strict=True)]
    for _, forward, left in found:
        ax.plot([left], [forward], "X", color=RED, **_MARKER)
    for near in _together(found, texts.scale):
        texts.write(ax, near[0][1], near[0][2], _stops_text([stop for stop, *_ in near]), RED)
    ends = [(x[0], y[0], "start" if moved else "it did not move", "o")]
    ends += [(x[-1], y[-1], "end", "s")] if moved else []
    for forward, left, text, marker in ends:
        ax.plot([left], [forward], marker, color=BLUE, **_MARKER)
        texts.write(ax, forward, left, text, BLUE)
    ax.set_aspect("equal", adjustable="datalim")
    ax.invert_xaxis()
    ax.margins(0.15)
    ax.grid(color="#e3e5e8", linewidth=0.6)
    ax.set_xlabel("y (left), m")
    ax.set_ylabel("x (forward at the start), m")


def _right_reach(chassis: Chassis, heading: float) -> float:
    """Return how far a robot extends to the right of its middle, seen from above, with its wheels, m."""
    ahead, left = outline_of(chassis).T
    return 1.2 * float(-np.min(ahead * np.sin(heading) + left * np.cos(heading)))


def _spaced(time: np.ndarray, x: np.ndarray, y: np.ndarray, taken: Sequence[int], long: float) -> list[int]:
    """Select the points every four seconds at which a robot of this length does not cover the others or the stops."""
    marks: list[int] = []
    apart = max(0.06 * max(np.ptp(x), np.ptp(y)), 0.85 * long)
    for mark in np.searchsorted(time, np.arange(4.0, time[-1], 4.0)):
        if all(np.hypot(x[mark] - x[other], y[mark] - y[other]) > apart for other in (*taken, *marks)):
            marks.append(int(mark))
    return marks


class _Texts:
    """Texts beside places of a path: none covers another, as far as there is room.

    Attributes:
        scale: m per pixel, of both axes.
    """

    def __init__(self, x: np.ndarray, y: np.ndarray) -> None:
        self.scale = max(np.ptp(x) / _PATH_PIXELS[1], np.ptp(y) / _PATH_PIXELS[0]) or 1.0
        self._middle, self._reach = float(np.min(y) + np.max(y)) / 2.0, 0.65 * _PATH_PIXELS[0] * self.scale
        self._taken: list[tuple[float, float, float, float]] = []

    def leave_out(self, x: float, y: float, long: float) -> None:
        """Write nothing over a robot that is drawn at a place, and is so long, and its time to the right."""
        half = 0.6 * long
        self._taken.append((x - half, x + half, -y - half, -y + half + 30.0 * self.scale))

    def write(self, ax: Axes, x: float, y: float, text: str, colour: str) -> None:
        """Write a text to the right of a place, or to its left; below it, or above."""
        sides = ((1, -1), (1, 1), (-1, -1), (-1, 1))
        boxes = {side: self._box(x, y, text, *side) for side in sides}
        side = min(sides, key=lambda one: self._wrong(boxes[one]))
        self._taken.append(boxes[side])
        ax.annotate(
            text, (y, x), (10 * side[0], 4 * side[1]), textcoords="offset points", color=colour, fontweight="bold",
            fontsize=9, bbox={"facecolor": "white", "edgecolor": "none", "alpha": 0.75, "pad": 1},
            ha="left" if side[0] > 0 else "right", va="top" if side[1] < 0 else "bottom",
        )  # fmt: skip

    def _box(self, x: float, y: float, text: str, right: int, up: int) -> tuple[float, float, float, float]:
        """Return what a text covers, roughly: from and to in x, from and to in −y."""
        lines = text.split("\n")
        high, wide = 15.0 * len(lines) + 4.0, 6.8 * max(map(len, lines)) + 12.0
        ends = (sorted((4.0 * up, up * high)), sorted((8.0 * right, right * wide)))
        (low, top), (near, far) = ([end * self.scale for end in pair] for pair in ends)
        return x + low, x + top, near - y, far - y

    def _wrong(self, box: tuple[float, float, float, float]) -> float:
        """Return how many others a text covers, and how far it is outside."""
        low, top, near, far = box
        covers = sum(top > a and b > low and far > c and d > near for a, b, c, d in self._taken)
        outside = max(-self._middle - self._reach - near, far + self._middle - self._reach, 0.0)
        return covers + outside / (self._reach + outside)


def _together(found: Sequence[tuple[Stop, float, float]], scale: float) -> list[list[tuple[Stop, float, float]]]:
    """Gather the stops that are nearer to each other than a text is high; ``scale`` is m per pixel."""
    groups: list[list[tuple[Stop, float, float]]] = []
    for one in found:
        for group in groups:
            if math.dist(one[1:], group[0][1:]) <= _NEAR_PIXELS * scale:
                group.append(one)
                break
        else:
            groups.append([one])
    return groups


def _stops_text(stops: Sequence[Stop]) -> str:
    """Describe stops at one place: the times of each reason."""
    times: dict[str, list[str]] = {}
    for stop in stops:
        times.setdefault(stop.title, []).append(f"{stop.time:.1f}")
    more = {title: f", and {len(each) - 3} more" if len(each) > 3 else "" for title, each in times.items()}
    return "\n".join(f"{title}:\nstopped at {', '.join(each[:3])} s{more[title]}" for title, each in times.items())


def shade_modes(ax: Axes, table: pd.DataFrame) -> None:
    """Write the selected mode or kind of steering along the top, from the time of its selection."""
    chosen = [" ".join(word for word in pair if word) for pair in zip(table["mode"], table["steering"], strict=True)]
    if not any(chosen):
        return
    time = table["time"].to_numpy()
    for row in range(len(chosen)):
        if row == 0 or chosen[row] != chosen[row - 1]:
            ax.axvline(time[row], color="#4c525b", linewidth=0.8, linestyle=":")
            ax.text(
                time[row] + 0.004 * time[-1], 0.97, chosen[row].replace("_", " "), fontsize=8.5, va="top",
                transform=ax.get_xaxis_transform(), color="#4c525b",
            )  # fmt: skip


def plot_height(ax: Axes, path: Sequence[PathPoint]) -> None:
    """Draw the height of the robot over time."""
    _lines(ax, np.array([p.time for p in path]), [("height", np.array([p.z for p in path]))], "z (up), m")


def drive_figure(
    table: pd.DataFrame,
    path: Sequence[PathPoint],
    sticks: Sequence[str],
    title: str = "",
    chassis: Chassis | None = None,
    actuators: Sequence[Mapping[str, float]] = (),
) -> Figure:
    """Draw a whole drive on one page of 1280 × 800 pixels.

    Args:
        table: a row per tick, with the columns of a log (docs/formats.md).
        path: of the robot.
        sticks: the controls to show, as the profile names them.
        title: above all of it.
        chassis: the vehicle, to be drawn along its path. actuators: their values at each point of the path.
    """
    # A figure of its own, not pyplot's: no window, no state shared with the caller.
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=_INCHES, dpi=_DPI, layout="constrained")
    FigureCanvasAgg(figure)
    endings = list(actuator_columns(table))
    units = METRIC if chassis is None else chassis.units
    rises = max(point.z for point in path) > 0.05 and units.known
    count = 2 + (1 if rises else len(endings))
    # The path of a vehicle without measures is unknown.
    grid = figure.add_gridspec(count, 2, width_ratios=(1.55, 1.0)) if units.known else figure.add_gridspec(count, 1)
    first = figure.add_subplot(grid[0, 0])
    rows = [first, *(figure.add_subplot(grid[row, 0], sharex=first) for row in range(1, count))]
    plot_sticks(rows[0], table, sticks)
    shade_modes(rows[0], table)
    plot_command(rows[1], table, units)
    if rises:
        plot_height(rows[2], path)
    else:
        for ax, ending in zip(rows[2:], endings, strict=True):
            plot_actuators(ax, table, ending)
    for number, ax in enumerate(rows):
        shade_guard(ax, table, named=number == 0)
        ax.tick_params(labelbottom=number == count - 1)
    rows[-1].set_xlabel("time, s")
    if units.known:
        above = figure.add_subplot(grid[:, 1])
        plot_path(above, path, find_stops(table), chassis, actuators)
        above.set_title("path seen from above", fontsize=10)
    figure.suptitle(title, fontweight="bold")
    return figure
