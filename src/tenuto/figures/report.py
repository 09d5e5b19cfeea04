"""The figures of a report: sticks as density, actuators against their ends, the link, the loop."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from tenuto.analysis.report import far_names, frame_gaps, path_of, saturated
from tenuto.driving.plan import Plan
from tenuto.figures.drive import BLUE, COLOURS, GREY, ORANGE, RED, drive_figure, shade_guard

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes
    from matplotlib.axis import Axis
    from matplotlib.figure import Figure

_BINS = 41
_NOT_DRIVEN = "it was not driven"


def plot_stick_density(ax: Axes, table: pd.DataFrame, x: str, y: str, dead_zones: tuple[float, float]) -> None:
    """Draw the positions of two controls while somebody drove, darker for longer times; x to the left is drawn left."""
    driving = table[table["guard.state"] == "driving"]
    edges = np.linspace(-1.0, 1.0, _BINS + 1)
    seconds, _, _ = np.histogram2d(
        driving[f"position.{y}"], driving[f"position.{x}"], bins=(edges, edges), weights=driving["dt"]
    )
    if seconds.any():
        shown = np.ma.masked_equal(seconds, 0.0)
        drawn = ax.pcolormesh(edges, edges, shown, cmap="cividis_r", norm="log", rasterized=True)
        ax.figure.colorbar(drawn, ax=ax, label="s", shrink=0.8)
    else:
        ax.text(0.0, 0.5, _NOT_DRIVEN, ha="center", va="center")
    ends = (-1.0, -0.5, 0.0, 0.5, 1.0)
    ax.set(xlim=(-1.0, 1.0), ylim=(-1.0, 1.0), xticks=ends, yticks=ends)
    ax.axvspan(-dead_zones[0], dead_zones[0], color=GREY, alpha=0.25, linewidth=0)
    ax.axhspan(-dead_zones[1], dead_zones[1], color=GREY, alpha=0.25, linewidth=0)
    ax.invert_xaxis()
    ax.set_aspect("equal")
    ax.set_xlabel(f"{x}, share of travel", fontsize=8.5)
    ax.set_ylabel(f"{y}, share of travel", fontsize=8.5)
    ax.set_title(f"{x} and {y}", fontsize=11, fontweight="bold")


def plot_share(ax: Axes, table: pd.DataFrame, name: str, dead_zone: float) -> None:
    """Draw the distribution of one control's positions while somebody drove."""
    driving = table[table["guard.state"] == "driving"]
    ax.hist(
        driving[f"position.{name}"], bins=np.linspace(-1.0, 1.0, _BINS + 1).tolist(), weights=driving["dt"], color=BLUE
    )
    ax.axvspan(-dead_zone, dead_zone, color=GREY, alpha=0.25, linewidth=0)
    ax.set_yscale("symlog", linthresh=0.1)
    ax.set_ylim(bottom=0.0)
    if not driving["dt"].any():
        ax.text(0.5, 0.5, _NOT_DRIVEN, ha="center", va="center", transform=ax.transAxes)
    _plain_numbers(ax.yaxis)
    ax.set_xlabel("share of travel", fontsize=8.5)
    ax.set_ylabel("time, s", fontsize=8.5)
    ax.set_title(name, fontsize=11, fontweight="bold")


def plot_saturation(ax: Axes, table: pd.DataFrame, plan: Plan) -> None:
    """Draw each actuator as a share of its limit over time; shaded where the demand exceeded the vehicle's limits."""
    time = table["time"].to_numpy()
    bounds = plan.chassis.bounds()
    for (name, bound), colour in zip(bounds.items(), COLOURS * 3, strict=False):
        most = bound.most
        if math.isfinite(most) and most > 0.0:
            ax.plot(time, table[f"actuators.{name}"] / most, color=colour, linewidth=1.1, label=name.replace("_", " "))
    ax.fill_between(
        time, -1.05, 1.05, where=saturated(table).tolist(), color=ORANGE, alpha=0.3, linewidth=0, label="beyond it"
    )
    ax.axhline(1.0, color=RED, linewidth=0.8, linestyle="--")
    ax.axhline(-1.0, color=RED, linewidth=0.8, linestyle="--")
    ax.set_ylim(-1.1, 1.1)
    ax.margins(x=0)
    ax.set_ylabel("share of the actuator's end", fontsize=8.5)
    ax.set_xlabel("time, s", fontsize=8.5)
    ax.legend(fontsize=8, frameon=False, ncols=5, loc="lower left", bbox_to_anchor=(0.0, 1.0))
    ax.grid(color="#e3e5e8", linewidth=0.6)


