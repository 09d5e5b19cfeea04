"""A robot on another machine, over MQTT or UDP."""

from __future__ import annotations

from abc import abstractmethod
from typing import ClassVar

from tenuto.basics.errors import SinkError
from tenuto.driving.plan import Plan
from tenuto.driving.telemetry import Telemetry
from tenuto.driving.tick import Tick
from tenuto.protocols.measured import SAYS
from tenuto.protocols.remote import DriverEnd, RemoteCommand, check_named
from tenuto.sinks.base import RatedSinkOptions, Sink, metres_wanted

_STOPS, _APART = 5, 0.02


class RemoteSink(Sink):
    """What the ways to a robot on another machine have in common.

    Attributes:
        end: this end of the link, with the robot's newest state.
    """

    def __init__(self, name: str, driver: str, rate: float) -> None:
        self.name, self.period = name, 1.0 / rate
        self.end = DriverEnd(driver)

    says = SAYS

    @property
    def telemetry(self) -> Telemetry:
        """Describe how the robot is."""
        return self.end.telemetry()

    @property
    def problem(self) -> str:
        """Say that the line or the robot is silent, or why the robot stands."""
        why = self._line_problem() or self.end.problem(self.clock.now())
        return f"{self.name}: {why}" if why else ""

    def start(self, plan: Plan) -> None:
        """Make sure that all that is to be sent goes into one message, and means what it says."""
        metres_wanted(self.name, plan)
        check_named(plan, SinkError)

    @property
    def emergency(self) -> str:
        """Say that the robot is in an emergency stop, whoever asked for it."""
        return f"{self.name}: {self.end.emergency}" if self.end.emergency else ""

    def write(self, tick: Tick) -> None:
        """Send the command of a tick."""
        self._hear()
        command = self.end.command(tick, self.clock.now())
        if command is not None:
            self._send(command)

    def stop(self, tick: Tick) -> None:
        """Send the standstill several times, unless nothing is to be sent at all."""
        for _ in range(_STOPS):
            self._hear()
            command = self.end.command(tick, self.clock.now(), still=True)
            if command is None:
                return
            self._send(command)
            self.wait(_APART)

    @abstractmethod
    def _line_problem(self) -> str:
        """Describe what is wrong with the way to the robot."""

    @abstractmethod
    def _hear(self) -> None:
        """Take what the robot says."""

    @abstractmethod
    def _send(self, command: RemoteCommand) -> None:
        """Send a command; never wait for it to arrive."""


class RemoteSinkOptions(RatedSinkOptions):
    """What a profile says of a robot on another machine: it has the same profile, and follows m/s."""

    elsewhere: ClassVar[bool] = True

    @property
    def says(self) -> frozenset[str]:
        """Name what a robot elsewhere can say; it measures only what its own far ends tell it."""
        return SAYS

    @property
    def in_metres(self) -> bool:
        """Whether what it says is in m/s: yes."""
        return True

    def waits(self, plan: Plan) -> tuple[float, str]:
        """Return how long a robot with the same profile follows a command."""
        return plan.guard.link_timeout, "guard.link_timeout"
