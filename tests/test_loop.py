"""The loop on a test's own clock: no drift, counted lateness, and every kind of end."""

import contextlib
import itertools
import os
import pty
import signal
import subprocess
import tty
from collections.abc import Iterator
from itertools import pairwise
from pathlib import Path
from types import UnionType
from typing import Annotated, Any, Union, get_args, get_origin

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import BaseModel

import tenuto
from brokers import wait_for
from helpers import MEDLAR, Bench, Hands, Notebook, examples, pad
from tenuto import Frame, State, Tick
from tenuto.basics.layouts import ControlInfo
from tenuto.clock import Aligned
from tenuto.data import shipped
from tenuto.kinds.tables import OneOf
from tenuto.sources.base import Source
from tenuto.sources.gamepad import GamepadOptions
from tenuto.sources.keyboard import Keyboard
from tenuto.sources.recording import Recording
from tenuto.sticks.observe import Observer
from tenuto.vehicles.velocity import STANDSTILL

LIFT = tenuto.load_profile(shipped("medlar-lift.toml"))


class SlowClock:
    """A clock on which every tick takes time, and some take much longer."""

    def __init__(self, delays: Iterator[float]) -> None:
        self.delays = delays
        self.time = 100.0

    def now(self) -> float:
        return self.time

    def sleep_until(self, moment: float) -> None:
        self.time = max(self.time, moment) + next(self.delays)


def test_ticks_keep_their_times_and_lateness_is_told() -> None:
    delays = [0.0, 0.001, 0.012, 0.0, 0.065, 0.0]
    notebook = Notebook()
    report = tenuto.drive(
        MEDLAR, Hands(), [notebook], clock=SlowClock(iter(delays * 100)),
        on_tick=lambda tick: "enough" if tick.time > 103.0 else None,
    )  # fmt: skip
    times = [tick.time for tick in notebook.ticks]
    due = [100.0 + 0.02 * round((time - 100.0 - 0.0001) // 0.02) for time in times]
    assert all(0 <= time - planned < 0.0201 for time, planned in zip(times, due, strict=True))  # no drift
    assert all(b > a for a, b in pairwise(times))
    assert report.worst_lateness == pytest.approx(0.065)
    assert report.skipped_ticks == pytest.approx(report.ticks / 2, abs=3)  # three of each six
    assert report.late_ticks == pytest.approx(report.ticks / 3, abs=2)


def test_the_second_signal_does_not_wait_for_the_ramp() -> None:
    def impatient(tick: Tick) -> None:
        if tick.command.vx > 0.8 or tick.guard.state is State.STOPPING:
            os.kill(os.getpid(), signal.SIGINT)

    notebook, before = Notebook(), signal.getsignal(signal.SIGINT)
    report = tenuto.drive(MEDLAR, Hands(), [notebook], clock=tenuto.SimulatedClock(), on_tick=impatient)
    assert report.ended == "Ctrl-C: stop requested"
    assert notebook.ticks[-1].command.vx > 0.5
    assert [tick.command for tick in notebook.stops] == [STANDSTILL]
    assert signal.getsignal(signal.SIGINT) is before


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="no /dev/full here")
def test_a_full_disk_stops_the_robot_and_says_so(tmp_path: Path) -> None:
    (tmp_path / "full.csv").symlink_to("/dev/full")
    log, notebook = tenuto.open_sink(f"log:{tmp_path / 'full.csv'}"), Notebook()
    with pytest.raises(tenuto.SinkError, match="No space left on device"):
        tenuto.drive(MEDLAR, Hands(), [log, notebook], clock=tenuto.SimulatedClock())
    with pytest.raises(tenuto.SinkError, match="cannot close the log"):
        log.close()
    assert any("No space left" in text for tick in notebook.ticks for _, text in tick.guard.reasons)
    assert all(a.command.vx - b.command.vx <= 1.5 * 0.02 + 1e-9 for a, b in pairwise(notebook.ticks))
    assert notebook.stops[0].command == STANDSTILL


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="no /dev/full here")
def test_events_on_a_full_disk_are_an_error_like_any_log(tmp_path: Path) -> None:
    (tmp_path / "full.jsonl").symlink_to("/dev/full")
    with pytest.raises(tenuto.SinkError, match="cannot write events: No space left on device"):
        tenuto.drive(MEDLAR, Hands(), [f"events:{tmp_path / 'full.jsonl'}"], clock=tenuto.SimulatedClock())


