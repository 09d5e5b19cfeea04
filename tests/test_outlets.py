"""The health of the loop: sinks that block or fail, slow ticks, a changed profile, and signals to the driver."""

import random
import re
import threading
import time
from pathlib import Path

import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import MEDLAR, Bench, Hands, Notebook, examples
from tenuto import Profile, State, Tick
from tenuto.clock import SimulatedClock
from tenuto.data import shipped
from tenuto.driving.telemetry import Telemetry
from tenuto.profile.prepare import kept_with
from tenuto.runtime import outlet
from tenuto.runtime.changes import WatchedProfile
from tenuto.runtime.outlet import Waiting
from tenuto.sinks import Sink
from tenuto.vehicles.velocity import STANDSTILL

# A busy machine stalls the loop from time to time, which is not tested here.
PATIENT = MEDLAR.model_copy(
    update={
        "loop": MEDLAR.loop.model_copy(update={"stall_timeout": 2.0}),
        "guard": MEDLAR.guard.model_copy(update={"command_timeout": 0.5, "on_log_failure": "go on"}),
    }
)


class Stuck(Sink):
    """A sink that hangs from some time on, until it is released."""

    name = "stuck"

    def __init__(self, hangs_at: float) -> None:
        self.hangs_at, self.freed, self.taken = hangs_at, threading.Event(), list[Tick]()

    def write(self, tick: Tick) -> None:
        self.taken.append(tick)
        if tick.time > self.hangs_at:
            self.freed.wait()

    def stop(self, tick: Tick) -> None:
        self.taken.append(tick)


class Trembling(SimulatedClock):
    """A clock whose readings are a little later than those of others."""

    dice = random.Random(3)

    def now(self) -> float:
        return super().now() + self.dice.uniform(0.0, 1e-3)


class Answers(Notebook):
    """A sink whose far end reports something from time to time."""

    says = frozenset(("voltage",))
    telemetry = Telemetry(time=3.0, voltage=12.0)


def test_what_a_far_end_says_once_has_one_time_on_the_clock_of_the_ticks() -> None:
    clock = Trembling()
    sinks = outlet.Outlets([Answers()], clock, in_threads=False)
    clock.sleep_until(5.0)
    # The clock of the ticks has another origin, and goes back during the drive.
    times = [sinks.far_ends(now)["notebook"].time for now in (105.0, 105.0004, 105.0, 55.0, 55.0003)]
    assert len(set(times)) == 2
    assert [times[0], times[-1]] == pytest.approx([103.0, 53.0], abs=2e-3)


class Log(Notebook):
    """A log that fails during the drive."""

    is_log = True


class Pad(Hands):
    """A pad that rumbles."""

    def __init__(self) -> None:
        super().__init__()
        self.felt: list[tuple[float, float]] = []

    def rumble(self, strength: float, seconds: float) -> bool:
        self.felt.append((strength, seconds))
        return True


@pytest.mark.live
def test_a_sink_that_blocks_stops_the_robot_and_holds_nobody_up() -> None:
    stuck, other, rung = Stuck(0.6), Notebook(), []

    def watch(tick: Tick) -> str | None:
        if tick.time > 1.6:
            stuck.freed.set()
        return "done" if tick.time > 2.2 else None

    loud = PATIENT.model_copy(update={"feedback": PATIENT.feedback.model_copy(update={"by": "both"})})
    pad = Pad()
    tenuto.drive(loud, pad, [stuck, other], on_tick=watch, bell=lambda: rung.append(1))
    blocked = [tick for tick in other.ticks if "sink_blocked" in [reason.code for reason in tick.guard.reasons]]
    assert blocked[0].time == pytest.approx(1.1, abs=0.3)  # half a second after it hung
    assert blocked[0].guard.state is State.STOPPING
    assert "stuck has accepted nothing for 0.5" in blocked[0].guard.reasons[0].text
    assert max(b.time - a.time for a, b in zip(other.ticks, other.ticks[1:], strict=False)) < 0.4
    after = [tick for tick in other.ticks if tick.time > 1.8]
    assert after
    # Released again, with the stick still pushed: it stays at standstill.
    assert all(tick.command == STANDSTILL and tick.guard.state is State.FAULT for tick in after)
    assert "pressed again" in "".join(reason.text for reason in after[-1].guard.reasons)
    assert stuck.taken[-1].command == STANDSTILL
    assert len(stuck.taken) < len(other.ticks)  # only the newest, after it accepts ticks again
    assert (len(pad.felt), len(rung)) == (1, 1)  # enabled; a stop because of a sink is not a link loss


