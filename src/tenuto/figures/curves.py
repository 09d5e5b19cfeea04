"""The complete response of each control: from the device's numbers to shaped, and to speed in each mode."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from tenuto.figures.drive import BLUE, GREY, ORANGE
from tenuto.sticks.resolution import resolution_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from tenuto.analysis.curves import Response

# Distinguishable for colour-blind people, and by their dashes where there is no colour.
_LINES: tuple[tuple[str, Any], ...] = (
    (BLUE, "-"), (ORANGE, "--"), ("#00795c", "-."), ("#8d4a85", ":"), ("#4c525b", (0, (5, 1, 1, 1))),
)  # fmt: skip
_MOST_CONTROLS = 6


def plot_response(ax: Axes, several: Sequence[Response]) -> None:
    """Draw the response of one control: the device's numbers along, shaped up; a dot for each step of the device."""
    first = several[0]
    resting = np.flatnonzero(np.all([one.shaped == 0.0 for one in several], axis=0))
    if len(resting) > 1:
        ax.axvspan(first.raw[resting].min(), first.raw[resting].max(), color=GREY, alpha=0.25, linewidth=0)
    for one, (colour, dashes) in zip(several, _LINES, strict=False):
        ax.plot(one.raw, one.shaped, color=colour, linestyle=dashes, linewidth=1.6, label=_label(one))
        if len(one.raw) <= 300:
            ax.plot(one.raw, one.shaped, ".", color=colour, markersize=2.2)
    low, high = (-1.05 if first.positions.min() < 0.0 else -0.02), 1.05
    ax.set_ylim(low, high)
    ax.axhline(0.0, color=GREY, linewidth=0.6, zorder=0)
    ax.set_title(first.control, fontsize=11, fontweight="bold")
    ax.set_xlabel("raw number of the device", fontsize=8.5)
    ax.grid(color="#e3e5e8", linewidth=0.6)
    ax.tick_params(labelsize=8)
    ax.locator_params(axis="x", nbins=5)
    # A rising curve leaves room at the upper left, a falling one at the upper right.
    rising = first.positions[0] < first.positions[-1]
    ax.legend(fontsize=7.5, loc="upper left" if rising else "upper right", frameon=False, handlelength=2.0)


def plot_speeds(ax: Axes, several: Sequence[Response]) -> None:
    """Draw the speed of one control alone over its position; a line for each mode and set of rates."""
    degrees = several[0].unit == "rad/s"
    scale, unit = (180.0 / math.pi, "deg/s") if degrees else (1.0, several[0].unit)
    shown = _different_speeds(several)[: len(_LINES)]
    for (label, positions, speed, _), (colour, dashes) in zip(shown, _lines_of(shown), strict=True):
        end = f"to {scale * speed[-1]:.3g} {unit}"
        ax.plot(
            positions, scale * speed, color=colour, linestyle=dashes, linewidth=1.6,
            label=f"{label}\n{end}" if label else end,
        )  # fmt: skip
    ax.axhline(0.0, color=GREY, linewidth=0.6, zorder=0)
    ax.set_xlabel("position of its travel", fontsize=8.5)
    ax.set_ylabel(unit, fontsize=8.5)
    ax.grid(color="#e3e5e8", linewidth=0.6)
    ax.tick_params(labelsize=8)
    ax.margins(y=0.12)
    rising = all(speed[0] <= speed[-1] for _, _, speed, _ in shown)
    ax.legend(fontsize=7, loc="upper left" if rising else "upper right", frameon=False, handlelength=2.0)


def _lines_of(shown: Sequence[tuple[str, np.ndarray, np.ndarray, int]]) -> list[tuple[str, Any]]:
    """Return colour and dashes of each speed: those of its response above, unless another speed has them."""
    responses = [response for *_, response in shown]
    free = [number for number in range(len(_LINES)) if number not in responses]
    own = [one < len(_LINES) and one not in responses[:row] for row, one in enumerate(responses)]
    return [_LINES[one if has else free.pop(0)] for one, has in zip(responses, own, strict=True)]


def _different_speeds(several: Sequence[Response]) -> list[tuple[str, np.ndarray, np.ndarray, int]]:
    """List label, positions, speeds, rising, and the number of the response; equal ones once, the fastest first."""
    found: list[tuple[str, np.ndarray, np.ndarray, int]] = []
    for number, one in enumerate(several):
        order = np.argsort(one.positions, kind="stable")
        for way, speeds in one.speeds.items():
            # If all rates have one response, they are not named.
            label = way if one.label else way.split(", ")[0]
            speed = speeds[order]
            same = next((row for row in found if np.array_equal(row[2], speed)), None)
            if same is not None:
                found.remove(same)
                label = label if label in same[0].split("; ") else f"{same[0]}; {label}"
            found.append((label, one.positions[order], speed, same[3] if same is not None else number))
    return sorted(found, key=lambda row: -row[2][-1])


def _label(one: Response) -> str:
    left = resolution_of(one.shaped)
    counts = f"{left.outputs} outputs, from {left.smallest:.2g}"
    return "\n".join([*one.label.split("; "), counts]) if one.label else counts


def curve_figure(found: dict[str, list[Response]], title: str = "") -> Figure:
    """Draw the responses of a profile's driving controls on one page of 1280 × 800 pixels, at most six controls.

    Args:
        found: control → its responses, from `tenuto.analysis.curves.responses`.
        title: above all of it.
    """
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    FigureCanvasAgg(figure)
    shown = list(found.values())[:_MOST_CONTROLS]
    axes = figure.subplots(2, len(shown), squeeze=False, height_ratios=(1.35, 1.0))
    for column, several in enumerate(shown):
        plot_response(axes[0][column], several)
        plot_speeds(axes[1][column], several)
    axes[0][0].set_ylabel("shaped, share of the robot's speed")
    figure.suptitle(title, fontweight="bold")
    return figure
