"""One line about what moves, or why nothing does, written by a thread of its own.

A terminal may block its writer (Ctrl-S, a slow SSH line). The loop must never wait for that, so it
only stores its newest tick here, and this thread writes.
"""

from __future__ import annotations

import math
import threading
from collections.abc import Sequence
from queue import Empty, SimpleQueue
from types import TracebackType
from typing import Self

from rich.text import Text

from tenuto.cli.console import results
from tenuto.cli.words import tick_in_words
from tenuto.driving.guard import State
from tenuto.driving.preflight import Check, Neutral, checks_of
from tenuto.driving.tick import Tick
from tenuto.vehicles.units import Units

_REFRESH_SECONDS = 0.1
# After this time every present device and far end has sent something, s; then readiness is shown before a drive.
_DEVICES_AFTER, _FAR_ENDS_AFTER = 0.5, 1.5
STATE_COLOURS = {
    State.DRIVING: "green",
    State.STOPPING: "bold red",
    State.FAULT: "bold red",
    State.EMERGENCY_STOP: "bold white on red",
    State.WAITING_FOR_REST: "yellow",
    State.NOT_ENABLED: "yellow",
}


class StatusLine:
    """Shows ticks: on a terminal one line that changes; elsewhere a line for each change and each second of motion."""

    def __init__(
        self, units: Units, *, quiet: bool = False, neutral: Neutral | None = None, checks: Sequence[Check] = ()
    ) -> None:
        """Set the units, or that nothing is written.

        Args:
            units: of the vehicle. quiet: write nothing.
            neutral: the expected positions of the controls before a drive; None shows no readiness.
            checks: those before the drive.
        """
        self._units, self._quiet = units, quiet
        self._neutral, self._checks = neutral, tuple(checks)
        self._newest: Tick | None = None
        self._changes: SimpleQueue[Tick | str] = SimpleQueue()
        self._codes: tuple[object, ...] = ()
        self._rings = False
        self._done = threading.Event()
        self._thread = threading.Thread(target=self._write, name="status line", daemon=True)

    def show(self, tick: Tick) -> None:
        """Store a tick for the page; this costs the loop almost nothing."""
        self._newest = tick
        reasons = (*tick.guard.reasons, *tick.notices)
        chosen = tick.chosen
        choice = (tick.guard.state, tick.driver, chosen.mode, chosen.rates, chosen.level, tick.actions)
        second = int(tick.time) if any(tick.command) else None
        codes = (second, *choice, *(reason.code for reason in reasons))
        if codes != self._codes:
            self._codes = codes
            self._changes.put(tick)

    def say(self, text: str) -> None:
        """Write a line of text."""
        self._changes.put(text)

    def ring(self) -> None:
        """Ring the terminal's bell with the next write."""
        self._rings = True

    def note(self) -> str | None:
        """Return no notes: there are no keys here."""
        return None

    def change(self, scene: object) -> None:
        """Do nothing: a line needs no data of the profile."""

    def begin(self) -> None:
        """Begin to write, unless it has begun."""
        if not self._quiet and self._thread.ident is None:
            self._thread.start()

    def __enter__(self) -> Self:
        self.begin()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._done.set()
        if not self._quiet:
            self._thread.join(timeout=1.0)

    def _write(self) -> None:
        last = False
        while not last:
            last = self._done.wait(_REFRESH_SECONDS)
            self._say_what_is_ready()
            if results.is_terminal:
                if self._rings:
                    self._rings = False
                    results.bell()
                self._write_changes(texts_only=True)
                self._rewrite(end="\n" if last else "\r")
            else:
                self._write_changes()

    def _say_what_is_ready(self) -> None:
        """Report once what is ready and what is not, before a drive."""
        tick, neutral = self._newest, self._neutral
        if tick is None or neutral is None:
            return
        if tick.guard.state is State.DRIVING:
            self._neutral = None
        elif tick.time >= _FAR_ENDS_AFTER or (tick.time >= _DEVICES_AFTER and _all_have_spoken(tick)):
            self._neutral = None
            for line in ready_in_lines((*self._checks, *checks_of(tick, neutral))):
                results.print(line, soft_wrap=True)

    def _rewrite(self, end: str) -> None:
        if self._newest is not None:
            line = _line(self._newest, self._units)
            line.truncate(results.width - 1, overflow="ellipsis", pad=True)
            results.print(line, end=end, no_wrap=True)

    def _write_changes(self, *, texts_only: bool = False) -> None:
        """Write what has changed; ``texts_only``: a line that changes shows the ticks already."""
        try:
            while True:
                change = self._changes.get_nowait()
                if isinstance(change, str) or not texts_only:
                    results.print(change if isinstance(change, str) else _line(change, self._units), soft_wrap=True)
        except Empty:
            return


def _line(tick: Tick, units: Units) -> Text:
    words = tick_in_words(tick, units)
    return Text.assemble((f"{tick.time:7.2f} s  ", "dim"), (words, STATE_COLOURS[tick.guard.state]))


def ready_in_lines(checks: Sequence[Check]) -> list[Text]:
    """Describe what is ready in one line, and what is not in a line each, with what to do."""
    lines = [Text(f"ready: {', '.join(check.name for check in checks if check.good)}", style="green")]
    for check in checks:
        if not check.good:
            todo = f" → {check.todo}" if check.todo else ""
            lines.append(Text(f"not ready: {check.name}: {check.text}{todo}", style="yellow"))
    return lines


def _all_have_spoken(tick: Tick) -> bool:
    return all(math.isfinite(one.time) for one in tick.far.values())
