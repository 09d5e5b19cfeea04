"""The clock that a command runs on."""

from __future__ import annotations

from contextvars import ContextVar

from tenuto.clock import REAL, Clock, MonotonicClock, Timer

# The real one, unless the caller of `tenuto.cli.main` passes another.
the_clock: ContextVar[Timer] = ContextVar("the_clock", default=REAL)


def loop_clock() -> Clock:
    """Return the clock of a drive: a real one that begins now, unless another was passed."""
    clock = the_clock.get()
    return MonotonicClock() if clock is REAL else clock
