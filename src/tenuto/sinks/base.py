"""The interface of every sink, and its settings from a profile or a short text."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.basics.closing import Closing
from tenuto.basics.errors import SinkError
from tenuto.basics.findings import Finding, error
from tenuto.clock import REAL, Clock
from tenuto.driving.asks import Asks
from tenuto.driving.plan import Plan
from tenuto.driving.telemetry import NOTHING_HEARD, Telemetry
from tenuto.driving.tick import Tick
from tenuto.kinds.registry import Kinds
from tenuto.links.black_box import BlackBox
from tenuto.vehicles.units import NO_METRES


class Sink(Closing, ABC):
    """A receiver of ticks. Its last call is always a stop.

    The loop calls every sink in a thread of its own: a sink that blocks delays only itself.

    Attributes:
        name: for people.
        label: the name of its far end in ticks, logs and reasons: the profile's name of the sink; `name` if empty.
        says: the attributes of `Telemetry` that its far end can report; empty if it reports nothing.
        is_log: it gets every tick, and moves nothing. Other sinks get the newest tick only, as often as they
            can take one.
        period: the shortest time between two ticks, s; 0 for every tick.
        only_looks: nothing is driven: it sends standstills only, and no other request.
        clock: its only clock, the loop's, real or simulated; set before `start`.
        asks: for requests such as a stop, from any thread; set before `start`.
    """

    name: str
    label: str = ""
    says: frozenset[str] = frozenset()
    is_log: bool = False
    period: float = 0.0
    only_looks: bool = False
    clock: Clock = REAL
    asks: Asks | None = None

    @property
    def problem(self) -> str:
        """A notice for the driver about the far end, such as that it does not answer; empty for none."""
        return ""

    @property
    def telemetry(self) -> Telemetry:
        """The last report of its far end, with its time on the sink's own clock; only for a sink with ``says``.

        The loop reads it at every tick: it must return at once what the sink's thread has received.
        """
        return NOTHING_HEARD

    @property
    def emergency(self) -> str:
        """Explain why the driver's machine must be in an emergency stop, as the far end is; empty if it must not."""
        return ""

    def record_raw(self, box: BlackBox) -> bool:
        """Send all bytes in both directions to a black box from now on; return whether the sink has bytes."""
        return False

    def introduce(self, robot: str, way: str, file: str) -> None:  # most show nothing
        """Take the robot's name, the way of its commands, and its profile's file; empty if no changes are accepted."""

    def start(self, plan: Plan) -> None:  # most sinks need to know nothing
        """Prepare for the ticks of this plan: before the first tick, and again after a change of the profile."""

    @abstractmethod
    def write(self, tick: Tick) -> None:
        """Take a tick; raise SinkError if the far end has failed."""

    def wait(self, seconds: float) -> None:
        """Wait for this time on the loop's clock, s."""
        self.clock.sleep_until(self.clock.now() + seconds)

    @abstractmethod
    def stop(self, tick: Tick) -> None:
        """Take the last tick, with a standstill command. Called even after `write` has failed."""


def metres_wanted(name: str, plan: Plan, or_else: str = "") -> None:
    """Refuse a vehicle without measures, for a sink that sends m/s. Raises SinkError."""
    if not plan.chassis.units.known:
        more = f"; or {or_else}" if or_else else ""
        raise SinkError(f"{name}: it sends m/s, and {NO_METRES}: set them in [chassis]{more}")


@dataclass(frozen=True, kw_only=True)
class SinkOptions(ABC):
    """The settings of a sink, under ``[sinks.NAME]`` or in a short text.

    Attributes:
        kind: its name in profiles and short texts.
        without_metres: how it sends shares, if it can send them instead of m/s.
        elsewhere: it leads to a robot on another machine; the profile of a robot that follows cannot have it.
    """

    kind: ClassVar[str]
    without_metres: ClassVar[str] = ""
    elsewhere: ClassVar[bool] = False

    @property
    def says(self) -> frozenset[str]:
        """Name the attributes of `Telemetry` that its far end can report; here: none."""
        return frozenset()

    @property
    def numbers(self) -> tuple[str, ...]:
        """Name the numbers that its far end can report, as inputs read them: ``voltage``, ``distances.front``."""
        return tuple(sorted(self.says - {"state", "reasons", "mode", "wheels", "distances"}))

    @property
    def mode_names(self) -> tuple[str, ...]:
        """Name the modes of its far end; empty if they are unknown."""
        return ()

    @property
    def in_metres(self) -> bool:
        """Whether it sends m/s, which a vehicle without measures has not; here: no."""
        return False

    @abstractmethod
    def open(self) -> Sink:
        """Open the sink.

        Raises:
            SinkError: the file cannot be written, or the port does not open.
        """

    def packages(self) -> tuple[str, ...]:
        """Return the modules that it needs, of `tenuto.basics.extras.EXTRAS`; here: none."""
        return ()

    def errors(self, actions: Collection[str]) -> list[Finding]:
        """List the errors between several options, with keys of its own table.

        Args:
            actions: of the profile, by their names.
        """
        return []

    def positions_used(self, switch: str) -> int:
        """Return how many positions of a switch it uses; here: none."""
        return 0

    def plan_errors(self, plan: Plan) -> Iterator[Finding]:
        """List the errors of this sink for a robot, with keys of its own table."""
        waits = self.waits(plan)
        rate = self.per_second(plan)
        if waits is not None and 1.0 / rate >= waits[0]:
            seconds, key = waits
            every = f"{1.0 / rate:.3g} s"
            text = f"the robot stops after {seconds:g} s without a command, and the next one comes after {every}"
            yield error("rate", text, f"it would stop between two of them: raise rate or {key}")

    def waits(self, plan: Plan) -> tuple[float, str] | None:
        """Return how long the robot behind it continues without a command, s, and the key with this time.

        None if it is not known, or if there is no robot.
        """
        return None

    def turns(self, plan: Plan) -> Mapping[str, bool] | None:
        """Return the actuators that it sends separately; here: none, because it sends a velocity.

        Returns:
            name → whether it is sent in the form of ``[actuators]``, including ``reverse``. None if the sink
            moves nothing.
        """
        return {}

    def per_second(self, plan: Plan) -> float:
        """Return the number of commands per second; here: one per tick."""
        return 1.0 / plan.period


class RatedSinkOptions(SinkOptions):
    """The settings of a sink with a limited rate, its option ``rate``.

    Attributes:
        rate: the greatest number of commands per second; None for one per tick.
    """

    rate: float | None

    def per_second(self, plan: Plan) -> float:
        """Return the number of commands per second."""
        return min(self.rate or math.inf, 1.0 / plan.period)


SINKS: Kinds[SinkOptions] = Kinds("a kind of sink", "tenuto.sinks", SinkOptions)
