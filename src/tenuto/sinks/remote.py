"""A robot on another machine, over MQTT or UDP."""

from __future__ import annotations

from abc import abstractmethod
from typing import ClassVar

from tenuto.basics.errors import SinkError
from tenuto.driving.plan import Plan
from tenuto.driving.telemetry import Telemetry
from tenuto.driving.tick import Tick
from tenuto.protocols.measured import SAYS
from tenuto.protocols.remote import RemoteAsk, RemoteCommand, check_named
from tenuto.protocols.remote_ends import DriverEnd
from tenuto.sinks.base import RatedSinkOptions, Sink, metres_wanted

_STOPS, _APART = 5, 0.02


class RemoteSink(Sink):
    """The base class of the links to a robot on another machine.

    Attributes:
        end: this end of the link, with the robot's newest state.
    """

    def __init__(self, name: str, driver: str, rate: float, run: str = "") -> None:
        self.name, self.period = name, 1.0 / rate
        self.end = DriverEnd(driver, run)

    says = SAYS

    @property
    def telemetry(self) -> Telemetry:
        """Return the robot's last report."""
        return self.end.telemetry()

    @property
    def problem(self) -> str:
        """Report that the link or the robot is silent, or why the robot stands."""
        why = self._line_problem() or self.end.problem(self.clock.now())
        return f"{self.name}: {why}" if why else ""

    def start(self, plan: Plan) -> None:
        """Check that a complete command fits into one message, and that the robot has measures."""
        metres_wanted(self.name, plan)
        check_named(plan, SinkError)

    @property
    def emergency(self) -> str:
        """Report that the robot is in an emergency stop, whoever requested it, or that two robots answer."""
        why = self.end.emergency(self.clock.now())
        return f"{self.name}: {why}" if why else ""

    def write(self, tick: Tick) -> None:
        """Send the command of a tick."""
        self._hear()
        now = self.clock.now()
        message = self.end.command(tick, now) or self.end.ask(now)
        if message is not None:
            self._send(message)

    def stop(self, tick: Tick) -> None:
        """Send the standstill several times, unless nothing must be sent at all."""
        for _ in range(_STOPS):
            self._hear()
            command = self.end.command(tick, self.clock.now(), still=True)
            if command is None:
                return
            self._send(command)
            self.wait(_APART)

    @abstractmethod
    def _line_problem(self) -> str:
        """Describe the fault of the link to the robot."""

    @abstractmethod
    def _hear(self) -> None:
        """Take the robot's reports."""

    @abstractmethod
    def _send(self, message: RemoteCommand | RemoteAsk) -> None:
        """Send a message without waiting for its arrival."""


class RemoteSinkOptions(RatedSinkOptions):
    """The settings of a robot on another machine, which has the same profile, and follows m/s."""

    elsewhere: ClassVar[bool] = True

    @property
    def says(self) -> frozenset[str]:
        """Name what a remote robot can report; its own far ends measure the rest."""
        return SAYS

    @property
    def in_metres(self) -> bool:
        """Whether it sends m/s: yes."""
        return True

    def waits(self, plan: Plan) -> tuple[float, str]:
        """Return how long a robot with the same profile follows a command."""
        return plan.guard.link_timeout, "guard.link_timeout"
