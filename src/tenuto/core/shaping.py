"""Second stage: a position becomes what the driver means by it. Dead zone, then expo."""

from __future__ import annotations

import numpy as np

from tenuto.core.number import Value


def dead_zone(position: Value, width: float) -> Value:
    """Ignore the middle of a stick, and stretch the rest so that nothing jumps and nothing is lost.

    The output is 0 inside the zone, starts from 0 at its edge and still reaches ±1 at the ends.

    Args:
        position: −1…1, one number or an array of any shape.
        width: half-width of the zone, 0 ≤ width < 1, in the same measure as ``position``.

    Returns:
        The same kind and shape as ``position``.
    """
    if isinstance(position, np.ndarray):
        beyond = np.maximum(np.abs(position) - width, 0.0)
        return np.sign(position) * (beyond / (1.0 - width))
    if position > width:
        return (position - width) / (1.0 - width)
    if position < -width:
        return (position + width) / (1.0 - width)
    return 0.0


def expo(position: Value, amount: float) -> Value:
    """Soften the middle of a stick with the trade's cubic blend, (1 − e)·x + e·x³.

    Written as x·(1 + e·(x² − 1)), which is the same and exact at −1, 0 and 1. It never falls for
    0 ≤ e ≤ 1: its slope is (1 − e) + 3·e·x².

    Args:
        position: −1…1, one number or an array of any shape.
        amount: e, 0 (straight) to 1 (all cubic).

    Returns:
        The same kind and shape as ``position``.
    """
    return position * (1.0 + amount * (position * position - 1.0))
