"""The share of lost frames that a link tolerates."""

from __future__ import annotations

import math
from typing import NamedTuple

# A link is useless if it stops the robot more often than this on average, s.
SELDOM = 600.0
_HALVINGS = 50


class Losses(NamedTuple):
    """The tolerance of a link for independent losses.

    Attributes:
        link: its name. rate: frames a second. timeout: silence that stops the robot, s.
        share: of all frames that may be lost, 0…1, so that it stops the robot once in `SELDOM` s on average.
    """

    link: str
    rate: float
    timeout: float
    share: float


def losses(link: str, rate: float, timeout: float) -> Losses:
    """Compute the tolerance of a link. It tolerates fewer losses in bursts."""
    return Losses(link, rate, timeout, bearable(rate, timeout))


def bearable(rate: float, timeout: float, apart: float = SELDOM) -> float:
    """Return the share of frames that may be lost, each for itself, with a stop every ``apart`` s on average.

    A stop is a run of k lost frames, k = ⌊timeout·rate⌋. The mean number of frames until there is one is
    (p⁻ᵏ − 1)/(1 − p), with p the share that is lost. See W. Feller, "An Introduction to Probability Theory and Its
    Applications", volume 1, Wiley, section XIII.7.

    Args:
        rate: frames a second. timeout: silence that stops the robot, s. apart: s.
    """
    run = math.floor(timeout * rate + 1e-9)
    if run < 1:
        return 0.0  # it stops without losses
    low, high = 0.0, 1.0 - 1e-12
    for _ in range(_HALVINGS):
        share = (low + high) / 2.0
        frames = (share**-run - 1.0) / (1.0 - share) if share**run > 0.0 else math.inf
        if frames > apart * rate:
            low = share
        else:
            high = share
    return low
