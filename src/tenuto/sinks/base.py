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
    """A receiver of ticks. Its last call, whatever happens, is a stop.

    The loop serves every sink from its own thread: a sink that blocks delays nothing else.

    Attributes:
        name: what a person calls it.
        label: what its far end is called in ticks, logs and reasons: the profile's name of the sink; `name` if empty.
        says: what its far end can say, of the attributes of `Telemetry`; empty where it says nothing.
        is_log: it wants every tick, and nothing moves by it; other sinks get the newest tick only, as often as they
            can take one.
        period: the shortest time between two ticks that it is given, s; 0 for every one.
        only_looks: nothing is driven: it sends standstills, and asks its far end for nothing else.
        clock: what it reads the time by, set before `start`: real or simulated, as the loop's; a sink asks no other.
        asks: by which somebody who watches may ask for a stop, from any thread; set before `start`.
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
        """What the driver should know of the far end, such as that it does not answer; empty for nothing."""
        return ""

    @property
    def telemetry(self) -> Telemetry:
        """What its far end said last, its time on the sink's own clock; of a sink that ``says`` something only.

        Asked by the loop at every tick: it only hands out what the sink's thread has heard.
        """
        return NOTHING_HEARD

    @property
    def emergency(self) -> str:
        """Explain why the driver's machine must be in an emergency stop too, for the far end is; empty if it is not."""
        return ""

    def record_raw(self, box: BlackBox) -> bool:
        """Send all bytes in both directions to a black box from now on; return whether the sink has bytes."""
        return False

    def introduce(self, robot: str, way: str, file: str) -> None:  # most show nothing
        """Take the robot's name, the way of its commands, and its profile's file; empty where no changes are taken."""

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


def metres_wanted(name: str, plan: Plan) -> None:
    """Refuse a vehicle without measures, for a sink that speaks m/s. Raises SinkError."""
    if not plan.chassis.units.known:
        raise SinkError(f"{name}: it speaks m/s, and {NO_METRES}: say them in [chassis]")


@dataclass(frozen=True, kw_only=True)
class SinkOptions(ABC):
    """The settings of a sink, under ``[sinks.NAME]`` or in a short text.

    Attributes:
        kind: its name in profiles and short texts.
        elsewhere: it leads to a robot on another machine, which a robot that follows does not.
    """

    kind: ClassVar[str]
    elsewhere: ClassVar[bool] = False

    @property
    def says(self) -> frozenset[str]:
        """Name what its far end can say, of the attributes of `Telemetry`; here: nothing."""
        return frozenset()

    @property
    def numbers(self) -> tuple[str, ...]:
        """Name the numbers that its far end can say, as inputs read them: ``voltage``, ``distances.front``."""
        return tuple(sorted(self.says - {"state", "reasons", "mode", "wheels", "distances"}))

    @property
    def mode_names(self) -> tuple[str, ...]:
        """Name the modes that its far end can be in; empty where nobody knows them."""
        return ()

    @property
    def in_metres(self) -> bool:
        """Whether what it says is in m/s, whatever the vehicle; here: no."""
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
        """Return how many positions of a switch it has a use for; here: none."""
        return 0

    def plan_errors(self, plan: Plan) -> Iterator[Finding]:
        """List what it cannot do for a robot, with keys of its own table."""
        waits = self.waits(plan)
        rate = self.per_second(plan)
        if waits is not None and 1.0 / rate >= waits[0]:
            seconds, key = waits
            every = f"{1.0 / rate:.3g} s"
            text = f"the robot stops after {seconds:g} s without a command, and the next one comes after {every}"
            yield error("rate", text, f"it would stop between two of them: raise rate or {key}")

    def waits(self, plan: Plan) -> tuple[float, str] | None:
        """Return how long the robot behind it goes on without a command, s, and the key that says so.

        None where that is not known, or where there is no robot.
        """
        return None

    def turns(self, plan: Plan) -> Mapping[str, bool] | None:
        """Return the actuators that it says each for itself; here: none, for it says a velocity.

        Returns:
            name → whether it says it as ``[actuators]`` says, so turned round where ``reverse`` is. None where nothing
            moves by the sink.
        """
        return {}

    def per_second(self, plan: Plan) -> float:
        """Return how many commands it sends in a second; here: one a tick."""
        return 1.0 / plan.period


class RatedSinkOptions(SinkOptions):
    """The settings of a sink with a limited rate, its option ``rate``.

    Attributes:
        rate: commands a second at most; None for one a tick.
    """

    rate: float | None

    def per_second(self, plan: Plan) -> float:
        """Return how many commands it sends in a second."""
        return min(self.rate or math.inf, 1.0 / plan.period)


SINKS: Kinds[SinkOptions] = Kinds("a kind of sink", "tenuto.sinks", SinkOptions)