def plot_gaps(ax: Axes, table: pd.DataFrame, plan: Plan) -> None:
    """Draw the distribution of the times between frames, both scales logarithmic; the timeout as a line."""
    gaps = np.maximum(frame_gaps(table), 1e-4)
    timeout = plan.guard.link_timeout
    edges = np.geomspace(min(gaps.min(), timeout) * 0.8, max(gaps.max(), timeout) * 1.3, 40)
    ax.hist(gaps, bins=edges.tolist(), color=BLUE)
    ax.axvline(timeout, color=RED, linewidth=1.4, linestyle="--", label=f"link_timeout {timeout:g} s")
    ax.axvline(float(gaps.max()), color=ORANGE, linewidth=1.4, label=f"longest {gaps.max():.2f} s")
    ax.set_xscale("log")
    ax.set_yscale("log")
    _plain_numbers(ax.xaxis)
    _plain_numbers(ax.yaxis)
    ax.set_xlabel("from one frame to the next, s", fontsize=8.5)
    ax.set_ylabel("how often", fontsize=8.5)
    ax.set_title("link: gaps between frames", fontsize=11, fontweight="bold", pad=20)
    ax.legend(fontsize=8, frameon=False, ncols=2, loc="lower center", bbox_to_anchor=(0.5, 0.99))


def plot_silence(ax: Axes, table: pd.DataFrame, plan: Plan) -> None:
    """Draw the age of the newest frame over time, and the link quality if the receiver reports it."""
    ax.plot(table["time"], table["frame_age"], color=BLUE, linewidth=1.0)
    ax.axhline(plan.guard.link_timeout, color=RED, linewidth=1.0, linestyle="--")
    shade_guard(ax, table)
    ax.set_title("link: age of the newest frame", fontsize=11, fontweight="bold")
    ax.set_ylabel("time, s", fontsize=8.5)
    ax.set_xlabel("time, s", fontsize=8.5)
    ax.margins(x=0)


def plot_loop(ax: Axes, table: pd.DataFrame, plan: Plan) -> None:
    """Draw the duration of each step of the loop."""
    time = table["time"].to_numpy()
    steps = 1000.0 * np.maximum(np.diff(time), 0.5 * plan.period)
    ax.plot(time[1:], steps, ".", color=BLUE, markersize=2.0)
    ax.axhline(1000.0 * plan.period, color=GREY, linewidth=1.0, label="planned")
    ax.axhline(1000.0 * plan.stall_timeout, color=RED, linewidth=1.0, linestyle="--", label="stall_timeout")
    ax.set_yscale("log")
    ax.set_title("loop: from tick to tick", fontsize=11, fontweight="bold")
    ax.set_ylabel("ms", fontsize=8.5)
    ax.set_xlabel("time, s", fontsize=8.5)
    ax.margins(x=0)
    _plain_numbers(ax.yaxis)
    ax.set_ylim(500.0 * plan.period, 1.6 * max(1000.0 * plan.stall_timeout, float(steps.max(initial=0.0))))
    ax.legend(fontsize=8, frameon=False, ncols=2, loc="lower right", bbox_to_anchor=(1.0, 0.99))


