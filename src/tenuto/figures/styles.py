"""The result of a style for its sticks: the corners of the stick square, and the kinds of four-wheel steering."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from tenuto.figures.drive import BLUE, GREY, ORANGE
from tenuto.figures.robots import draw_robot, turning_centre
from tenuto.motion.odometry import along_arc
from tenuto.styles.four_wheel import STEERING_KINDS, four_wheel_demand
from tenuto.styles.mixing import CORNERS, in_corner
from tenuto.vehicles import SteeredWheels

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_SAID = {
    "free": "free: the chassis settles it",
    "clip": "clip: each side by itself",
    "scale": "scale: both by one share",
    "halve": "halve: half of each, always",
    "keep turn": "keep turn: forward gives way",
    "keep forward": "keep forward: turn gives way",
}


def plot_corner(ax: Axes, corner: str) -> None:
    """Draw the result for a grid over the stick square, as forward and turn, and the limit of the sides."""
    turn = np.linspace(-1.0, 1.0, 201)
    for place in np.linspace(-1.0, 1.0, 9):
        for along, colour in ((True, BLUE), (False, ORANGE)):
            forward = np.full_like(turn, place) if along else turn
            moved_forward, moved_turn = in_corner(forward, turn if along else np.full_like(turn, place), corner)
            ax.plot(moved_turn, moved_forward, color=colour, linewidth=1.1, alpha=0.85)
    # Beyond this diamond the demand for one side exceeds its limit.
    ax.plot([0, 1, 0, -1, 0], [1, 0, -1, 0, 1], color="#4c525b", linewidth=1.2, linestyle="--")
    for stick_forward, stick_turn in ((1.0, 1.0), (1.0, 0.5), (0.5, 1.0)):
        made = in_corner(stick_forward, stick_turn, corner)
        arrow = {"arrowstyle": "-|>", "color": "#b5122b", "lw": 1.3}
        ax.annotate("", (made[1], made[0]), (stick_turn, stick_forward), arrowprops=arrow, zorder=5)
        ax.plot([stick_turn], [stick_forward], "o", color="#b5122b", markersize=4, zorder=5)
    ax.set_title(_SAID[corner], fontsize=10)
    ax.set_xlim(1.12, -1.12)
    ax.set_ylim(-1.12, 1.12)
    ax.set_aspect("equal")
    ax.set_xlabel("turn (left is left)", fontsize=8.5)
    ax.set_ylabel("forward", fontsize=8.5)
    ax.tick_params(labelsize=8)


def corners_figure() -> Figure:
    """Draw the choices for the corner of the stick square on one page of 1280 × 800 pixels."""
    figure = _page("The stick square after mixing. Blue: equal forward; orange: equal turn; red: three stick positions")
    axes = figure.subplots(2, 3)
    for ax, corner in zip(axes.flat, CORNERS, strict=True):
        plot_corner(ax, corner)
    return figure


def plot_steering(ax: Axes, chassis: SteeredWheels, kind: str, angle: float, rear_share: float = 1.0) -> None:
    """Draw a robot with one kind of steering: its wheels, the centre of its turn, and its path over 6 m.

    Args:
        ax: where to draw. chassis: a robot that steers four wheels.
        kind: one of `tenuto.styles.four_wheel.STEERING_KINDS`. angle: of the axles at the end of the stick, rad.
        rear_share: 0…1.
    """
    front, rear = STEERING_KINDS[kind]
    wheelbase = chassis.wheels[0].x - chassis.wheels[-1].x
    asked = four_wheel_demand(1.0, 1.0, front, rear * (rear_share if kind == "counter" else 1.0), angle, wheelbase)
    command, _ = chassis.within_reach(asked)
    does = chassis.actuators(command)
    x = y = heading = 0.0
    places = [(x, y)]
    for step in range(1, 61):
        x, y, heading = along_arc(x, y, heading, 0.1 * command.vx, 0.1 * command.vy, 0.1 * command.yaw_rate)
        places.append((x, y))
        if step in (30, 60):
            draw_robot(ax, chassis, x, y, heading, does, alpha=0.35)
    ax.plot([p[1] for p in places], [p[0] for p in places], color=BLUE, linewidth=1.6, zorder=2)
    draw_robot(ax, chassis, actuators=does)
    centre = turning_centre(chassis, does)
    if centre is not None:
        ax.plot([centre[1]], [centre[0]], "+", color="#b5122b", markersize=12, markeredgewidth=2, zorder=6)
        for wheel in chassis.wheels:
            ax.plot([wheel.y, centre[1]], [wheel.x, centre[0]], color=ORANGE, linewidth=0.8, linestyle="--", zorder=1)
    angles = [f"{180.0 / math.pi * does[f'{wheel.name}_angle']:+.0f}" for wheel in chassis.wheels]
    radius = "goes straight" if centre is None else f"radius {math.hypot(*centre):.2f} m"
    ax.set_title(
        f"{kind}: {radius}\nfront {angles[0]}, {angles[1]} deg; rear {angles[2]}, {angles[3]} deg", fontsize=10
    )
    ax.set_aspect("equal", adjustable="datalim")
    ax.invert_xaxis()
    ax.grid(color="#e3e5e8", linewidth=0.6)
    ax.axhline(0.0, color=GREY, linewidth=0.5, zorder=0)
    ax.set_xlabel("y (left), m", fontsize=8.5)
    ax.set_ylabel("x (forward), m", fontsize=8.5)
    ax.tick_params(labelsize=8)


def steering_figure(chassis: SteeredWheels, angle: float, title: str = "") -> Figure:
    """Draw the four kinds of steering on one page of 1280 × 800 pixels; arguments as for `plot_steering`."""
    figure = _page(title)
    axes = figure.subplots(1, 4)
    for ax, kind in zip(axes.flat, ("front", "counter", "crab", "rear"), strict=True):
        plot_steering(ax, chassis, kind, angle)
    return figure


def _page(title: str) -> Figure:
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    FigureCanvasAgg(figure)
    figure.suptitle(title, fontweight="bold")
    return figure