@pytest.mark.parametrize("to", ["log:run.csv", "log:run.jsonl", "log:run.mcap", "log:run.parquet", "events:run.jsonl"])
def test_a_log_that_is_removed_during_a_drive_is_an_error(to: str, tmp_path: Path) -> None:
    kind, name = to.split(":")

    def watch(tick: Tick) -> None:
        if tick.time >= 1.5:
            for file in tmp_path.glob("run*"):
                file.unlink()

    notebook = Notebook()
    sinks = [tenuto.open_sink(f"{kind}:{tmp_path / name}"), notebook]
    with pytest.raises(tenuto.SinkError, match="the file was removed during the drive"):
        tenuto.drive(MEDLAR, Hands(), sinks, clock=tenuto.SimulatedClock(), on_tick=watch)
    assert notebook.stops[0].command == STANDSTILL
    with contextlib.suppress(tenuto.SinkError):
        sinks[0].close()


@pytest.mark.live
def test_a_terminal_that_another_program_puts_into_line_mode_is_taken_over_again(keys: tuple[int, Keyboard]) -> None:
    """Such as the helper, whose own process is killed: then X would wait for Enter."""
    terminal, keyboard = keys
    os.write(terminal, b"\r")
    assert wait_for(lambda: bool(keyboard.poll(0.0).values["enable"]))  # type: ignore[union-attr]
    found = subprocess.run(["pgrep", "-P", str(keyboard._helper.pid)], capture_output=True, text=True, check=True)
    os.kill(int(found.stdout), signal.SIGKILL)
    seen = list[Frame]()
    while not seen or seen[-1].link_good:
        frame = keyboard.poll(0.1)
        seen += [frame] if frame is not None else []
    assert "another program has changed the terminal" in seen[-1].note
    assert not seen[-1].values["enable"]
    os.write(terminal, b"x")
    assert wait_for(lambda: bool(keyboard.poll(2.0).values["emergency"]))  # type: ignore[union-attr]
    assert keyboard.poll(3.0).link_good  # type: ignore[union-attr]


def test_what_moved_most_is_picked_out() -> None:
    observer = Observer(GamepadOptions.layout)
    still = {info.name: info.rest for info in GamepadOptions.layout}
    for step in range(300):
        now = step * 0.01
        moving = "right_x" if now < 1.5 else "left_trigger"
        noise = 200.0 * (step % 3 - 1)
        observer.add(Frame(now, still | {"left_y": noise, moving: 300.0 * (step % 100)}))
        if step == 140:
            assert observer.look(now) == pytest.approx(100, abs=2)
            assert observer.most_moved() == "right_x"
    observer.look(3.0)
    assert observer.most_moved() == "left_trigger"
    observer.add(Frame(3.1, still | {"left_y": 9e9}, link_good=False))  # no hand moved it: not counted
    seen = observer.controls["left_y"]
    assert (seen.low, seen.high) == (-200.0, 200.0)
    assert observer.controls["right_x"].position == pytest.approx(0.0)
    observer.look(9.0)
    assert observer.most_moved() is None


@pytest.fixture
def keys() -> Iterator[tuple[int, Keyboard]]:
    master, slave = pty.openpty()
    tty.setraw(master)
    with Keyboard(slave) as keyboard:
        yield master, keyboard
    os.close(master)


