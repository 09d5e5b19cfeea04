"""The live loop at its real rate: the gamepad, the sinks, and every end of a drive."""

import threading
import time
from collections.abc import Callable, Iterator
from itertools import pairwise
from pathlib import Path

import pytest

import tenuto
from helpers import MEDLAR, Hands, Notebook
from tenuto import State, Tick
from tenuto.data import shipped
from tenuto.sim.gamepad import VirtualGamepad
from tenuto.sim.receiver import SimulatedReceiver
from tenuto.sinks.simulated import SimulatedSink
from tenuto.sources.base import Source
from tenuto.vehicles.velocity import STANDSTILL

pytestmark = pytest.mark.port

FORWARD, CENTRE = -30454, 983
# A busy machine may stall the loop.
PATIENT = MEDLAR.model_copy(update={"loop": MEDLAR.loop.model_copy(update={"stall_timeout": 2.0})})


@pytest.fixture
def virtual(monkeypatch: pytest.MonkeyPatch) -> Iterator[VirtualGamepad]:
    monkeypatch.setenv("SDL_VIDEODRIVER", "dummy")
    with VirtualGamepad() as gamepad:
        gamepad.set("left_y", CENTRE)
        gamepad.set("right_x", CENTRE)
        yield gamepad


@pytest.mark.live
def test_a_gamepad_drives_the_cart_and_losing_it_stops_for_good(virtual: VirtualGamepad) -> None:
    cart, ticks, moments = SimulatedSink(), list[Tick](), dict[str, float]()
    done = threading.Event()

    def driver() -> None:
        def act(wait: float, name: str, *changes: tuple[str, int]) -> None:
            time.sleep(wait)
            moments[name] = ticks[-1].time if ticks else 0.0
            for control, raw in changes:
                virtual.set(control, raw)

        act(0.1, "press", ("left_shoulder", 1))
        act(0.1, "push", ("left_y", FORWARD))
        until = time.monotonic() + 30.0
        while (not ticks or ticks[-1].command.vx < 0.5) and time.monotonic() < until:
            time.sleep(0.02)
        act(0.0, "pulled out")
        virtual.detach()
        time.sleep(1.0)
        virtual.attach()
        act(0.0, "put back", ("left_shoulder", 1), ("left_y", FORWARD), ("right_x", CENTRE))
        # Long enough to see that a stalled loop continues.
        while ticks[-1].time < moments["put back"] + 0.4 + 2 * max(tick.dt for tick in ticks):
            time.sleep(0.02)
        done.set()

    thread = threading.Thread(target=driver)

    def watch(tick: Tick) -> str | None:
        ticks.append(tick)
        return "done" if done.is_set() else None

    with tenuto.open_source("gamepad") as source:
        thread.start()
        report = tenuto.drive(PATIENT, source, [cart], on_tick=watch)
    thread.join()
    speed = max(tick.command.vx for tick in ticks)
    slack = 2 * max(tick.dt for tick in ticks)
    assert speed > 0.4
    assert cart.robot.now.x > 0.1
    lost = [tick for tick in ticks if tick.time > moments["pulled out"] + slack]
    assert all(tick.guard.state is not State.DRIVING for tick in lost)
    stood = next(tick.time for tick in lost if tick.command == STANDSTILL)
    assert stood - moments["pulled out"] <= 0.3 + speed / 1.5 + slack  # link timeout and ramp
    assert any("is disconnected: plug it in again" in reason.text for tick in lost for reason in tick.guard.reasons)
    back = [tick for tick in ticks if tick.time > moments["put back"] + slack]
    assert back
    assert all(tick.command == STANDSTILL for tick in back)
    assert "not_at_rest" in [reason.code for reason in back[-1].guard.reasons]
    assert report.ended == "done"
    assert report.ticks + report.skipped_ticks == pytest.approx(report.seconds * 50, abs=2 + 50 * report.worst_lateness)


def test_without_a_gamepad_the_error_says_what_to_do() -> None:
    with pytest.raises(tenuto.SourceError, match="plug one in, or drive from a recording"):
        tenuto.open_source("gamepad")


def broken_view(tick: Tick) -> None:
    if tick.time > 2.0:
        raise ZeroDivisionError


ENDINGS: dict[str, tuple[Callable[[], Source], float, Callable[[Tick], str | None], str]] = {
    "the source fails": (lambda: Hands(2.0), 1e9, lambda _: None, "hands failed: the cable broke"),
    "a sink fails": (Hands, 2.0, lambda _: None, "notebook failed: no space left"),
    "the view fails": (Hands, 1e9, broken_view, "the view of the drive failed: ZeroDivisionError()"),
    "it was enough": (Hands, 1e9, lambda tick: "enough" if tick.time > 2.0 else None, "enough"),
}


