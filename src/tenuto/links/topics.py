"""The topics of a broker under which robots and drivers speak."""

from __future__ import annotations

_ROOT = "tenuto"


def command_topic(robot: str) -> str:
    """Where a robot listens for commands."""
    return f"{_ROOT}/robots/{robot}/command"


def state_topic(robot: str = "+") -> str:
    """Where a robot says how it is, retained; of all robots if none is named."""
    return f"{_ROOT}/robots/{robot}/state"


def driver_topic(driver: str = "+") -> str:
    """Where a driver's machine says that it is gone; of all if none is named."""
    return f"{_ROOT}/drivers/{driver}"


def robot_of(topic: str) -> str:
    """Return the name of the robot whose topic it is."""
    return topic.split("/")[2]
