"""A bad line between two ends: some messages are lost, and the others come late."""

from __future__ import annotations

import random
from collections import deque
from typing import Generic, TypeVar

T = TypeVar("T")


class BadLine(Generic[T]):
    """The messages on their way in one direction. They never overtake each other."""

    def __init__(self, loss: float = 0.0, delay: float = 0.0, seed: int = 1) -> None:
        """Set the loss and the delay.

        Args:
            loss: share of lost messages, 0…1; the same ones in every run.
            delay: s. seed: of the random numbers.
        """
        self._loss, self._delay = loss, delay
        self._dice = random.Random(seed)
        self._under_way: deque[tuple[float, T]] = deque()

    def put(self, message: T, now: float) -> None:
        """Send a message."""
        if self._dice.random() >= self._loss:
            self._under_way.append((now + self._delay, message))

    def take(self, now: float) -> list[T]:
        """Return the messages that came, oldest first."""
        came = []
        while self._under_way and self._under_way[0][0] <= now:
            came.append(self._under_way.popleft()[1])
        return came
