"""A measurement at a glance: each control at rest and on return, its travel and ends, and each stick's travel."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from tenuto.basics.frame import Frame
from tenuto.calibration.measure import REST_SECONDS, ControlMeasurement, Measurement
from tenuto.figures.drive import BLUE, GREY, ORANGE, RED

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_MOST_ROWS = 6


def plot_rest(ax: Axes, control: ControlMeasurement, resting: np.ndarray) -> None:
    """Draw a control's rest and its returns, as shares of its travel, with its dead zone."""
    if control.kind == "middle":
        half = min(control.high - control.centre, control.centre - control.low)
    else:
        half = control.high - control.low
    rest = 100.0 * (resting - control.centre) / half
    zone = 100.0 * control.dead_zone if np.isfinite(control.dead_zone) and control.dead_zone else 10.0
    ax.hist(rest, bins=np.linspace(-1.6 * zone, 1.6 * zone, 81).tolist(), color=GREY, alpha=0.8, density=True)
    for place in control.places:
        ax.axvline(100.0 * (place - control.centre) / half, color=ORANGE, linewidth=1.5)
    if np.isfinite(control.dead_zone) and control.dead_zone:
        ax.axvspan(-zone if control.kind == "middle" else 0.0, zone, color=BLUE, alpha=0.12, linewidth=0)
        ax.text(
            0.99, 0.95, f"dead zone {zone:.1f} %", transform=ax.transAxes, ha="right", va="top", fontsize=8, color=BLUE
        )
    ax.set_xlim(-1.6 * zone, 1.6 * zone)
    ax.set_yticks([])
    ax.set_ylabel(control.info.name, rotation=0, ha="right", va="center", fontweight="bold")
    if control.verdict == "not good":
        ax.text(0.01, 0.95, control.findings[0].code, transform=ax.transAxes, va="top", fontsize=8, color=RED)


def plot_travel(ax: Axes, control: ControlMeasurement, time: np.ndarray, raw: np.ndarray) -> None:
    """Draw a control's raw numbers over time, with its ends and centre."""
    ax.axvspan(time[0], time[0] + REST_SECONDS, color=GREY, alpha=0.15, linewidth=0)
    ax.plot(time, raw, color=BLUE, linewidth=0.8)
    for value in (control.low, control.centre, control.high):
        ax.axhline(value, color=ORANGE, linewidth=0.9, linestyle="--")
        ax.text(
            1.005, value, f"{value:.6g}", transform=ax.get_yaxis_transform(), fontsize=7.5, va="center", color=ORANGE
        )
    ax.margins(x=0)
    ax.tick_params(labelsize=7.5)


def plot_stick(ax: Axes, x: np.ndarray, y: np.ndarray, title: str) -> None:
    """Draw the travel of a stick with two axes, in raw numbers of the device."""
    ax.plot(x, y, color=BLUE, linewidth=0.6, alpha=0.8)
    ax.set_title(title, fontsize=9)
    ax.set_aspect("equal", adjustable="datalim")
    ax.locator_params(nbins=5)
    ax.tick_params(labelsize=7.5)


def calibration_figure(measurement: Measurement, frames: Sequence[Frame], title: str = "") -> Figure:
    """Draw a measurement on one page of 1280 × 800 pixels: the first six sticks and levers that were moved.

    Args:
        measurement: the result of `tenuto.calibration.measure`.
        frames: the frames themselves.
        title: above all of it.
    """
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    FigureCanvasAgg(figure)
    shown = [one for one in measurement.controls.values() if one.moved and one.kind != "switch"][:_MOST_ROWS]
    heard = [frame for frame in frames if frame.link_good]
    time = np.array([frame.time for frame in heard])
    columns = {name: np.array([frame.values[name] for frame in heard]) for name in measurement.controls}
    grid = figure.add_gridspec(max(len(shown), 2), 3, width_ratios=(1.0, 1.6, 0.9))
    for row, control in enumerate(shown):
        raw = columns[control.info.name]
        left, right = figure.add_subplot(grid[row, 0]), figure.add_subplot(grid[row, 1])
        plot_rest(left, control, raw[time <= time[0] + REST_SECONDS])
        plot_travel(right, control, time, raw)
        if row == 0:
            left.set_title("grey: at rest, orange: on return", fontsize=9)
            right.set_title("raw numbers, with ends and centre", fontsize=9)
        if row == len(shown) - 1:
            left.set_xlabel("% of travel from the centre")
            right.set_xlabel("time, s")
    half = max(len(shown), 2) // 2
    for number, (stick, shape) in enumerate(list(measurement.shapes.items())[:2]):
        ax = figure.add_subplot(grid[:half, 2] if number == 0 else grid[half:, 2])
        plot_stick(ax, columns[f"{stick}_x"], columns[f"{stick}_y"], f"{stick}: travel is {shape}")
    figure.suptitle(title, fontweight="bold")
    return figure
