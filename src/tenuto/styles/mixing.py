"""Third stage, the style: from the axes of sticks to the driver's intent; `styles` reads the controls."""

from __future__ import annotations

from typing import Generic, NamedTuple

import numpy as np

from tenuto.basics.errors import ArgumentError
from tenuto.basics.number import Value, side_of, smaller

# What to do in the corners of the stick square, where the shares of forward and turn add up to more than 1.
CORNERS = ("free", "clip", "scale", "halve", "keep turn", "keep forward")


class Intent(NamedTuple, Generic[Value]):
    """The driver's intent, as shares of the robot's speeds: forward, left, up and left turn are positive."""

    forward: Value
    sideways: Value
    up: Value
    turn: Value


def in_corner(forward: Value, turn: Value, corner: str) -> tuple[Value, Value]:
    """Limit what forward and turn together demand of a robot's sides: left = forward − turn, right = forward + turn.

    ============== ============================================================================================
    corner         what is reduced
    ============== ============================================================================================
    free           nothing: the axes are independent, and the chassis slows down both if its wheels saturate
    clip           the side above 1 is limited to 1: the robot leaves its arc
    scale          both, by one share: the ratio of driving to turning is kept
    halve          both sides, everywhere, by one half: never too much, but the stick's end is half speed
    keep turn      forward: |forward| ≤ 1 − |turn|
    keep forward   turn: |turn| ≤ 1 − |forward|
    ============== ============================================================================================

    Args:
        forward, turn: shaped positions, −1…1, numbers or arrays of one shape.
        corner: one of `CORNERS`.

    Raises:
        ArgumentError: it is not one of them.
    """
    if corner == "scale":
        total = abs(forward) + abs(turn)
        if isinstance(total, np.ndarray):
            total = np.maximum(total, 1.0)
        elif total <= 1.0:
            return forward, turn
        return forward / total, turn / total
    if corner == "halve":
        return forward / 2.0, turn / 2.0
    if corner == "keep turn":
        return side_of(forward) * smaller(abs(forward), 1.0 - abs(turn)), turn
    if corner == "keep forward":
        return forward, side_of(turn) * smaller(abs(turn), 1.0 - abs(forward))
    if corner == "clip":
        left, right = _within_one(forward - turn), _within_one(forward + turn)
        return (right + left) / 2.0, (right - left) / 2.0
    if corner != "free":
        raise ArgumentError(f"expected one of {', '.join(CORNERS)}, found {corner}")
    return forward, turn


def _within_one(side: Value) -> Value:
    if isinstance(side, np.ndarray):
        return np.clip(side, -1.0, 1.0)
    return min(max(side, -1.0), 1.0)


def tank(left: Value, right: Value) -> tuple[Value, Value]:
    """Return forward and turn of a stick for each side, −1…1."""
    return (right + left) / 2.0, (right - left) / 2.0
