"""Simulated lines of a GPIO chip with a receiver's pulses, with time stamps of their edges."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterable

from tenuto.clock import REAL, Timer
from tenuto.protocols.pulses import encode_ppm, encode_pwm
from tenuto.sources.gpio import Edge

_PERIOD, _FIRST, _ON = 0.02, 4, 300e-6


class SimulatedPulses:
    """The stand-in for `tenuto.sources.gpio.KernelLines`: eight channels that move, 50 times a second."""

    def __init__(
        self, kind: str, motion: Callable[[float], list[float]], *, drop: float = 0.0, clock: Timer = REAL
    ) -> None:
        """Begin.

        Args:
            kind: "ppm" (line 4) or "pwm" (lines 4 to 11). motion: seconds → pulses, µs. drop: share of lost edges.
            clock: for its time and the time stamps.
        """
        self._kind, self._motion, self._drop, self._clock = kind, motion, drop, clock
        self._dice = random.Random(1)
        self._number = 0
        self._start = clock.now()
        self.numbers = (_FIRST,) if kind == "ppm" else tuple(range(_FIRST, _FIRST + 8))

    def edges(self) -> Iterable[Edge]:
        """Return the edges of all completed frames."""
        found: list[Edge] = []
        while self._start + (self._number + 1) * _PERIOD <= self._clock.now():
            start = self._start + self._number * _PERIOD
            pulses = self._motion(start - self._start)[:8]
            if self._kind == "ppm":
                for edge in encode_ppm(start, pulses):
                    found += [Edge(_FIRST, True, edge), Edge(_FIRST, False, edge + _ON)]
            else:
                found += [Edge(_FIRST + channel, rises, at) for at, channel, rises in encode_pwm(start, pulses)]
            self._number += 1
        return [edge for edge in found if self._dice.random() >= self._drop]

    def close(self) -> None:
        """Do nothing: no other program uses these lines."""
