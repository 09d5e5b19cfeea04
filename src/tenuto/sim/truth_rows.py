"""The rows of a truth table."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand


class Held(NamedTuple):
    """One stick: its name, what it reads of the device, −1…1 of its travel, and the number."""

    control: str
    reads: str
    position: float
    raw: float


class TruthRow(NamedTuple):
    """One row: what one control does alone, or two sticks at their ends, or the link.

    Attributes:
        mode: with the way of steering where that is chosen; empty where there is one mode.
        control: its name. reads: of the device. position: −1…1 of its travel, as the profile counts. raw: the number.
        command: of the robot, once it does not change any more. actuators: what they do then.
        outputs: those that it changes. does: actions, and what it chooses, in words.
        rest: the command with all sticks at rest, where a trim moves it.
        how: what happens to it, where that is more than being at one place: "pressed twice", "lost at full speed".
        second: the other stick in a corner. differs: in this corner the robot does something else than both alone.
    """

    mode: str
    control: str
    reads: str
    position: float
    raw: float
    command: VelocityCommand
    actuators: Mapping[str, float]
    outputs: Mapping[str, float]
    does: tuple[str, ...] = ()
    rest: VelocityCommand = STANDSTILL
    how: str = ""
    second: Held | None = None
    differs: bool = False