def test_what_the_keys_mean(keys: tuple[int, Keyboard]) -> None:
    terminal, keyboard = keys
    expected = (0.0, 0.0)
    held: set[str] = set()

    def after(now: float, text: bytes) -> dict[str, float]:
        os.write(terminal, text)
        frame = keyboard.poll(now)
        assert frame is not None
        told = {name: round(value, 3) for name, value in frame.values.items()}
        urgent = (told.pop("emergency"), told.pop("reset"))
        assert urgent == expected
        held.clear()
        held.update(name for name in list(told) if name.startswith("key_") and told.pop(name))
        return told

    assert after(0.0, b"\n") == {"forward": 0, "turn": 0, "enable": 1}
    for text, forward, turn in (
        (b"w", 1, 0), (b"s", -1, 0), (b"a", 0, 1), (b"D", 0, -1), (b"q", 1, 1), (b"E", 1, -1),
        (b"z", -1, 1), (b"Y", -1, 1), (b"c", -1, -1),
        (b"\x1b[A", 1, 0), (b"\x1b[B", -1, 0), (b"\x1b[D", 0, 1), (b"\x1bOC", 0, -1), (b"\x1b[15~\xff?", 0, -1),
    ):  # fmt: skip
        assert after(1.0, text) == {"forward": 0.3 * forward, "turn": 0.3 * turn, "enable": 1}, text
    assert after(1.5, b"H7") == {"forward": 0.0, "turn": -0.3, "enable": 1}, "other keys are no motion"
    assert held == {"key_h", "key_7"}
    after(2.0, b"w\x1b")  # an arrow that comes in two pieces
    assert after(2.1, b"[D")["turn"] == 0.3
    assert after(2.69, b"")["turn"] == 0.3  # a first press lasts until a repeat must arrive
    assert after(2.71, b"")["turn"] == 0.0
    after(3.0, b"w")
    after(3.5, b"w")
    assert after(3.74, b"")["forward"] == 0.3
    assert after(3.76, b"")["forward"] == 0.0  # between repeats the time is shorter
    assert after(4.0, b"w" + b"+" * 20)["forward"] == 1.0
    assert after(4.1, b"-" * 20)["forward"] == 0.1
    assert after(4.15, b"q..")["turn"] == 0.5, "the turn is stepped by itself"
    assert after(4.17, b"q,,,,")["turn"] == 0.1
    assert held == set(), "a key that was tapped is let go"
    assert after(4.2, b"w ") == {"forward": 0, "turn": 0, "enable": 0}
    after(5.0, b"\n")
    assert after(24.9, b"")["enable"] == 1
    assert after(25.1, b"")["enable"] == 0  # the driver has left
    expected = (1.0, 0.0)
    assert after(26.0, b"\nwx") == {"forward": 0, "turn": 0, "enable": 0}
    after(27.0, b"\n")  # it stays
    expected = (0.0, 1.0)
    after(28.0, b"r")
    expected = (0.0, 0.0)
    assert after(28.4, b"")["enable"] == 1


class Talkative(Source):
    """A source whose link is sometimes bad."""

    name = "talkative"

    def controls(self) -> tuple[ControlInfo, ...]:
        return Hands().controls()

    def poll(self, now: float) -> Frame:
        good = not 1.0 < now < 1.1
        return Hands().poll(now)._replace(link_good=good, note="" if good else "a passing tractor")


def test_a_bad_link_is_written_down_with_what_the_source_says() -> None:
    notebook = Notebook()
    stop = 2.5
    tenuto.drive(
        MEDLAR, Talkative(), [notebook], clock=tenuto.SimulatedClock(),
        on_tick=lambda tick: "enough" if tick.time > stop else None,
    )  # fmt: skip
    rows = [tick.as_row() for tick in notebook.ticks]
    assert {row["guard.codes"] for row in rows if 1.02 < float(row["time"]) < 1.08} == {"link_bad"}
    assert any("a passing tractor" in str(row["guard.reasons"]) for row in rows)
    last = notebook.ticks[-2]
    assert (last.guard.state, last.command) == (State.FAULT, STANDSTILL)


def _whole(field: Any) -> Any:
    """Return the annotation of a field with its metadata, for a kind of table."""
    return next(
        (Annotated[field.annotation, said] for said in field.metadata if isinstance(said, OneOf)), field.annotation
    )


def any_kind_of(table: Any) -> list[Any]:
    one_of = [said for said in get_args(table)[1:] if isinstance(said, OneOf)] if get_origin(table) is Annotated else []
    return one_of[0].tables() if one_of else [table]


def keys_of(table: Any, place: str = "") -> Iterator[str]:
    """Return every key of a profile, with NAME for names of the user."""
    kinds = get_args(table) if get_origin(table) in (Union, UnionType) else [table]
    kinds = [one for kind in kinds for one in any_kind_of(kind)]
    for kind in kinds:
        if get_origin(kind) is Annotated:
            yield from keys_of(get_args(kind)[0], place)
        elif get_origin(kind) is dict and place.count("NAME") == 0:
            yield from keys_of(get_args(kind)[1], f"{place}NAME.")
        elif (
            isinstance(kind, type) and issubclass(kind, BaseModel) and place.count(".") < (3 if "NAME" in place else 2)
        ):
            yield from (key for name, field in kind.model_fields.items()
                        for key in keys_of(_whole(field), f"{place}{name}."))  # fmt: skip
        else:
            yield place.rstrip(".")


