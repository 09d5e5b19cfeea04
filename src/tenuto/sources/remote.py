"""Commands from a driver's machine, over MQTT or UDP: what a robot follows."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterable

from tenuto.basics.errors import SourceError
from tenuto.basics.frame import Frame, LinkCounts
from tenuto.basics.layouts import ControlInfo
from tenuto.driving.plan import Plan
from tenuto.driving.tick import Tick
from tenuto.protocols.remote import STATE_EVERY, RemoteCommand, RemoteState, RobotEnd, check_named
from tenuto.sources.base import Source

# A connection that comes up within so long is no trouble, s.
_TOLD_AFTER = 4.0


class RemoteSource(Source):
    """What the ways from a driver's machine have in common.

    Its frames hold the newest command that counts. When that is no longer valid, or the driver's machine is gone, they
    say so, and the guard stops the robot.

    Attributes:
        end: this end of the link.
    """

    def __init__(self, name: str) -> None:
        self.name = name
        self.end = RobotEnd()
        self._valid_until = 0.0
        self._values: dict[str, float] | None = None
        self._lost, self._hindered, self._free_at = "", False, 0.0
        self._said_at = -STATE_EVERY
        self._said: tuple[str, ...] = ()
        self._good = self._bad = 0

    def controls(self) -> tuple[ControlInfo, ...]:
        """Describe the velocities, who drives, and what else may be sent to this robot."""
        return self.end.controls

    def prepare(self, plan: Plan) -> None:
        """Take note of the robot's outputs and actions."""
        check_named(plan, SourceError)
        self.end.prepare(plan)

    def counts(self) -> LinkCounts:
        """Describe how many commands counted, and how many did not."""
        return LinkCounts(self._good, self._bad + sum(self.end.refused.values()))

    def tell(self, tick: Tick) -> None:
        """Take the robot's newest tick, which the driver's machine is told about."""
        self.end.tell(tick)

    def poll(self, now: float) -> Frame | None:
        """Return the newest command since the last call; or that the last one is no longer valid."""
        counted = False
        for command in self._receive(now):
            if command is None:
                self._bad += 1
            elif not self.end.take(command, now):
                counted = True
                self._good += 1
                self._valid_until = now + command.valid_ms / 1000.0
        asked = self.end.stop_asked
        if counted or asked:
            self._values = self.end.values()
        self._speak(now)
        if self._values is None:  # nobody has ever been heard
            return self._frame_of_nobody(now)
        if self._gone():
            self._lost = f"{self.end.driver} is gone"
        elif counted:
            self._lost = ""
            return Frame(now, self._values, counts=self.counts())
        elif asked and not self._lost:
            return Frame(now, self._values, counts=self.counts())
        elif now > self._valid_until and not self._lost:
            self._lost = f"{self.end.driver} is silent: its last command is no longer valid"
        return Frame(now, self._values, False, self._lost, counts=self.counts()) if self._lost else None

    def _frame_of_nobody(self, now: float) -> Frame | None:
        """Describe what has hindered for a while that anybody is heard, and once that it does no more."""
        trouble = self._trouble
        self._free_at = now if not trouble else self._free_at
        said = trouble if now - self._free_at >= _TOLD_AFTER else ""
        if self._hindered and not trouble:
            said = "connected, and no command has come yet"
        self._hindered = bool(said and trouble)
        rest = {info.name: info.rest for info in self.controls()}
        return Frame(now, rest, False, said, counts=self.counts()) if said else None

    def _speak(self, now: float) -> None:
        """Report how the robot is: at once where that has changed, and every so often."""
        status = None if self.end.tick is None else self.end.tick.guard
        what = () if status is None else (status.state, *(reason.code for reason in status.reasons))
        if now - self._said_at >= STATE_EVERY or what != self._said:
            self._said_at, self._said = now, what
            self._send(self.end.state(now))

    @property
    def _trouble(self) -> str:
        """Why nobody can be heard; empty where nothing is known to hinder it."""
        return ""

    @abstractmethod
    def _receive(self, now: float) -> Iterable[RemoteCommand | None]:
        """Return the commands that have come; None for what is none."""

    @abstractmethod
    def _send(self, state: RemoteState) -> None:
        """Tell the driver's machine; never wait for it to arrive."""

    def _gone(self) -> bool:
        """Return whether the driver's machine has gone since the last call."""
        return False
