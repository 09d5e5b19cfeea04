"""Makes the pictures of the documentation that need only the library: styles, and a drawing of each vehicle.

python scripts/make_figures.py
"""

from __future__ import annotations

import math
from pathlib import Path

from matplotlib.axes import Axes
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure

from tenuto import load_profile
from tenuto.data import shipped
from tenuto.figures import save_figure
from tenuto.figures.guard import guard_figure
from tenuto.figures.robots import draw_robot
from tenuto.figures.styles import corners_figure, steering_figure
from tenuto.vehicles import (
    Aircraft,
    Chassis,
    Differential,
    Drag,
    SkidSteer,
    SteeredModules,
    SteeredWheels,
    Thruster,
    Thrusters,
    car,
    four_wheel_steer,
    mecanum,
    omni,
)
from tenuto.vehicles.velocity import VelocityCommand

DOCS = Path(__file__).parents[1] / "docs"
RED, BLUE = "#b5122b", "#0072b2"
# Each with a velocity that shows its wheels at work, and its measures: name, from (x, y), to (x, y).
Measure = tuple[str, tuple[float, float], tuple[float, float]]
VEHICLES: dict[str, tuple[Chassis, VelocityCommand, list[Measure]]] = {
    "differential": (
        Differential(0.62, 0.11), VelocityCommand(vx=1.0),
        [("track", (-0.28, 0.31), (-0.28, -0.31))],
    ),
    "skid_steer": (
        SkidSteer(0.5, 0.5, 0.12), VelocityCommand(vx=1.0),
        [("effective_track", (-0.4, 0.5), (-0.4, -0.5))],
    ),
    "tracked": (
        SkidSteer(0.5, 0.5, 0.12, called="track"), VelocityCommand(vx=1.0),
        [("effective_track", (-0.55, 0.5), (-0.55, -0.5))],
    ),
    "car": (
        car(1.0, 0.6, 0.15, 0.6), VelocityCommand(vx=1.0, yaw_rate=0.45),
        [("wheelbase", (0.0, 0.55), (1.0, 0.55)), ("track", (-0.3, 0.3), (-0.3, -0.3))],
    ),
    "four_wheel_steer": (
        four_wheel_steer(1.3, 0.9, 0.2, 0.6), VelocityCommand(vx=1.0, yaw_rate=0.45),
        [("wheelbase", (-0.65, 0.8), (0.65, 0.8)), ("track", (-1.0, 0.45), (-1.0, -0.45))],
    ),
    "modules": (
        SteeredModules(
            (("front_left", 0.3, 0.3), ("front_right", 0.3, -0.3), ("rear_left", -0.3, 0.3),
             ("rear_right", -0.3, -0.3)),
            0.08,
        ),
        VelocityCommand(vx=0.6, vy=0.4, yaw_rate=0.6),
        [("x", (0.0, 0.48), (0.3, 0.48)), ("y", (-0.48, 0.0), (-0.48, 0.3))],
    ),
    "mecanum": (
        mecanum(0.5, 0.45, 0.1), VelocityCommand(vy=1.0),
        [("wheelbase", (-0.25, 0.42), (0.25, 0.42)), ("track", (-0.45, 0.225), (-0.45, -0.225))],
    ),
    "omni": (omni(3, 0.25, 0.08), VelocityCommand(vx=1.0), [("radius", (0.0, 0.0), (0.25, 0.0))]),
    "thrusters": (
        Thrusters((Thruster("left", -0.5, 0.35), Thruster("right", -0.5, -0.35)), Drag(5, 9, 9, 2)),
        VelocityCommand(vx=1.0, yaw_rate=0.5),
        [("x", (-0.5, 0.55), (0.0, 0.55)), ("y", (-0.72, 0.0), (-0.72, 0.35))],
    ),
    "aircraft": (Aircraft(), VelocityCommand(vx=1.0), []),
}  # fmt: skip


def draw_vehicle(ax: Axes, name: str) -> None:
    """Draw one vehicle with its axes and measures."""
    chassis, command, measures = VEHICLES[name]
    command, _ = chassis.within_reach(command)
    does = chassis.actuators(command)
    draw_robot(ax, chassis, actuators=does, alpha=0.9)
    reach = max((max(abs(part.x), abs(part.y)) for part in chassis.drawing().parts), default=0.3)
    wide = max((abs(part.y) for part in chassis.drawing().parts), default=0.3)
    for tip, label in (((0.75 * reach, 0.0), "x"), ((0.0, 0.75 * wide), "y")):
        arrow = {"arrowstyle": "-|>", "color": BLUE, "lw": 1.6}
        ax.annotate("", (tip[1], tip[0]), (0.0, 0.0), arrowprops=arrow, zorder=8)
        ax.annotate(
            label, (tip[1], tip[0]), (3, 3), textcoords="offset points", color=BLUE, fontweight="bold", zorder=8
        )
    for label, start, end in measures:
        arrow = {"arrowstyle": "<|-|>", "color": RED, "lw": 1.2, "shrinkA": 0, "shrinkB": 0}
        ax.annotate("", (end[1], end[0]), (start[1], start[0]), arrowprops=arrow, zorder=8)
        ax.plot([start[1], end[1]], [start[0], end[0]], alpha=0.0)
        middle = ((start[1] + end[1]) / 2, (start[0] + end[0]) / 2)
        upright = abs(start[0] - end[0]) > abs(start[1] - end[1])
        ax.annotate(
            label, middle, (-4, 0) if upright else (0, -10), textcoords="offset points", color=RED, fontsize=9,
            ha="right" if upright else "center", va="center", rotation=90 if upright else 0,
        )  # fmt: skip
    ax.set_aspect("equal")
    ax.margins(0.14)
    ax.invert_xaxis()
    ax.set_axis_off()
    ax.set_title(name, fontsize=11, fontweight="bold")


def main() -> None:
    """Write the pictures."""
    pictures = DOCS / "figures"
    save_figure(corners_figure(), pictures / "corners.png")
    save_figure(guard_figure(), pictures / "guard.png")
    quince = load_profile(shipped("quince.toml")).plan().chassis
    assert isinstance(quince, SteeredWheels)
    title = "Quince steers four wheels in four ways: the stick all the way to the left, 24 deg at the axles"
    save_figure(steering_figure(quince, math.radians(24.0), title), pictures / "steering.png")
    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    FigureCanvasAgg(figure)
    for number, name in enumerate(VEHICLES):
        draw_vehicle(figure.add_subplot(2, 5, number + 1), name)
    save_figure(figure, pictures / "vehicles.png")


if __name__ == "__main__":
    main()
