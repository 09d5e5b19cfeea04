"""A figure of a script: the path, speed and height of the robot."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from tenuto.figures.drive import BLUE, COLOURS, GREY, ORANGE, RED
from tenuto.motion.course import Course

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


def draw_path(ax: Axes, course: Course, within: float = math.inf) -> None:
    """Draw the path from above, x up and y to the left, with its start and end, and its limit."""
    path, written = course.path, course.written
    ax.plot(written.y, written.x, color=GREY, linewidth=1, linestyle=":", label="as written")
    ax.plot(path.y, path.x, color=BLUE, linewidth=2)
    ax.plot([0.0], [0.0], "o", color=BLUE, markersize=9, markeredgecolor="white", label="start")
    ax.plot([path.y[-1]], [path.x[-1]], "s", color=BLUE, markersize=9, markeredgecolor="white", label="end")
    if math.isfinite(within):
        turns = [math.tau * step / 200 for step in range(201)]
        ax.plot([within * math.sin(a) for a in turns], [within * math.cos(a) for a in turns], "--", color=RED,
                label=f"within {within:g} m")  # fmt: skip
    ax.set_aspect("equal", adjustable="datalim")
    ax.invert_xaxis()
    ax.grid(color="#e3e5e8", linewidth=0.6)
    ax.set_title("path seen from above", fontsize=10)
    ax.set_xlabel("y (left), m")
    ax.set_ylabel("x (forward at the start), m")
    ax.legend(loc="best", fontsize=9)


def draw_speeds(ax: Axes, course: Course) -> None:
    """Draw the speeds over time."""
    for row, (name, colour) in enumerate((("forward", BLUE), ("left", ORANGE), ("up", COLOURS[2]))):
        if abs(course.velocities[:, row]).max() > 0.0:
            ax.plot(course.times, course.velocities[:, row], color=colour, label=name)
    _over_time(ax, "speed, m/s")


def draw_turning(ax: Axes, course: Course) -> None:
    """Draw the turning over time."""
    ax.plot(course.times, course.velocities[:, 3] * 180.0 / math.pi, color=ORANGE, label="turn left")
    _over_time(ax, "turning, deg/s")


def draw_height(ax: Axes, course: Course) -> None:
    """Draw the distance from the start, and the height, over time."""
    distance = (course.path.places**2).sum(axis=1) ** 0.5
    ax.plot(course.times, distance, color=BLUE, label="from the start")
    if abs(course.path.z).max() > 0.0:
        ax.plot(course.times, course.path.z, color=COLOURS[2], label="height")
    _over_time(ax, "distance, m")
    ax.set_xlabel("time, s")


def _over_time(ax: Axes, unit: str) -> None:
    ax.axhline(0.0, color=GREY, linewidth=0.6, zorder=0)
    ax.grid(color="#e3e5e8", linewidth=0.6)
    ax.set_ylabel(unit)
    ax.legend(loc="lower left", bbox_to_anchor=(0.0, 1.0), ncols=3, fontsize=9, frameon=False)


def script_figure(name: str, course: Course, within: float = math.inf) -> Figure:
    """Draw a script on one page: path, speeds, turning, distances."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    FigureCanvasAgg(figure)
    grid = figure.add_gridspec(3, 2, width_ratios=(1.0, 1.1))
    draw_path(figure.add_subplot(grid[:, 0]), course, within)
    first = figure.add_subplot(grid[0, 1])
    draw_speeds(first, course)
    draw_turning(figure.add_subplot(grid[1, 1], sharex=first), course)
    draw_height(figure.add_subplot(grid[2, 1], sharex=first), course)
    figure.suptitle(f"{name}: {course.seconds:.1f} s, at most {course.excursion:.2f} m away", fontweight="bold")
    return figure
