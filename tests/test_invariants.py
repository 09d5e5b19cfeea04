"""The invariants detect planted errors, and no order of sticks, switches and faults breaks them."""

import math
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import MEDLAR, Bench, examples, pad
from tenuto import Frame, Pipeline, State, Tick
from tenuto.basics.reasons import Reason
from tenuto.data import shipped
from tenuto.driving.guard import GuardStatus
from tenuto.driving.stopping import worst_stop
from tenuto.sim.invariants import Watcher
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand


@pytest.fixture(scope="module")
def good() -> list[Tick]:
    """A complete drive: rest, enabling, driving, a stop, and standstill."""
    bench = Bench()
    bench.drive(2.0, left=0.5)
    bench.run(1.5, pad(1.0, 0.5))
    bench.run(0.5, None)
    return bench.ticks


def watched(ticks: list[Tick]) -> str:
    watcher = Watcher(MEDLAR.plan())
    return "; ".join(what for tick in ticks for what in watcher.see(tick))


WHY = (Reason("hold_not_pressed", "let go"),)
PLANTED: dict[str, tuple[float, dict[str, Any], str]] = {
    "a number that is none": (1.0, {"command": VelocityCommand(vx=math.nan)}, "command vx is nan"),
    "an actuator gone wild": (1.0, {"actuators": {"left_wheel": math.inf}}, "actuator left_wheel is inf"),
    "a jump": (1.0, {"command": VelocityCommand(vx=1.2)}, "vx changes by"),
    "more than the wheels can do": (1.0, {"command": VelocityCommand(vx=1.3, yaw_rate=3.0)}, "the vehicle cannot do"),
    "a speed without permission": (3.4, {"target": VelocityCommand(vx=0.1)}, "heads for a speed"),
    "motion while standing": (3.6, {"command": VelocityCommand(vx=0.01)}, "it moves while not enabled"),
    "no reason": (3.4, {"guard": GuardStatus(State.NOT_ENABLED, ())}, "not enabled with 0 reasons"),
    "driving and reasons": (1.0, {"guard": GuardStatus(State.DRIVING, WHY)}, "driving with 1 reasons"),
    "never enabled": (0.08, {"guard": GuardStatus(State.DRIVING, ())}, "nobody has released"),
    "speeding up in a stop": (2.4, {"command": VelocityCommand(vx=1.3)}, "without permission"),
}


@pytest.mark.parametrize("name", PLANTED)
def test_what_is_planted_is_seen(good: list[Tick], name: str) -> None:
    at, change, said = PLANTED[name]
    assert watched(good) == ""
    row = next(number for number, tick in enumerate(good) if tick.time >= at)
    assert said in watched([*good[:row], good[row]._replace(**change), *good[row + 1 :]])


def test_a_robot_that_drives_on_in_silence_is_seen(good: list[Tick]) -> None:
    last = next(tick for tick in good if tick.time >= 2.0)
    silent = [last._replace(time=last.time + step * 0.02, new_frame=False) for step in range(1, 120)]
    plan = MEDLAR.plan()
    assert worst_stop(plan).seconds == pytest.approx(1.2 / 1.5)
    assert "still moves" in watched([*[tick for tick in good if tick.time <= last.time], *silent])


PROFILES = ("medlar", "medlar-lift", "quince", "sorrel", "damson")
places = st.sampled_from([0.0, 0.0, 0.02, 0.5, 1.0, -1.0])
moves = st.one_of(
    st.tuples(st.just("enable"), st.integers(3, 30), st.lists(places, min_size=4, max_size=4), st.integers(0, 9)),
    st.tuples(st.just("push"), st.integers(1, 40), st.lists(places, min_size=4, max_size=4), st.integers(0, 9)),
    st.tuples(st.just("let go"), st.integers(1, 20), st.lists(places, min_size=4, max_size=4), st.integers(0, 9)),
    st.tuples(st.just("fault"), st.integers(1, 30),
              st.sampled_from(["silence", "bad link", "nan", "stall", "back", "gone"])),
)  # fmt: skip


class Anyone:
    """A driver with the sticks and buttons of a profile, who does anything with them."""

    def __init__(self, name: str) -> None:
        profile = tenuto.load_profile(shipped(f"{name}.toml"))
        self.pipeline, self.plan = Pipeline(profile), profile.plan()
        self.sticks = [one for one in self.plan.controls if one.name in self.plan.driving_controls()]
        hold = self.plan.guard.hold_to_run
        self.hold = next(one for one in self.plan.controls if one.name == hold)
        self.others = [one for one in self.plan.controls if one not in (*self.sticks, self.hold)]
        self.now = 0.0
        self.drove = 0.0

    def values(self, held: bool, pushed: list[float], pressed: int) -> dict[str, float]:
        found = {}
        for number, control in enumerate(self.sticks):
            low, centre, high = control.travel.low, control.travel.centre, control.travel.high
            share = pushed[number % len(pushed)] * (-1.0 if control.travel.reverse else 1.0)
            middle = low if centre is None else centre
            found[control.reads] = middle + share * ((high - middle) if share > 0 else (middle - low))
        for number, control in enumerate(self.others):
            found[control.reads] = control.travel.high if number == pressed else control.travel.low
        found[self.hold.reads] = self.hold.travel.high if held else self.hold.travel.low
        return found

    def step(self, values: dict[str, float] | None, dt: float = 0.02, link: bool = True) -> None:
        self.now += dt
        tick = self.pipeline.step(None if values is None else Frame(self.now, values, link), self.now)
        self.drove = max(self.drove, *map(abs, tick.command))

    def do(self, kind: str, count: int, *more: Any) -> None:
        if kind == "fault":
            self.suffer(count, more[0])
            return
        if kind == "enable":
            for held in (False, True):
                for _ in range(4):
                    self.step(self.values(held, [0.0], -1))
        for _ in range(count):
            self.step(self.values(kind != "let go", *more))

    def suffer(self, count: int, fault: str) -> None:
        values = self.values(True, [1.0], -1)
        if fault == "stall":
            self.step(values, 0.05 * count)
        elif fault == "back":
            self.step(values, -0.01 * count)
        else:
            broken = {"nan": values | {self.sticks[0].reads: math.nan}, "gone": {}, "silence": None}
            for _ in range(count):
                self.step(broken.get(fault, values), link=fault != "bad link")


@pytest.mark.parametrize("name", PROFILES)
@examples(60)
@given(story=st.lists(moves, min_size=1, max_size=10))
def test_nobody_breaks_an_invariant_of_any_robot(name: str, story: list[tuple[Any, ...]]) -> None:
    anyone = Anyone(name)  # every tick is watched: see conftest.py
    for kind, count, *more in story:
        anyone.do(kind, count, *more)
    assert anyone.pipeline.halt(anyone.now).command == STANDSTILL


@pytest.mark.parametrize("name", PROFILES)
def test_the_same_somebody_does_drive(name: str) -> None:
    anyone = Anyone(name)
    anyone.do("enable", 40, [1.0], -1)
    assert anyone.drove > 0.1
