"""The command and the measured motion, on one clock."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from tenuto.analysis.measure import WINDOW
from tenuto.basics.number import Array
from tenuto.figures.drive import BLUE, GREY, ORANGE

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from tenuto.analysis.measure import Measured, Response

_NAMES = {"vx": ("ahead", "m/s", 1.0), "yaw_rate": ("turning to the left", "deg/s", math.degrees(1.0))}


def plot_response(ax: Axes, table: pd.DataFrame, response: Response) -> None:
    """Draw one motion over time: the command, the measurement, and the model of the command; all in the same means."""
    name, unit, scale = _NAMES[response.axis]
    ax.plot(response.time, scale * response.measured, ".", color=GREY, markersize=2.0, label="measured")
    command = scale * _means(table, f"command.{response.axis}", response.time)
    ax.plot(response.time, command, color=ORANGE, linewidth=1.2, label="commanded")
    ax.plot(response.time, scale * response.modelled, color=BLUE, linewidth=1.6, label="by the model")
    low, high = float(command.min()), float(command.max())
    room = 0.25 * max(high - low, 1e-3)
    ax.set_ylim(low - room, high + room)
    ax.set_title(f"{name}, {unit}", fontsize=11, fontweight="bold", loc="left")
    ax.margins(x=0)
    ax.grid(color="#e3e5e8", linewidth=0.6)


def _means(table: pd.DataFrame, column: str, middles: Array) -> Array:
    """Return the means of a command over the windows of the measurement; each command holds until the next."""
    time, held = table["time"].to_numpy(dtype=float), table[column].to_numpy(dtype=float)
    gone = np.concatenate([[0.0], np.cumsum(held[:-1] * np.diff(time))])
    ends = (np.interp(middles + side * WINDOW / 2.0, time, gone) for side in (1.0, -1.0))
    return np.asarray(np.subtract(*ends) / WINDOW)


def plot_follow(ax: Axes, table: pd.DataFrame, response: Response) -> None:
    """Draw measured over commanded, each at the time at which the command arrives; a line for one to one."""
    _, unit, scale = _NAMES[response.axis]
    x, y = scale * response.modelled / response.scale.value, scale * response.measured
    ends = np.array([x.min(), x.max()])
    ax.plot(x, y, ".", color=GREY, markersize=2.0)
    ax.plot(ends, ends, color=ORANGE, linewidth=1.0, linestyle="--", label="as commanded")
    ax.plot(ends, response.scale.value * ends, color=BLUE, linewidth=1.6, label=f"times {response.scale.value:.3f}")
    ax.set_xlabel(f"commanded, with delay and lag, {unit}", fontsize=8.5)
    ax.set_ylabel(f"measured, {unit}", fontsize=8.5)
    room = 0.25 * max(float(np.ptp(ends)), 1e-3)
    ax.set_ylim(ends[0] - room, ends[1] + room)
    ax.grid(color="#e3e5e8", linewidth=0.6)


def measure_figure(table: pd.DataFrame, found: Measured, title: str = "") -> Figure:
    """Draw everything that could be measured on one page."""
    from matplotlib.figure import Figure

    responses = list(found.responses.values())
    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    figure.suptitle(title or "Does it follow its commands?", fontsize=13, fontweight="bold")
    if not responses:
        figure.text(0.5, 0.5, "\n".join(found.warnings), ha="center", va="center")
        return figure
    rows = figure.subplots(len(responses), 2, width_ratios=(2.4, 1.0), squeeze=False)
    for (left, right), response in zip(rows, responses, strict=True):
        plot_response(left, table, response)
        plot_follow(right, table, response)
        right.legend(fontsize=8, frameon=False, loc="upper left")
    rows[0][0].legend(fontsize=8, frameon=False, ncols=3, loc="lower right", bbox_to_anchor=(1.0, 1.0))
    rows[-1][0].set_xlabel(f"time of the log, s; each speed is its mean over {WINDOW:g} s", fontsize=8.5)
    return figure