def plot_far_end(ax: Axes, table: pd.DataFrame, name: str) -> None:
    """Draw the commanded speed ahead, and that measured by a far end; and its height if it left the ground."""
    time = table["time"].to_numpy()
    ax.plot(time, table["command.vx"], color=BLUE, linewidth=1.2, label="commanded ahead, m/s")
    ax.plot(time, table[f"far.{name}.vx"], color=ORANGE, linewidth=1.0, label="measured there, m/s")
    height = table.get(f"far.{name}.height")
    if height is not None and height.max() > 0.05:
        ax.plot(time, height, color=GREY, linewidth=1.0, linestyle="--", label="height, m")
    stands = (table.get(f"far.{name}.follows", 1.0) == 0.0) & (table["guard.state"] == "driving")
    low, high = ax.get_ylim()
    ax.fill_between(time, low, high, where=stands.tolist(), color=RED, alpha=0.2, linewidth=0, label="does not follow")
    ax.margins(x=0)
    ax.set_title(f"far end: {name}", fontsize=11, fontweight="bold", pad=20)
    ax.set_xlabel("time, s", fontsize=8.5)
    ax.legend(fontsize=8, frameon=False, ncols=4, loc="lower center", bbox_to_anchor=(0.5, 0.99))
    ax.grid(color="#e3e5e8", linewidth=0.6)


def _plain_numbers(axis: Axis) -> None:
    """Write 0.1 and 100, not powers of ten."""
    from matplotlib.ticker import FuncFormatter, NullFormatter

    axis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g}"))
    axis.set_minor_formatter(NullFormatter())


def sticks_figure(table: pd.DataFrame, plan: Plan) -> Figure:
    """Draw all driving controls: those of a stick together, others by themselves."""
    names = [name for name in plan.driving_controls() if f"position.{name}" in table.columns]
    zones = {control.name: control.dead_zone for control in plan.controls}
    zones |= {name: stick.dead_zone for stick in plan.sticks if stick.zone != "axes" for name in (stick.x, stick.y)}
    two_way = {control.name for control in plan.controls if not control.one_way}
    pairs = [(stick.x, stick.y) for stick in plan.sticks if stick.x in names and stick.y in names]
    if not pairs and len(names) == 2 and set(names) <= two_way:
        pairs = [(names[1], names[0])]
    figure = _page(4.2)
    axes = np.ravel(figure.subplots(1, max(len(pairs) + len(names), 1)))
    for ax, (x, y) in zip(axes, pairs, strict=False):
        plot_stick_density(ax, table, x, y, (zones[x], zones[y]))
    for ax, name in zip(axes[len(pairs) :], names, strict=False):
        plot_share(ax, table, name, zones[name])
    if not names:
        axes[0].text(0.5, 0.5, "none of the sticks of this profile is in this log", ha="center", va="center")
        axes[0].set_axis_off()
    return figure


def report_figures(table: pd.DataFrame, plan: Plan, title: str = "") -> dict[str, Figure]:
    """Draw the figures of a report, by name; each about 1280 pixels wide."""
    robot = path_of(table, plan).robot
    sticks = [name for name in plan.driving_controls() if f"position.{name}" in table.columns][:4]
    drive = drive_figure(table, robot.path, sticks, title, robot.chassis, robot.history)
    wheels, link, loop = _page(3.6), _page(3.6), _page(2.6)
    plot_saturation(wheels.subplots(), table, plan)
    left, right = link.subplots(1, 2, width_ratios=(1.0, 1.6))
    plot_gaps(left, table, plan)
    plot_silence(right, table, plan)
    plot_loop(loop.subplots(), table, plan)
    found = {"drive": drive, "sticks": sticks_figure(table, plan), "actuators": wheels, "link": link}
    for name in far_names(table):
        if table.get(f"far.{name}.vx") is not None and plan.chassis.units.known:
            found[f"far_end_{name}"] = _page(3.0)
            plot_far_end(found[f"far_end_{name}"].subplots(), table, name)
    return found | {"loop": loop}


def _page(height: float) -> Figure:
    from matplotlib.figure import Figure

    return Figure(figsize=(12.8, height), dpi=100, layout="constrained")
