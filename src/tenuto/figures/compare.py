"""Two profiles under the same sticks: curves over each other, commands, their difference, and paths."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from tenuto.figures.drive import BLUE, GREY, ORANGE

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure, SubFigure

    from tenuto.analysis.compare import Comparison

# Distinguished by colour, by lightness and by dashes.
_ABREAST = 4
_LINES = ((BLUE, "-", 2.4), (ORANGE, "--", 1.5))
_AXES = {"vx": "forward", "vy": "left", "vz": "up", "yaw_rate": "turn left"}


def _tidy(ax: Axes) -> None:
    ax.axhline(0.0, color=GREY, linewidth=0.6, zorder=0)
    ax.grid(color="#e3e5e8", linewidth=0.6)
    ax.tick_params(labelsize=8)


def plot_curves(ax: Axes, found: Comparison, control: str) -> None:
    """Draw the demand of one control over its travel, by both profiles."""
    unit = ""
    for name, (colour, dashes, width) in zip(found.names, _LINES, strict=True):
        one = found.curves[(found.curves["control"] == control) & (found.curves["profile"] == name)]
        if len(one):
            unit = str(one["unit"].iloc[0])
            ax.plot(one["position"], one["speed"], color=colour, linestyle=dashes, linewidth=width, label=name)
    ax.set_title(control, fontsize=11, fontweight="bold")
    ax.set_xlabel("share of the travel", fontsize=8.5)
    ax.set_ylabel(f"demand, {unit}", fontsize=8.5)
    ax.legend(fontsize=8, frameon=False, loc="upper left")
    _tidy(ax)


def plot_commands(ax: Axes, found: Comparison, axis: str) -> None:
    """Draw one axis of the command over time by both profiles, and their difference as an area."""
    table, unit = found.commands, found.units.of(axis)
    for name, (colour, dashes, width) in zip(found.names, _LINES, strict=True):
        lines = unit.scale * table[f"{axis} {name}"]
        ax.plot(table["time"], lines, color=colour, linestyle=dashes, linewidth=width, label=name)
    difference = unit.scale * table[f"{axis} difference"]
    ax.fill_between(table["time"], difference, color=GREY, alpha=0.45, linewidth=0, label="difference")
    ax.set_ylabel(f"{_AXES[axis]}, {unit.name}", fontsize=8.5)
    ax.margins(x=0)
    _tidy(ax)


def plot_paths(ax: Axes, found: Comparison) -> None:
    """Draw both paths of the simulated robot from above; x, ahead at the start, is up."""
    for name, (colour, dashes, width) in zip(found.names, _LINES, strict=True):
        one = found.paths[found.paths["profile"] == name]
        ax.plot(one["y"], one["x"], color=colour, linestyle=dashes, linewidth=width, label=name)
        ax.plot(one["y"].iloc[-1], one["x"].iloc[-1], "o", color=colour, markersize=6)
    ax.invert_xaxis()  # y is to the left
    ax.set_aspect("equal", adjustable="datalim")
    ax.set_title("path seen from above, with its end", fontsize=11, fontweight="bold")
    ax.set_xlabel("y (left), m", fontsize=8.5)
    ax.set_ylabel("x (forward at the start), m", fontsize=8.5)
    _tidy(ax)


def compare_figure(found: Comparison, title: str = "") -> Figure:
    """Draw a comparison on one page."""
    from matplotlib.figure import Figure

    controls = list(dict.fromkeys(found.curves["control"]))
    moved = [
        axis
        for axis in _AXES
        if np.abs(found.commands[[f"{axis} {name}" for name in found.names]].to_numpy()).max() > 1e-6
    ]
    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    figure.suptitle(
        title or f"{found.names[0]} and {found.names[1]} under the same sticks", fontsize=13, fontweight="bold"
    )
    above, below = _two(figure.subfigures(2, 1, height_ratios=(1.0, 1.25)))
    # Side by side up to four, and then in rows, so that each stays wide enough to read.
    rows_above = math.ceil(len(controls) / _ABREAST)
    places = np.ravel(above.subplots(rows_above, math.ceil(len(controls) / rows_above)))
    for ax in places[len(controls) :]:
        ax.remove()
    for ax, control in zip(places, controls, strict=False):
        plot_curves(ax, found, control)
    # The paths of vehicles without measures are unknown.
    left, right = _two(below.subfigures(1, 2, width_ratios=(1.7, 1.0))) if found.units.known else (below, None)
    shown = moved or ["vx"]
    rows = np.ravel(left.subplots(len(shown), 1, sharex=True))
    for ax, axis in zip(rows, shown, strict=True):
        plot_commands(ax, found, axis)
    rows[0].set_title("command", fontsize=11, fontweight="bold", loc="left")
    rows[0].legend(fontsize=8, frameon=False, ncols=3, loc="lower right", bbox_to_anchor=(1.0, 1.0))
    rows[-1].set_xlabel("time, s", fontsize=8.5)
    if right is not None:
        plot_paths(right.subplots(), found)
    return figure


def _two(parts: Any) -> tuple[SubFigure, SubFigure]:
    first, second = parts
    return first, second
