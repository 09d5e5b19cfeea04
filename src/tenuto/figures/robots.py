"""Robots seen from above: body, wheels at their angles, thrusters with their thrust, and the centre of the turn."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING

import numpy as np

from tenuto.vehicles import Chassis, Part
from tenuto.vehicles.outline import outline

if TYPE_CHECKING:
    from matplotlib.axes import Axes

Placed = Callable[[np.ndarray], np.ndarray]
BODY, WHEEL, THRUST = "#c9d3dc", "#2b3138", "#d98500"


def outline_of(chassis: Chassis) -> np.ndarray:
    """Return the corners of the body, m, in the robot's own frame."""
    return np.array(outline(chassis.drawing()))


def draw_robot(
    ax: Axes,
    chassis: Chassis,
    x: float = 0.0,
    y: float = 0.0,
    heading: float = 0.0,
    actuators: Mapping[str, float] | None = None,
    *,
    alpha: float = 1.0,
    size: float = 1.0,
) -> None:
    """Draw a robot at its pose, as the driver sees it: x (forward) up, y to the left.

    Args:
        ax: where to draw; its horizontal axis is y, and must be inverted.
        chassis: the vehicle. x, y, heading: m, m, rad.
        actuators: their values: wheels are drawn at their angles, thrusters with their thrust.
        alpha: opacity. size: magnification.
    """
    does = actuators or {}

    def placed(points: np.ndarray) -> np.ndarray:
        c, s = math.cos(heading), math.sin(heading)
        turned: np.ndarray = size * points @ np.array([[c, s], [-s, c]]) + np.array([x, y])
        return turned

    body = placed(outline_of(chassis))
    ax.fill(body[:, 1], body[:, 0], facecolor=BODY, edgecolor=WHEEL, linewidth=0.8, alpha=0.75 * alpha, zorder=3)
    drawing = chassis.drawing()
    radius = drawing.radius
    for part in drawing.parts:
        angle = does.get(f"{part.name}_angle", part.angle)
        along = np.array([math.cos(angle), math.sin(angle)])
        across = np.array([-along[1], along[0]])
        middle = np.array([part.x, part.y])
        if part.shape == "thruster":
            share = does.get(f"{part.name}_thrust", 0.0) / max(one.most for one in drawing.parts)
            _draw_thrust(ax, placed, middle, along, share, alpha)
            continue
        half = (3.2 if part.shape == "track" else 1.0) * radius
        ends = np.array([(1, 1), (1, -1), (-1, -1), (-1, 1)])
        corners = placed(middle + half * ends[:, :1] * along + 0.38 * radius * ends[:, 1:] * across)
        ax.fill(corners[:, 1], corners[:, 0], color=WHEEL, alpha=alpha, zorder=4)
        if part.shape == "roller":
            _draw_rollers(ax, placed, part, radius)
    nose = placed(np.array([[0.0, 0.0], [outline_of(chassis)[:, 0].max(), 0.0]]))
    ax.plot(nose[:, 1], nose[:, 0], color=WHEEL, linewidth=0.8, alpha=alpha, zorder=4)


def _draw_thrust(ax: Axes, placed: Placed, middle: np.ndarray, along: np.ndarray, share: float, alpha: float) -> None:
    tip = placed(np.array([middle, middle + 0.9 * share * along]))
    ax.plot([tip[0, 1]], [tip[0, 0]], "o", color=WHEEL, markersize=4, alpha=alpha, zorder=5)
    if abs(share) > 0.02:
        ax.annotate(
            "", (tip[1, 1], tip[1, 0]), (tip[0, 1], tip[0, 0]), zorder=6,
            arrowprops={"arrowstyle": "-|>", "color": THRUST, "lw": 1.8, "alpha": alpha},
        )  # fmt: skip


def _draw_rollers(ax: Axes, placed: Placed, part: Part, radius: float) -> None:
    """Draw the axles of the upper rollers, across the direction in which they roll freely."""
    # The upper rollers are mirror images of those on the ground, which decide how it rolls.
    axle = part.angle - part.roller - math.pi / 2.0
    along = np.array([math.cos(part.angle), math.sin(part.angle)])
    line = 0.34 * radius * np.array([math.cos(axle), math.sin(axle)])
    for place in (-0.6, 0.0, 0.6):
        middle = np.array([part.x, part.y]) + place * radius * along
        ends = placed(np.array([middle - line, middle + line]))
        ax.plot(ends[:, 1], ends[:, 0], color="white", linewidth=1.2, zorder=5)


def turning_centre(chassis: Chassis, actuators: Mapping[str, float]) -> tuple[float, float] | None:
    """Return the centre of the robot's turn, m, in its own frame; None if it goes straight."""
    vx, vy, _, yaw_rate = chassis.forward(actuators)
    return (-vy / yaw_rate, vx / yaw_rate) if abs(yaw_rate) > 1e-3 else None