@pytest.mark.parametrize("name", ENDINGS)
def test_whatever_ends_a_drive_every_sink_gets_a_ramp_and_a_last_stop(name: str) -> None:
    source, sink_fails, view, reason = ENDINGS[name]
    failing, healthy = Notebook(sink_fails), Notebook()
    try:
        tenuto.drive(MEDLAR, source(), [failing, healthy], clock=tenuto.SimulatedClock(), on_tick=view)
    except (OSError, ZeroDivisionError):
        assert name != "it was enough"
    for sink in (failing, healthy):
        assert [tick.command for tick in sink.stops] == [STANDSTILL]
    speeds = [tick.command.vx for tick in healthy.ticks]
    assert max(speeds) == pytest.approx(1.2, abs=0.2)
    assert speeds[-1] == 0.0
    assert max(a - b for a, b in pairwise(speeds)) <= 1.5 * 0.02 + 1e-9  # a ramp, no jump
    assert reason in [text for tick in healthy.ticks for _, text in tick.guard.reasons]


def test_a_source_without_the_controls_is_refused_before_anything_moves(tmp_path: Path) -> None:
    file = tmp_path / "short.csv"
    file.write_text("time,left_y\n0,983\n")
    with pytest.raises(tenuto.SourceError, match=r"no right_x \(for steer\), left_shoulder .* it has left_y"):
        tenuto.replay(MEDLAR, file)


RECORDINGS = [
    ("", "expected a header"),
    ("left_y,right_x\n1,2\n", 'a column "time", found left_y, right_x'),
    ("time,a,a\n0,1,2\n", 'its own name, found "a"'),
    ("time,left_y\n", "at least one line"),
    ("time,left_y\n0,1\n0.02\n", "broken.csv:3: expected 2 numbers, as in the header, found 1"),
    ("time,left_y\n0,1\n0.02,x\n", 'broken.csv:3: expected a number in column left_y, found "x"'),
    ("time,left_y\n0,nan\n", 'column left_y, found "nan"'),
    ("time,left_y\n1,0\n0.5,0\n", "a time after 1 s, found 0.5 s"),
    ('time,left_y\n0,"1\n', "expected a line of CSV"),
]


@pytest.mark.parametrize(("text", "said"), RECORDINGS)
def test_broken_recordings_are_refused_with_line_and_column(tmp_path: Path, text: str, said: str) -> None:
    (tmp_path / "broken.csv").write_text(text)
    with pytest.raises(tenuto.RecordingError) as caught:
        tenuto.open_source(tmp_path / "broken.csv")
    assert str(tmp_path / "broken.csv") in str(caught.value)
    assert said in str(caught.value)


@pytest.mark.parametrize("text", ["log:", "log:x.txt", "simulate", "gamepod", "recording:"])
def test_texts_that_name_nothing_are_refused(text: str) -> None:
    opener = tenuto.open_source if text[0] in "gr" else tenuto.open_sink
    with pytest.raises(tenuto.TenutoError, match=f'found "{text}"'):
        opener(text)


RADIO = """
[source]
kind = "sbus"
port = "{port}"
[controls.enable]
reads = "channel_5"
[controls.drive]
reads = "channel_2"
dead_zone = 0.05
[controls.steer]
reads = "channel_4"
dead_zone = 0.05
"""


@pytest.mark.live
def test_a_radio_drives_the_cart_and_its_failsafe_is_no_driver() -> None:
    text = shipped("medlar.toml").read_text()
    head, tail = text.split("[source]")[0], text.split("[style]")[1]
    tail = tail.replace('"left_shoulder"', '"enable"') + 'stall_timeout = "2 s"\n'
    ticks: list[Tick] = []

    def channels(forward: float, enabled: bool) -> list[float]:
        return [1500.0, 1500.0 + 512.0 * forward, 1500.0, 1500.0, 2012.0 if enabled else 988.0, *([1500.0] * 11)]

    with SimulatedReceiver("sbus") as device:
        profile = tenuto.parse_profile(f"{head}{RADIO.format(port=device.port)}[style]{tail}")
        device.channels = channels(0.0, enabled=False)

        def driver(tick: Tick) -> str | None:
            """Reacts to each tick: enable, push, lose the transmitter, regain it."""
            ticks.append(tick)
            faults = device.faults
            if tick.guard.state is State.NOT_ENABLED and not faults.failsafe:
                held = any(reason.code == "hold_not_pressed" for reason in tick.guard.reasons)
                device.channels = channels(0.0, enabled=held)
            elif tick.guard.state is State.DRIVING:
                device.channels = channels(1.0, enabled=True)
                faults.failsafe = tick.command.vx > 0.3
            elif tick.guard.state is State.FAULT and tick.command == STANDSTILL:
                faults.failsafe = False  # the transmitter is back, its stick still pushed and its switch still on
                standing = [old for old in ticks if old.guard.state is State.FAULT]
                return "seen enough" if tick.time - standing[0].time > 1.0 else None
            return "too long" if tick.time > 30.0 else None

        with tenuto.open_source(profile) as source:
            report = tenuto.drive(profile, source, on_tick=driver)
    assert report.ended == "seen enough"
    assert max(tick.command.vx for tick in ticks) > 0.3
    first = next(tick for tick in ticks if tick.guard.state is State.STOPPING)
    assert "link_bad" in [reason.code for reason in first.guard.reasons]
    assert "in failsafe" in first.guard.reasons[0].text
    after = ticks[ticks.index(first) :]
    assert all(b.command.vx <= a.command.vx for a, b in pairwise(after))
    assert after[-2].frame is not None
    assert after[-2].frame.link_good
    assert after[-2].command == STANDSTILL
