"""Robots seen from above: body, wheels at their angles, thrusters with their thrust, and the centre they turn about."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tenuto.vehicles import (
    Aircraft,
    Chassis,
    Differential,
    LinearMix,
    RollerWheels,
    SkidSteer,
    SteeredModules,
    SteeredWheels,
    Thrusters,
)

if TYPE_CHECKING:
    from matplotlib.axes import Axes

BODY, WHEEL, THRUST = "#c9d3dc", "#2b3138", "#d98500"


class Part(NamedTuple):
    """A wheel or thruster of a drawing.

    Attributes:
        name: of its actuators, without their ending. x, y: m. angle: rad, where it does not steer.
        kind: "wheel", "roller", "track" or "thruster".
    """

    name: str
    x: float
    y: float
    angle: float
    kind: str = "wheel"


def parts_of(chassis: Chassis) -> list[Part]:
    """List what to draw of a chassis."""
    if isinstance(chassis, Differential):
        half = chassis.track / 2.0
        return [Part("left", 0.0, half, 0.0), Part("right", 0.0, -half, 0.0)]
    if isinstance(chassis, SkidSteer):
        # The centres lie outside the tyres, which are drawn where they usually are.
        left, right = chassis.centre_left / 1.6, -chassis.centre_right / 1.6
        if chassis.sides == "track":
            return [Part("left", 0.0, left, 0.0, "track"), Part("right", 0.0, right, 0.0, "track")]
        return [
            Part(name, x, y, 0.0) for name, y in (("left", left), ("right", right)) for x in (0.6 * left, -0.6 * left)
        ]
    if isinstance(chassis, SteeredWheels):
        return [Part(wheel.name, wheel.x, wheel.y, 0.0) for wheel in chassis.wheels]
    if isinstance(chassis, SteeredModules):
        return [Part(name, x, y, 0.0) for name, x, y in chassis.places]
    if isinstance(chassis, RollerWheels):
        return [Part(wheel.name, wheel.x, wheel.y, wheel.angle, "roller") for wheel in chassis.wheels]
    if isinstance(chassis, Thrusters):
        return [Part(one.name, one.x, one.y, one.angle, "thruster") for one in chassis.thrusters]
    return []


def outline_of(chassis: Chassis) -> np.ndarray:
    """Give the corners of the body, m, in the robot's own frame; a guess from where its parts are."""
    parts = parts_of(chassis)
    if isinstance(chassis, Aircraft | LinearMix) or not parts:
        turns = np.linspace(0.0, math.tau, 25)
        return 0.25 * np.column_stack([np.cos(turns), np.sin(turns)])
    radius = getattr(chassis, "wheel_radius", 0.1)
    x = [part.x for part in parts]
    y = [part.y for part in parts]
    if isinstance(chassis, Thrusters):
        back, half = min(x), max(abs(value) for value in y) or 0.3
        bow = back + 3.2 * half
        return np.array([(back, half), (bow - half, half), (bow, 0.0), (bow - half, -half), (back, -half)])
    front, back = max(x) + 1.3 * radius, min(x) - 1.3 * radius
    if isinstance(chassis, Differential):
        front = 2.4 * max(y)
    left, right = max(y) - 0.35 * radius, min(y) + 0.35 * radius
    return np.array([(front, left), (front, right), (back, right), (back, left)])


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
    """Draw a robot where it is, as the driver sees it: x (forward) up, y to the left.

    Args:
        ax: where to draw; its horizontal axis is y, and is to be inverted.
        chassis: the vehicle. x, y, heading: m, m, rad.
        actuators: what its actuators do: wheels are drawn at their angles, thrusters with their thrust.
        alpha: how solid. size: times as large as it is.
    """
    does = actuators or {}

    def placed(points: np.ndarray) -> np.ndarray:
        c, s = math.cos(heading), math.sin(heading)
        turned: np.ndarray = size * points @ np.array([[c, s], [-s, c]]) + np.array([x, y])
        return turned

    body = placed(outline_of(chassis))
    ax.fill(body[:, 1], body[:, 0], facecolor=BODY, edgecolor=WHEEL, linewidth=0.8, alpha=0.75 * alpha, zorder=3)
    radius = getattr(chassis, "wheel_radius", 0.1)
    for part in parts_of(chassis):
        angle = does.get(f"{part.name}_angle", part.angle)
        along = np.array([math.cos(angle), math.sin(angle)])
        across = np.array([-along[1], along[0]])
        middle = np.array([part.x, part.y])
        if part.kind == "thruster":
            _draw_thrust(ax, placed, middle, along, does.get(f"{part.name}_thrust", 0.0), chassis, alpha)
            continue
        half = (3.2 if part.kind == "track" else 1.0) * radius
        ends = np.array([(1, 1), (1, -1), (-1, -1), (-1, 1)])
        corners = placed(middle + half * ends[:, :1] * along + 0.38 * radius * ends[:, 1:] * across)
        ax.fill(corners[:, 1], corners[:, 0], color=WHEEL, alpha=alpha, zorder=4)
        if part.kind == "roller":
            _draw_rollers(ax, placed, chassis, part, radius)
    nose = placed(np.array([[0.0, 0.0], [outline_of(chassis)[:, 0].max(), 0.0]]))
    ax.plot(nose[:, 1], nose[:, 0], color=WHEEL, linewidth=0.8, alpha=alpha, zorder=4)


def _draw_thrust(
    ax: Axes, placed: object, middle: np.ndarray, along: np.ndarray, thrust: float, chassis: Chassis, alpha: float
) -> None:
    assert isinstance(chassis, Thrusters)
    assert callable(placed)
    most = max(thruster.most for thruster in chassis.thrusters)
    tip = placed(np.array([middle, middle + 0.9 * thrust / most * along]))
    ax.plot([tip[0, 1]], [tip[0, 0]], "o", color=WHEEL, markersize=4, alpha=alpha, zorder=5)
    if abs(thrust) > 0.02 * most:
        ax.annotate(
            "", (tip[1, 1], tip[1, 0]), (tip[0, 1], tip[0, 0]), zorder=6,
            arrowprops={"arrowstyle": "-|>", "color": THRUST, "lw": 1.8, "alpha": alpha},
        )  # fmt: skip


def _draw_rollers(ax: Axes, placed: object, chassis: Chassis, part: Part, radius: float) -> None:
    """Mark the axles of the rollers that are on top, across the way in which they roll freely."""
    assert isinstance(chassis, RollerWheels)
    assert callable(placed)
    wheel = next(wheel for wheel in chassis.wheels if wheel.name == part.name)
    # The rollers on top lie mirrored to those on the ground, which decide how it rolls.
    axle = wheel.angle - wheel.roller - math.pi / 2.0
    along = np.array([math.cos(wheel.angle), math.sin(wheel.angle)])
    line = 0.34 * radius * np.array([math.cos(axle), math.sin(axle)])
    for place in (-0.6, 0.0, 0.6):
        middle = np.array([part.x, part.y]) + place * radius * along
        ends = placed(np.array([middle - line, middle + line]))
        ax.plot(ends[:, 1], ends[:, 0], color="white", linewidth=1.2, zorder=5)


def turning_centre(chassis: Chassis, actuators: Mapping[str, float]) -> tuple[float, float] | None:
    """Give the point that the robot turns about, m, in its own frame; None where it goes straight."""
    vx, vy, _, yaw_rate = chassis.forward(actuators)
    return (-vy / yaw_rate, vx / yaw_rate) if abs(yaw_rate) > 1e-3 else None
