"""Whatever leaves the code of a user, every sink gets its stop, by the profile's ramp where it still can."""

import math
from collections.abc import Callable
from itertools import pairwise
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import MEDLAR, Hands, Notebook, examples
from tenuto import Frame, Tick
from tenuto.driving.telemetry import NOTHING_HEARD
from tenuto.vehicles.velocity import STANDSTILL


class Leaves(BaseException):
    """Of no family."""


class LeftError(Exception):
    """An error of a user."""


KINDS: list[type[BaseException]] = [
    LeftError, Leaves, SystemExit, KeyboardInterrupt, GeneratorExit, MemoryError, RecursionError, StopIteration,
]  # fmt: skip
STOP, PERIOD = MEDLAR.plan().guard.stop_deceleration, MEDLAR.plan().period
_PLACES = ("poll", "finished", "tell", "write", "period", "problem", "telemetry", "emergency",
           "on_tick", "changes", "notes")  # fmt: skip


class Fails:
    """Fails in one place, from a moment on: once, or always."""

    def __init__(self, place: str, kind: type[BaseException], at: float, always: bool) -> None:
        self.place, self.kind, self.at, self.always = place, kind, at, always
        self.now, self.failed = 0.0, False

    def __call__(self, place: str) -> None:
        if place == self.place and self.now >= self.at and (self.always or not self.failed):
            self.failed = True
            raise self.kind("it is over")


class UserHands(Hands):
    """A source that may fail anywhere."""

    def __init__(self, fails: Fails) -> None:
        super().__init__()
        self.fails = fails

    def poll(self, now: float) -> Frame:
        self.fails.now = now
        self.fails("poll")
        return super().poll(now)

    @property
    def finished(self) -> bool:
        self.fails("finished")
        return False

    def tell(self, tick: Tick) -> None:
        self.fails("tell")


class UserSink(Notebook):
    """A sink that may fail anywhere."""

    says = frozenset(("voltage",))

    def __init__(self, fails: Fails) -> None:
        super().__init__()
        self.fails = fails

    def write(self, tick: Tick) -> None:
        super().write(tick)
        self.fails("write")


def _attribute(name: str, value: Any) -> property:
    def read(self: UserSink) -> Any:
        self.fails(name)
        return value

    return property(read)


for _name, _value in (("problem", ""), ("telemetry", NOTHING_HEARD), ("emergency", ""), ("period", 0.0)):
    setattr(UserSink, _name, _attribute(_name, _value))


def told(fails: Fails, place: str) -> Callable[..., None]:
    return lambda *_: fails(place)


@examples(50)
@given(st.sampled_from(_PLACES), st.sampled_from(KINDS), st.floats(0.05, 2.0), st.booleans())
def test_whatever_leaves_user_code_every_sink_ramps_and_gets_its_stop(
    place: str, kind: type[BaseException], at: float, always: bool
) -> None:
    fails = Fails(place, kind, at, always)
    sinks = [UserSink(fails), Notebook()]
    with pytest.raises(kind):
        tenuto.drive(
            MEDLAR, UserHands(fails), sinks, clock=tenuto.SimulatedClock(), on_tick=told(fails, "on_tick"),
            changes=told(fails, "changes"), notes=told(fails, "notes"),
        )  # fmt: skip
    for sink in sinks:
        assert [stop.command for stop in sink.stops] == [STANDSTILL]
    # An attribute that always fails leaves no tick: then the end is a stop at once.
    if always and place == "period":
        return
    commands = [tick.command.vx for tick in (*sinks[1].ticks, *sinks[1].stops)]
    # One tick may be lost when something leaves it.
    assert all(before - after <= 2.0 * STOP * PERIOD + 1e-9 for before, after in pairwise(commands))
    assert math.isclose(commands[-1], 0.0)


@pytest.mark.live
@pytest.mark.parametrize("kind", [SystemExit, KeyboardInterrupt, Leaves])
@pytest.mark.parametrize("place", ["write", "period", "on_tick"])
def test_in_real_time_too_and_no_thread_is_lost(place: str, kind: type[BaseException]) -> None:
    fails = Fails(place, kind, 0.8, True)
    sinks = [UserSink(fails), Notebook()]
    with pytest.raises(kind):
        tenuto.drive(MEDLAR, UserHands(fails), sinks, on_tick=told(fails, "on_tick"))
    for sink in sinks:
        assert [stop.command for stop in sink.stops] == [STANDSTILL]
        assert sink.ticks[-1].time <= 0.8 + 2.0
        # A slow machine may skip ticks of a thread, but the robot only becomes slower; the ramp is tested above.
        speeds = [tick.command.vx for tick in sink.ticks]
        after = speeds[speeds.index(max(speeds)) :]
        assert after == sorted(after, reverse=True)