@pytest.mark.parametrize("page", ["profile.md", "sources.md"])
def test_the_docs_name_every_key_and_every_source(page: str) -> None:
    from tenuto.profile.profile import Profile
    from tenuto.sources.base import SOURCES

    text = (Path(__file__).parents[1] / "docs" / page).read_text()
    if page == "sources.md":
        wanted = set(SOURCES.all) | {name.name for name in SOURCES.all["keyboard"].layout[2:5]}
    else:
        wanted = {".".join(key.split(".")[:3]).removesuffix(".NAME") for key in keys_of(Profile)}
        assert {"controls.NAME.expo", "outputs.NAME.up_level", "chassis.track", "switches.NAME.sticks"} <= wanted
    assert [word for word in sorted(wanted) if f"`{word}" not in text and word not in ("style", "choose")] == []


@pytest.mark.parametrize(
    ("source", "key", "said"),
    [
        ('kind = "sbus"', "source.port", "expected a serial port, such as /dev/ttyAMA0, found nothing"),
        (
            'kind = "gamepad"\nport = "x"',
            "source.port",
            "expected one of kind, driver, device with kind gamepad, found",
        ),
        ('kind = "ppm"\nfile = "x.csv"', "controls.drive.reads", 'expected a control of the ppm, found "left_y"'),
        (
            'kind = "lines"\nport = "x"\nbaud = -1',
            "source.baud",
            "expected a whole number of baud, such as 115200, found -1",
        ),
    ],
)
def test_a_profile_whose_source_does_not_fit(source: str, key: str, said: str) -> None:
    text = shipped("medlar.toml").read_text().replace('kind = "gamepad"', source)
    with pytest.raises(tenuto.ProfileError) as caught:
        tenuto.parse_profile(text)
    assert f"{key}: {said}" in str(caught.value)


def test_lines_must_be_told_their_range() -> None:
    text = shipped("medlar.toml").read_text().replace('kind = "gamepad"', 'kind = "lines"\nport = "x"')
    text = text.replace('hold_to_run = "left_shoulder"', 'hold_to_run = "button"')
    with pytest.raises(tenuto.ProfileError, match=r"guard\.hold_to_run: expected a control of the lines or the name"):
        tenuto.parse_profile(text)
    text += '\n[controls.button]\nreads = "b"\n'
    with pytest.raises(tenuto.ProfileError, match=r"controls\.button\.low: .*the device does not report it"):
        tenuto.parse_profile(text)
    drive, _, button = tenuto.parse_profile(text + "low = 0\nhigh = 1023\n").plan().controls
    assert button.travel.centre is None
    assert button.believable == pytest.approx((-102.3, 1125.3))
    assert drive.travel.reverse is False  # the direction of a column is unknown


@pytest.mark.long
@examples(40)
@given(
    st.lists(st.tuples(st.integers(3, 20), st.integers(3, 20)), min_size=1, max_size=8),
    st.lists(st.floats(0.0, 0.9), min_size=1, max_size=9),
)
def test_a_loop_that_stalls_loses_no_press(presses: list[tuple[int, int]], delays: list[float]) -> None:
    """A trim button is pressed and released, for some frames each, with a loop that is late by some seconds."""
    plan = LIFT.plan()
    rest = dict.fromkeys((name for control in plan.controls for name in control.all_reads), 0.0)
    pressed = [0.0] * 5 + [level for on, off in presses for level in [1.0] * on + [0.0] * off]
    frames = [Frame(0.02 * step, rest | {"dpad_left": level}) for step, level in enumerate(pressed)]
    hands = Recording("trim.csv", frames=frames)
    report = tenuto.drive(LIFT, hands, clock=SlowClock(itertools.cycle(delays)))
    assert report.trims["steer"] == pytest.approx(min(0.005 * len(presses), 0.1))


