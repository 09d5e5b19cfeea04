"""What ends a drive where nothing else would: power, pending stops, kept outputs, rates of sinks, failed sources."""

from __future__ import annotations

import math

import pytest

import tenuto
from helpers import PERIOD, Bench, Hands, Notebook, pad
from tenuto import Frame, State, Tick
from tenuto.basics.layouts import ControlInfo
from tenuto.data import shipped
from tenuto.driving.changeover import Changeover
from tenuto.driving.plan import Plan
from tenuto.vehicles.velocity import STANDSTILL

TEXT = shipped("medlar.toml").read_text()
EMERGENCY = 'emergency_stop = "north"\nreset = "south"\n'
BUTTONS = {"north": 0.0, "south": 0.0, "west": 0.0, "east": 0.0}


def medlar(guard: str, more: str = "") -> tenuto.Profile:
    return tenuto.parse_profile(TEXT.replace("[guard]\n", f"[guard]\n{guard}\n") + more)


class Line:
    """A drive whose profile may change, in simulated time."""

    def __init__(self, plan: Plan) -> None:
        self.line, self.now = Changeover(plan), 0.0

    def run(self, seconds: float, forward: float = 0.0, held: bool = False, **pressed: float) -> Tick:
        for _ in range(max(round(seconds / PERIOD), 1)):
            self.now += PERIOD
            tick = self.line.step(Frame(self.now, pad(forward, held=held) | BUTTONS | pressed), self.now)
        return tick

    def drive(self) -> Tick:
        self.run(0.2)
        self.run(0.2, held=True)
        return self.run(2.0, 1.0, held=True)


def test_a_changed_profile_gives_no_power_back() -> None:
    """A fault has removed it; after it only a new enabling returns it, whatever changes in between."""
    plan = medlar("fault_category = 0").plan()
    line = Line(plan)
    assert line.drive().power
    line.now += 1.0
    assert not line.run(0.1).power, "the link was silent"
    line.line.change(plan)
    assert not line.run(0.2).power
    assert not line.run(1.0, 1.0).power, "nor a stick"
    assert line.drive().power


@pytest.mark.parametrize("first", ["the stop", "the change"])
def test_an_emergency_stop_that_is_asked_for_while_a_profile_changes_is_not_lost(first: str) -> None:
    profile = medlar(EMERGENCY)
    line = Line(profile.plan())
    line.run(0.5)
    for what in (first, *({"the stop", "the change"} - {first})):
        if what == "the stop":
            line.line.pipeline.emergency_stop("by the program")
        else:
            line.line.change(profile.plan())
    assert line.run(0.02).guard.state is State.EMERGENCY_STOP
    assert line.drive().command == STANDSTILL
    line.run(0.1)
    line.run(0.1, south=1.0)
    assert line.drive().command.vx > 1.0


@pytest.mark.parametrize("category", [0, 1])
@pytest.mark.parametrize("when", ["keep", "always"])
def test_an_emergency_stop_switches_a_kept_output_off_at_once(category: int, when: str) -> None:
    """In category 1 too, while the robot ramps down with power; a gripper that must hold says "always"."""
    more = f'\n[outputs.saw]\nkind = "levels"\nswitch = "saw_button"\nlevels = [0, 1]\nwhen_stopped = "{when}"\n'
    more += '[switches.saw_button]\nkind = "latch"\nreads = "west"\n'
    bench = Bench(medlar(f"{EMERGENCY}emergency_category = {category}", more))
    bench.run(0.1, pad() | BUTTONS)
    bench.run(0.1, pad(held=True) | BUTTONS)
    ahead = pad(1.0, held=True) | BUTTONS
    bench.run(2.0, ahead)
    bench.run(0.1, ahead | {"west": 1.0})
    assert bench.run(0.1, ahead).outputs["saw"] == 1.0
    tick = bench.run(PERIOD, ahead | {"north": 1.0})
    assert (tick.guard.state, tick.power) == (State.EMERGENCY_STOP, category == 1)
    assert tick.outputs["saw"] == float(when == "always")
    assert bench.run(3.0, ahead).outputs["saw"] == float(when == "always")


class Pressing(Hands):
    """Hands that press the emergency stop at a time, and a pad that has it."""

    def __init__(self, at: float = math.inf, fails_at: float = 1e9) -> None:
        super().__init__(fails_at)
        self.at = at

    def controls(self) -> tuple[tenuto.ControlInfo, ...]:
        return (*super().controls(), *(ControlInfo(name, 0, 1, 0) for name in BUTTONS))

    def poll(self, now: float) -> Frame:
        frame = super().poll(now)
        return frame._replace(values={**frame.values, **BUTTONS, "north": float(now >= self.at)})


class Slow(Notebook):
    """A sink that takes a tick every 5 s."""

    period = 5.0


def test_an_emergency_stop_does_not_wait_for_the_rate_of_a_sink() -> None:
    clock, sink = tenuto.SimulatedClock(), Slow()
    tenuto.drive(
        medlar(f"{EMERGENCY}emergency_category = 1"), Pressing(at=2.5), [sink], clock=clock,
        on_tick=lambda tick: "enough" if tick.time > 4.0 else None,
    )  # fmt: skip
    stops = [tick.time for tick in sink.ticks if tick.guard.state is State.EMERGENCY_STOP]
    assert stops, "it was handed on"
    assert stops[0] == pytest.approx(2.5, abs=2 * PERIOD)


@pytest.mark.parametrize("order", [(0, 2), (2, 0), (1, 2), (2, 1)])
def test_of_several_inhibits_the_most_severe_category_counts(order: tuple[int, int]) -> None:
    text = "".join(
        f'\n[inhibits.bumper_{number}]\nreads = "{button}"\nnormally = "open"\nstop_category = {category}\n'
        for number, (category, button) in enumerate(zip(order, ("west", "east"), strict=True))
    )
    bench = Bench(medlar("", text))
    bench.run(0.1, pad() | BUTTONS)
    bench.run(0.1, pad(held=True) | BUTTONS)
    assert bench.run(2.0, pad(1.0, held=True) | BUTTONS).command.vx > 1.0
    tick = bench.run(PERIOD, pad(1.0, held=True) | BUTTONS | {"west": 1.0, "east": 1.0})
    assert tick.power == (min(order) != 0)
    assert (tick.command == STANDSTILL) == (min(order) == 0)
    assert bench.run(3.0, pad(1.0, held=True) | BUTTONS | {"west": 1.0, "east": 1.0}).power == (min(order) == 2)


def test_the_main_source_is_read_after_another_one_has_failed() -> None:
    """A bumper's port breaks; while the robot ramps down, the emergency stop on the driver's pad still counts."""
    text = '\n[inhibits.bumper]\nreads = "north"\nnormally = "open"\nsource = { kind = "gamepad" }\ntimeout = "5 s"\n'
    seen: list[Tick] = []
    with pytest.raises(OSError, match="the cable broke"):
        tenuto.drive(
            medlar(f"{EMERGENCY}emergency_category = 0\n", text), Pressing(at=2.1), [],
            others={"bumper": Pressing(fails_at=2.0)}, clock=tenuto.SimulatedClock(), on_tick=seen.append,
        )  # fmt: skip
    pressed = [tick for tick in seen if tick.time >= 2.1]
    assert pressed[0].command == STANDSTILL
    assert not pressed[0].power