@pytest.mark.live
def test_a_sink_that_hangs_at_the_end_keeps_no_other_from_its_stop(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(outlet, "PATIENCE", 0.5)
    stuck, other = Stuck(0.3), Notebook()
    began = time.monotonic()
    with pytest.raises(tenuto.SinkError, match="stuck hangs: it did not accept its stop within"):
        tenuto.drive(PATIENT, Hands(), [stuck, other], on_tick=lambda tick: "done" if tick.time > 0.6 else None)
    assert time.monotonic() - began < 6.0
    assert [tick.command for tick in other.stops] == [STANDSTILL]
    stuck.freed.set()


@pytest.mark.live
@pytest.mark.parametrize("clock", [None, tenuto.SimulatedClock()])
def test_it_goes_on_without_a_log_where_the_profile_says_so(clock: tenuto.SimulatedClock | None) -> None:
    log, other, made = Log(fails_at=0.5), Notebook(), list[Tick]()

    def watch(tick: Tick) -> str | None:
        made.append(tick)
        return "done" if tick.time > 1.2 else None

    report = tenuto.drive(PATIENT, Hands(), [log, other], on_tick=watch, clock=clock)
    assert report.failed_logs == ["no space left"]
    assert max(tick.command.vx for tick in other.ticks if tick.time > 0.7) > 0.3
    told = {notice.text for tick in other.ticks for notice in tick.notices}
    assert "no space left: the drive continues without a log" in told
    assert len(log.ticks) == pytest.approx(sum(tick.time <= 0.52 for tick in made), abs=1)  # it had every tick
    strict = PATIENT.model_copy(update={"guard": MEDLAR.guard})
    with pytest.raises(OSError, match="no space left"):
        tenuto.drive(strict, Hands(), [Log(fails_at=0.5)], on_tick=watch, clock=clock)


@pytest.mark.live
def test_a_tick_that_takes_too_long_is_told() -> None:
    notebook, slept = Notebook(), [0.0]

    def slow(tick: Tick) -> str | None:
        if len(slept) > 1 and told():
            return "done"
        if tick.time > slept[-1] + 0.4:  # repeated, because the one notice may have been for a delay of the machine
            slept.append(tick.time)
            time.sleep(0.1)
        return "done" if tick.time > 30.0 else None

    def told() -> list[float]:
        notices = [notice.text for tick in list(notebook.ticks) for notice in tick.notices]
        found = [re.search(r"the last tick took (\d+) ms", text) for text in notices]
        return [int(one[1]) for one in found if one is not None and int(one[1]) >= 100]

    report = tenuto.drive(PATIENT, Hands(), [notebook], on_tick=slow)
    assert report.over_budget_ticks >= len(slept) - 1 >= 1
    assert report.worst_tick >= 0.1
    assert told()


def read(path: Path, text: str) -> Profile:
    path.write_text(text)
    return tenuto.load_profile(path)


def test_a_changed_profile_is_checked_first_and_stops_the_robot(tmp_path: Path) -> None:
    path = tmp_path / "mine.toml"
    text = shipped("medlar.toml").read_text()
    profile, ticks, log = read(path, text), list[Tick](), tenuto.open_sink(f"log:{tmp_path / 'run.csv'}")
    steps = [
        (0.7, text.replace("dead_zone = 0.08", "dead_zone = 8")),
        (1.4, text.replace('kind = "gamepad"', 'kind = "gamepad"\ndevice = "another"')),
        (1.9, "a = " + 100_000 * "["),
        (2.1, text.replace('forward = "1.2 m/s"', 'forward = "0.6 m/s"')),
    ]

    class Driver(Hands):
        """Releases and presses again some time after the last change."""

        def poll(self, now: float) -> tenuto.Frame:
            begun = now if now < 3.6 else now - 3.6
            return super().poll(begun)._replace(time=now)

    def watch(tick: Tick) -> str | None:
        ticks.append(tick)
        if steps and tick.time > steps[0][0]:
            read_later = steps.pop(0)[1]
            path.write_text(read_later)
        return "done" if tick.time > 6.0 else None

    clock = tenuto.SimulatedClock()
    with WatchedProfile(path, profile, clock=clock) as watched, log:
        tenuto.drive(profile, Driver(), [log], on_tick=watch, changes=watched, clock=clock)
    told = list(dict.fromkeys(notice.text for tick in ticks for notice in tick.notices if notice.code[:7] == "profile"))
    assert len(told) == 3
    assert "controls.drive.dead_zone: expected a share of the travel from 0 to 0.9, found 8" in told[0]
    assert "its sources differ" in told[1]
    assert "file: invalid TOML: tables or lists are nested too deeply" in told[2]
    refused = [tick for tick in ticks if 0.9 < tick.time < 2.0]
    assert all(tick.guard.state is State.DRIVING for tick in refused)
    assert max(tick.command.vx for tick in refused) > 0.8
    stop = next(tick for tick in ticks if tick.guard.state is State.STOPPING)
    assert stop.guard.reasons[0].text == "the profile has changed: the robot stops to load it"
    waiting = [tick for tick in ticks if stop.time + 1.0 < tick.time < 3.5]
    assert waiting
    assert all(tick.guard.state is State.NOT_ENABLED for tick in waiting)  # although hold-to-run is held all the time
    assert max(tick.command.vx for tick in ticks if tick.time > 4.5) == pytest.approx(0.6)
    # Each file of the log has the profile of its rows beside it.
    logs = [tmp_path / "run.csv", tmp_path / "run-2.csv"]
    assert sum(len(pd.read_csv(file)) for file in logs) == pytest.approx(len(ticks), abs=2)
    kept = [tenuto.load_profile(kept_with(file)).plan().speeds.forward for file in logs]
    assert kept == pytest.approx([1.2, 0.6])
    for file, speed in zip(logs, kept, strict=True):
        assert 0.8 * speed < pd.read_csv(file)["command.vx"].max() <= speed + 1e-6


@examples(60)
@given(
    st.floats(0.0, 1.0), st.floats(0.05, 0.5),
    st.lists(st.tuples(st.floats(0.0, 1.5), st.booleans(), st.booleans()), min_size=1, max_size=40),
)  # fmt: skip
def test_no_command_that_moves_is_handed_on_later_than_it_is_valid(
    period: float, valid: float, story: list[tuple[float, bool, bool]]
) -> None:
    """For any delay of the loop or the sink between storing a tick and taking it."""
    sink = Notebook()
    sink.period = period
    waiting, now, taken = Waiting(sink), 0.0, 0
    moving = Bench().drive(1.0)
    for passes, moves, takes in story:
        now += passes
        tick = moving._replace(time=now, valid_for=valid)
        waiting.add(tick if moves else tick._replace(command=STANDSTILL))
        now += passes if takes else 0.0
        item = waiting.take(now) if takes else None
        if isinstance(item, Tick):
            taken += 1
            assert now - item.time <= valid or item.command == STANDSTILL
    still = moving._replace(time=now, valid_for=valid, command=STANDSTILL)
    waiting.add(still)
    assert waiting.take(now + 9.0) is still, "a standstill is never too old"