@pytest.mark.parametrize("edge", [0, 1])
def test_an_action_is_fired_whichever_of_several_frames_has_its_press(edge: int) -> None:
    """A receiver sends several frames per tick: a press may begin in any of them."""
    plan = LIFT.plan()
    rest = dict.fromkeys((name for control in plan.controls for name in control.all_reads), 0.0)
    pipeline, fired, horn = tenuto.Pipeline(LIFT), list[str](), rest | {"left_stick": 1.0}
    for step in range(12):
        time, down = 0.02 * step, step >= 5
        before = horn if step > 5 or (down and edge == 0) else rest
        now = horn if down else rest
        tick = pipeline.step(Frame(time, now, earlier=((time - 0.01, before),)), time)
        fired += tick.actions
    assert fired == ["horn"]


def test_an_enabling_switch_that_was_off_between_two_ticks_is_a_release() -> None:
    text = shipped("medlar.toml").read_text().replace('hold_to_run = "left_shoulder"', 'enable = "run"')
    bench = Bench(tenuto.parse_profile(text + '\n[switches.run]\nkind = "momentary"\nreads = "left_shoulder"\n'))
    for values in (pad(), pad(held=True), pad()):
        bench.run(0.2, values)
    assert bench.run(0.5, pad(1.0)).guard.state is State.DRIVING
    taps = [pad(1.0, held=held) for held in (True, False, True, False) for _ in range(4)]
    now, dt = bench.now, 0.19
    earlier = tuple((now + dt * (n + 1) / 17, values) for n, values in enumerate(taps))
    assert bench.step(pad(1.0), dt, earlier=earlier).guard.state is State.STOPPING
    assert bench.run(2.0, pad(1.0)).guard.state is not State.DRIVING


@pytest.mark.parametrize("kind", ['kind = "momentary"', 'kind = "positions"\npositions = 2'])
@given(st.lists(st.booleans(), min_size=5, max_size=20), st.integers(0, 3))
def test_a_switch_enables_however_many_frames_came_while_it_was_off(kind: str, doubled: list[bool], late: int) -> None:
    """Sometimes two frames come in one tick, before the press and with it."""
    text = shipped("medlar.toml").read_text().replace('hold_to_run = "left_shoulder"', 'enable = "run"')
    bench = Bench(tenuto.parse_profile(text + f'\n[switches.run]\n{kind}\nreads = "left_shoulder"\n'))
    for double in doubled:
        bench.step(pad(), 0.02, earlier=((bench.now + 0.01, pad()),) if double else ())
    bench.step(pad(held=True), 0.02, earlier=tuple((bench.now + 0.004 * (n + 1), pad()) for n in range(late)))
    assert bench.run(0.3, pad(held=True)).guard.state is State.DRIVING


def test_whatever_raises_while_it_ends_every_sink_gets_a_stop(monkeypatch: pytest.MonkeyPatch) -> None:
    def broken(*_: Any) -> Any:
        raise RuntimeError("a bug")

    def watch(tick: Tick) -> str | None:
        if tick.command.vx > 0.2:
            monkeypatch.setattr(tenuto.Pipeline, "halt", broken)
            monkeypatch.setattr(tenuto.Pipeline, "_move", broken)
        return None

    notebooks = Notebook(), Notebook()
    with pytest.raises(RuntimeError, match="a bug"):
        tenuto.drive(MEDLAR, Hands(), notebooks, clock=tenuto.SimulatedClock(), on_tick=watch)
    for notebook in notebooks:
        assert notebook.ticks[-1].command.vx > 0.2
        assert [(stop.command, stop.power) for stop in notebook.stops] == [(STANDSTILL, False)]


@examples(60)
@given(st.lists(st.tuples(st.floats(0.0, 0.05), st.floats(0.0, 0.02)), min_size=2, max_size=20), st.floats(0.0, 100.0))
def test_moments_of_another_clock_keep_their_order_however_late_one_asks(
    asked: list[tuple[float, float]], ahead: float
) -> None:
    shows = [0.0]
    aligned, moment, told = Aligned(lambda: shows[0]), 0.0, list[tuple[float, float]]()
    for pause, late in [(0.0, 0.0), *asked]:
        moment += pause
        shows[0] = moment + ahead + late  # the loop reads its clock before the other one is read
        told.append((moment, aligned.at(moment + ahead - 0.003, moment)))
    for right, found in told:
        assert found == pytest.approx(right - 0.003, abs=1e-9)
    shows[0] = 1000.0 + ahead
    assert aligned.at(1000.0 + ahead, 0.0) == 0.0, "another loop begins again, and nothing is of the future"
