"""The rows of a truth table."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand


class Held(NamedTuple):
    """One stick: its name, the control of the device, −1…1 of its travel, and the number."""

    control: str
    reads: str
    position: float
    raw: float


class TruthRow(NamedTuple):
    """One row: the effect of one control alone, or of two sticks at their ends, or of the link.

    Attributes:
        mode: with the kind of steering if that can be chosen; empty if there is one mode.
        control: its name. reads: of the device. position: −1…1 of its travel, as the profile counts. raw: the number.
        command: of the robot, once it is steady. actuators: their values then.
        outputs: those that it changes. does: actions and choices, as text.
        rest: the command with all sticks at rest, if a trim moves it.
        how: what happens, if it is more than a position: "pressed twice", "lost at full speed".
        second: the other stick in a corner. differs: in this corner the robot does not do the sum of both alone.
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
