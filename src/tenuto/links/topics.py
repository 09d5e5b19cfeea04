"""The topics of robots and drivers at a broker."""

from __future__ import annotations

_ROOT = "tenuto"


def command_topic(robot: str) -> str:
    """The topic of the commands for a robot."""
    return f"{_ROOT}/robots/{robot}/command"


def state_topic(robot: str = "+") -> str:
    """The topic of a robot's state, retained; of all robots if none is named."""
    return f"{_ROOT}/robots/{robot}/state"


def driver_topic(driver: str = "+") -> str:
    """The topic of the last will of a driver's machine; of all if none is named."""
    return f"{_ROOT}/drivers/{driver}"


def robot_of(topic: str) -> str:
    """Return the name of the robot of a topic."""
    return topic.split("/")[2]
