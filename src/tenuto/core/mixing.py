"""Third stage, the style: how two axes become forward and turn. `tenuto.core.styles` reads them from controls."""

from __future__ import annotations

from typing import Generic, NamedTuple

import numpy as np

from tenuto.core.number import Value


class Intent(NamedTuple, Generic[Value]):
    """What the driver wants, as shares of the robot's speeds: forward, left, up and left turn are positive."""

    forward: Value
    sideways: Value
    up: Value
    turn: Value


def two_stick_arcade(forward: Value, turn: Value) -> tuple[Value, Value]:
    """Drive with one stick and turn with another: each is its own will, so neither touches the other.

    What the wheels cannot do of both together is settled at the chassis, which keeps the arc.

    Args:
        forward, turn: shaped positions, −1…1, numbers or arrays of one shape.
    """
    return forward, turn


def one_stick_arcade(forward: Value, turn: Value) -> tuple[Value, Value]:
    """Drive and turn with the two axes of a single stick.

    A thumb that means "all the way forward" slips into the corner, and there both axes together would
    ask for more than either alone can give. Where |forward| + |turn| exceeds 1, both are divided by that
    sum: the direction of the stick, and with it the ratio of driving to turning, is kept.

    Args:
        forward, turn: shaped positions, −1…1, numbers or arrays of one shape.
    """
    total = abs(forward) + abs(turn)
    if isinstance(total, np.ndarray):
        total = np.maximum(total, 1.0)
    elif total <= 1.0:
        return forward, turn
    return forward / total, turn / total
