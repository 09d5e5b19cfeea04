"""The interface of every source, and its settings from a profile or a short text."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.basics.closing import Closing
from tenuto.basics.findings import Finding
from tenuto.basics.frame import Frame, LinkCounts
from tenuto.basics.layouts import ControlInfo
from tenuto.clock import Timer
from tenuto.driving.asks import Asks
from tenuto.driving.plan import Plan
from tenuto.driving.tick import Tick
from tenuto.kinds.options import option
from tenuto.kinds.registry import Kinds
from tenuto.links.black_box import BlackBox


class Source(Closing, ABC):
    """A device with sticks. Open it with ``with``; `poll` returns the newest frame.

    Attributes:
        name: for people.
        identity: the same for the same device each time it is plugged in, if the device reports it.
        hint: how to use it, if that is not obvious.
        exact: its values are exact, so it needs no calibration.
    """

    name: str
    identity: str = ""
    hint: str = ""
    exact: bool = False

    @abstractmethod
    def controls(self) -> tuple[ControlInfo, ...]:
        """Describe every control of the frames."""

    def prepare(self, plan: Plan) -> None:  # most have the same controls for every robot
        """Receive the plan with which the robot is driven by hand. Called before `controls`."""

    @abstractmethod
    def poll(self, now: float) -> Frame | None:
        """Return the newest frame since the last call, or None. Never blocks.

        Args:
            now: seconds on the loop's clock; no frame is stamped later than that.
        """

    def counts(self) -> LinkCounts:
        """Return the numbers of good, damaged and lost frames; zeros if the source does not count."""
        return LinkCounts()

    def record_raw(self, box: BlackBox) -> bool:
        """Send all received bytes to a black box from now on; return whether the source has bytes."""
        return False

    def about_line(self) -> list[str]:
        """Describe the faults of the line, from its bytes; empty if there are none."""
        return []

    @property
    def finished(self) -> bool:
        """Whether no more frames will come, as at the end of a recording."""
        return False

    def controls_for(self, plan: Plan, driver: str) -> tuple[ControlInfo, ...]:
        """Describe the controls of the frames after joining a drive; arguments as for `join`.

        Raises:
            SourceError: it cannot have the controls that the plan reads.
        """
        return self.controls()

    def join(self, plan: Plan, driver: str, asks: Asks) -> None:  # most send what they send, whoever drives
        """Prepare for the start of a drive, or for a changed profile. Called before `controls`.

        Args:
            plan: of the robot. driver: whose device it is; empty for the first in rank.
            asks: for requests of the device that are not controls, from any thread.
        """

    def introduce(self, robot: str, way: str, file: str) -> None:  # most show nothing
        """Take the robot's name, the way of its commands, and its profile's file; empty if no changes are accepted."""

    def tell(self, tick: Tick) -> None:  # most have nobody to tell
        """Take the robot's newest tick, for a driver on another machine."""

    def rumble(self, strength: float, seconds: float) -> bool:
        """Rumble with a strength of 0…1; False if the device cannot."""
        return False


@dataclass(frozen=True, kw_only=True)
class SourceOptions(ABC):
    """The settings of a source, under ``[source]`` or in a short text.

    Attributes:
        kind: its name in profiles and short texts.
        in_profiles: it can be the source of a profile: its controls are known before it is opened.
        layout: the known controls; the profile may name others if `control` describes them.
        steps: the number of steps of a control over its travel, if it was not measured.
        on_serial_port: it is read from a serial port.
        sends_velocities: it can be a driver that sends velocities, see ``[drivers.NAME]``.
        means: the purpose of its controls, role of ``tenuto begin`` → control; for these no question is asked.
    """

    kind: ClassVar[str]
    in_profiles: ClassVar[bool] = True
    layout: ClassVar[tuple[ControlInfo, ...]] = ()
    steps: ClassVar[int] = 1024
    on_serial_port: ClassVar[bool] = False
    sends_velocities: ClassVar[bool] = False
    means: ClassVar[Mapping[str, str]] = {}

    @abstractmethod
    def open(self, clock: Timer) -> Source:
        """Open the source.

        Args:
            clock: of simulated devices, and of a wait while a port is opened.

        Raises:
            SourceError: the device is missing. RecordingError: a file cannot be read.
        """

    @classmethod
    def control(cls, name: str) -> ControlInfo | None:
        """Describe a control, or return None if there is none of that name."""
        return next((info for info in cls.layout if info.name == name), None)

    def columns_said(self) -> tuple[str, ...] | None:
        """Return the names of its values if the profile names them, otherwise None."""
        return None

    def errors(self) -> list[Finding]:
        """List the errors between several options, with keys of its own table; here: none."""
        return []

    def another(self) -> SourceOptions:
        """Return the same settings for another driver: without the identity of one device."""
        return self


@dataclass(frozen=True, kw_only=True)
class HeldOptions(SourceOptions):
    """The base class of sources that a person holds, and a profile can have.

    Attributes:
        loses_link: its link can be lost and come back during a drive.
        frames: the frame rate over radio, Hz, if it is known.
    """

    loses_link: ClassVar[bool] = True
    frames: ClassVar[float | None] = None
    driver: str = option("a name for its driver", "driver")


SOURCES: Kinds[SourceOptions] = Kinds("a kind of source", "tenuto.sources", SourceOptions, "tenuto.sim.sources")
