"""The body of a vehicle as it is drawn from above."""

from __future__ import annotations

import math

from tenuto.vehicles.base import Drawing

# Half the width of a body that is drawn as a disc, and of a boat whose thrusters all lie in the middle, m.
_DISC, _BOAT = 0.25, 0.3


def outline(drawing: Drawing) -> list[tuple[float, float]]:
    """Return the corners of a body, m, x and y in the robot's own frame; estimated from the positions of its parts."""
    if drawing.body == "disc" or not drawing.parts:
        turns = [math.tau * number / 24 for number in range(25)]
        return [(_DISC * math.cos(turn), _DISC * math.sin(turn)) for turn in turns]
    radius = drawing.radius
    x = [part.x for part in drawing.parts]
    y = [part.y for part in drawing.parts]
    if drawing.body == "boat":
        back, half = min(x), max(abs(value) for value in y) or _BOAT
        bow = back + 3.2 * half
        return [(back, half), (bow - half, half), (bow, 0.0), (bow - half, -half), (back, -half)]
    front = max(x) + 1.3 * radius if drawing.front is None else drawing.front
    back = min(x) - 1.3 * radius
    left, right = max(y) - 0.35 * radius, min(y) + 0.35 * radius
    return [(front, left), (front, right), (back, right), (back, left)]
