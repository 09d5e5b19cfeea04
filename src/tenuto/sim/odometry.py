"""The simulated odometry of a cart with known true measures, to test measurements."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from tenuto.basics.extras import needs
from tenuto.sim.robots import Physics, SimulatedRobot
from tenuto.vehicles import Chassis, Differential

if TYPE_CHECKING:
    import pandas as pd

_STEP = 0.005


@dataclass(frozen=True, slots=True)
class Truth:
    """The true measures of a cart with two driven wheels.

    Attributes:
        wheel_radius, track: m. delay: from command to motor, s. motor_lag, friction, slip: see `Physics`.
        noise: of each measured position, m. heading_noise: rad; both standard deviations.
    """

    wheel_radius: float
    track: float
    delay: float = 0.0
    motor_lag: float = 0.12
    friction: float = 0.0
    slip: float = 0.0
    noise: float = 0.0
    heading_noise: float = 0.0


def simulated_odometry(
    table: pd.DataFrame,
    truth: Truth,
    *,
    chassis: Chassis | None = None,
    rate: float = 20.0,
    clock: float = 0.0,
    seed: int = 1,
) -> pd.DataFrame:
    """Drive the true cart with the wheel speeds of a log, and measure its position.

    Args:
        table: a log of a cart with two driven wheels, or of another ``chassis``. truth: the true measures.
        chassis: of another robot, with its true measures; wheel radius and track of ``truth`` are for a cart only.
        rate: rows a second. clock: how far the odometry's clock is ahead of the log's, s. seed: of the random numbers.

    Returns:
        Columns ``time`` (s), ``x``, ``y`` (m), ``heading`` (rad).
    """
    needs("pandas")
    import pandas as pd

    random = np.random.default_rng(seed)
    physics = Physics(truth.motor_lag, truth.friction, truth.slip, seed=seed)
    robot = SimulatedRobot(chassis or Differential(truth.track, truth.wheel_radius), physics)
    wheels = tuple(robot.actuators)
    times = table["time"].to_numpy()
    commands = table[[f"actuators.{wheel}" for wheel in wheels]].to_numpy()
    arrive = [*(times + truth.delay).tolist(), float(times[-1]) + 1.0]
    now = 0.0
    for number, until in enumerate(arrive):
        steps = max(math.ceil((until - now) / _STEP - 1e-9), 0)
        for _ in range(steps):
            robot.advance((until - now) / steps)
        now = max(now, until)
        if number < len(times):
            robot.command(dict(zip(wheels, commands[number].tolist(), strict=True)))
    path = np.array([(point.time, point.x, point.y, point.heading) for point in robot.path])
    path[1:, 0] += _ahead(truth.motor_lag)
    at = np.arange(0.0, path[-1, 0], 1.0 / rate)
    found = {name: np.interp(at, path[:, 0], path[:, column]) for column, name in ((1, "x"), (2, "y"), (3, "heading"))}
    for name, noise in (("x", truth.noise), ("y", truth.noise), ("heading", truth.heading_noise)):
        found[name] = found[name] + noise * random.standard_normal(len(at))
    return pd.DataFrame({"time": at + clock, **found})


def _ahead(lag: float) -> float:
    """Return by how much the simulated robot is ahead, s: it goes at the final speed of each step for all of it."""
    keep = math.exp(-_STEP / lag) if lag > 0.0 else 0.0
    return lag - _STEP * keep / (1.0 - keep)
