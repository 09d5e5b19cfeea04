"""Commands from a driver's machine, over MQTT or UDP, for a robot that follows."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterable

from tenuto.basics.errors import SourceError
from tenuto.basics.frame import Frame, LinkCounts, with_earlier
from tenuto.basics.layouts import ControlInfo
from tenuto.driving.plan import Plan
from tenuto.driving.tick import Tick
from tenuto.protocols.remote import STATE_EVERY, RemoteAsk, RemoteCommand, RemoteState, check_named
from tenuto.protocols.remote_ends import RobotEnd
from tenuto.sources.base import Source

# A connection that is made within this time is not reported, s.
_TOLD_AFTER = 4.0


class RemoteSource(Source):
    """The base class of the links from a driver's machine.

    Its frames have the newest valid command. When it times out, or the driver's machine is gone, the frames
    report that, and the guard stops the robot.

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
        """Describe the velocities, who drives, and everything else that may be sent to this robot."""
        return self.end.controls

    def prepare(self, plan: Plan) -> None:
        """Take the robot's outputs and actions."""
        check_named(plan, SourceError)
        self.end.prepare(plan)

    def counts(self) -> LinkCounts:
        """Describe the number of accepted and of rejected commands."""
        return LinkCounts(self._good, self._bad + sum(self.end.refused.values()))

    def tell(self, tick: Tick) -> None:
        """Take the robot's newest tick, for the reports to the driver's machine."""
        self.end.tell(tick)

    def poll(self, now: float) -> Frame | None:
        """Return the newest command since the last call, or a report that the last one timed out."""
        came: list[Frame] = []
        for command in self._receive(now):
            if command is None:
                self._bad += 1
            elif isinstance(command, RemoteAsk):
                self.end.answer(command, now)
            elif not self.end.take(command, now):
                came.append(self._newest(now))
                self._good += 1
                self._valid_until, self._lost = now + command.valid_ms / 1000.0, ""
        if self.end.stop_asked:
            came.append(self._newest(now))
        self._speak(now)
        if self._values is None:  # no command has ever been received
            return self._frame_of_nobody(now)
        if self._gone(now):
            self._lost = f"{self.end.driver} is gone"
        elif now > self._valid_until and not self._lost:
            self._lost = f"{self.end.driver} is silent: its last command is no longer valid"
        if self._lost:
            came.append(Frame(now, self._values, False, self._lost))
        frame = with_earlier(came)
        return frame if frame is None else frame._replace(counts=self.counts())

    def _newest(self, now: float) -> Frame:
        """Return the newest command as a frame."""
        self._values = self.end.values()
        return Frame(now, self._values)

    def _frame_of_nobody(self, now: float) -> Frame | None:
        """Describe why nothing has been received for a while, and report once when that is over."""
        trouble = self._trouble
        self._free_at = now if not trouble else self._free_at
        said = trouble if now - self._free_at >= _TOLD_AFTER else ""
        if self._hindered and not trouble:
            said = "connected, and no command has come yet"
        self._hindered = bool(said and trouble)
        rest = {info.name: info.rest for info in self.controls()}
        return Frame(now, rest, False, said, counts=self.counts()) if said else None

    def _speak(self, now: float) -> None:
        """Report the state of the robot: at once after a change, and at fixed intervals."""
        status = None if self.end.tick is None else self.end.tick.guard
        what = () if status is None else (status.state, *(reason.code for reason in status.reasons))
        if now - self._said_at >= STATE_EVERY or what != self._said:
            self._said_at, self._said = now, what
            self._send(self.end.state(now))

    @property
    def _trouble(self) -> str:
        """Why nothing can be received; empty if no fault is known."""
        return ""

    @abstractmethod
    def _receive(self, now: float) -> Iterable[RemoteCommand | RemoteAsk | None]:
        """Return the authentic messages that arrived, and None for anything else."""

    @abstractmethod
    def _send(self, state: RemoteState) -> None:
        """Send a report to the driver's machine without waiting."""

    def _gone(self, now: float) -> bool:
        """Return whether the driver's machine was lost since the last call."""
        return False
