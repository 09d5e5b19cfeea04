"""Faults and the guard's reactions, one above another."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from tenuto.figures.drive import BLUE, GREY, ORANGE, RED, shade_guard

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from tenuto.analysis.story import Told


def plot_trouble(ax: Axes, told: Told) -> None:
    """Draw the demand, the command, and the robot's speed, with the guard's bands."""
    import pandas as pd

    from tenuto.analysis.story import WELL_AT, WRONG_AT

    table = pd.DataFrame([tick.as_row() for tick in told.ticks])
    time = table["time"].to_numpy()
    shade_guard(ax, table)
    ax.plot(time, table["demand.vx"], color=GREY, linewidth=1.0, linestyle="--", label="demand, m/s")
    ax.plot(time, table["command.vx"], color=BLUE, linewidth=2.0, label="command, m/s")
    points = np.array(told.path)
    ax.plot(points[:, 0], points[:, 4], color=ORANGE, linewidth=1.1, label="simulated robot, m/s")
    if table["command.vz"].abs().max() > 0.0:
        ax.plot(time, table["command.vz"], color="#00795c", linewidth=1.4, label="up, m/s")
    ax.annotate(
        "", (WRONG_AT, 1.02), (WELL_AT, 1.02), xycoords=ax.get_xaxis_transform(), annotation_clip=False,
        arrowprops={"arrowstyle": "|-|", "color": RED, "lw": 1.4, "mutation_scale": 3},
    )  # fmt: skip
    name = told.profile.name.split(",")[0]
    ax.set_title(f"{name}: {told.trouble.title}", loc="left", fontsize=9.5, fontweight="bold")
    reason = told.stop.reasons.split("; ")[0]
    ax.set_title(reason if len(reason) < 90 else f"{reason[:88]}…", loc="right", fontsize=8, color=RED)
    ax.margins(x=0)
    ax.grid(axis="x", color="#e3e5e8", linewidth=0.6)
    ax.axhline(0.0, color=GREY, linewidth=0.6, zorder=0)
    ax.tick_params(labelsize=8)
    ax.legend(fontsize=7.5, loc="center left", bbox_to_anchor=(1.0, 0.5), frameon=False)


def story_figure(stories: Sequence[Told]) -> Figure:
    """Draw all faults on one page of 1280 × 800 pixels."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    FigureCanvasAgg(figure)
    axes = figure.subplots(len(stories), 1, sharex=True)
    for ax, told in zip(axes, stories, strict=True):
        plot_trouble(ax, told)
    axes[-1].set_xlabel("time, s; red bars: something is wrong; the sticks are held all the time")
    figure.suptitle("Five faults, and what the guard does", fontweight="bold")
    return figure
