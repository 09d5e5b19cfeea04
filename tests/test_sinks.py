"""Sinks to machines: servo frames, a function, and each at its own rate."""

import ast
import os
import select
import subprocess
import sys
import tty
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import MEDLAR, PERIOD, Bench, Hands, examples, pad, run
from tenuto import Tick
from tenuto.basics.layouts import ControlInfo
from tenuto.data import shipped
from tenuto.profile.checks.advice import advise
from tenuto.protocols import IbusDecoder, SbusDecoder
from tenuto.sim.far_end import FarEnd
from tenuto.sinks.function import FunctionSink
from tenuto.sinks.serial_line import SerialLine
from tenuto.vehicles.velocity import STANDSTILL

pytestmark = pytest.mark.port

SERVOS = '\n[actuators.wheels]\nform = "pulse"\n[actuators.right_wheel]\nreverse = true\n'
MECANUM = """
format = 1
name = "Four rollers"
source = { kind = "gamepad" }
style = { kind = "any_direction", forward = "left_y", sideways = "left_x", turn = "right_x" }
speeds = { forward = 1.0, sideways = 0.8, turn = 2.0 }
limits = { acceleration = 1.0 }
guard = { hold_to_run = "left_shoulder", link_timeout = 0.3, stop_deceleration = 2.0 }
chassis = { kind = "mecanum", wheelbase = 0.3, track = 0.25, wheel_radius = 0.05 }
"""
BUTTONS = '[guard]\nemergency_stop = "north"\nreset = "south"'
PULSED = tenuto.parse_profile(shipped("medlar.toml").read_text().replace("[guard]", BUTTONS) + SERVOS)


def a_line() -> tuple[int, str]:
    """A serial line: the end for the test, and the name of the other."""
    master, slave = os.openpty()
    tty.setraw(slave)
    os.set_blocking(master, False)
    return master, os.ttyname(slave)


def all_of(port: int, quiet: float = 0.5) -> bytes:
    """Read the written bytes of a line until no more come, because the system delivers them with a delay."""
    data = b""
    while select.select([port], [], [], quiet)[0]:
        data += os.read(port, 10_000)
    return data


@examples(15)
@given(st.sampled_from([1200, 2400, 4800, 9600, 19_200, 57_600, 115_200]), st.sampled_from(["", "{vx:.3f} {counter}"]))
def test_a_slow_line_never_holds_more_than_one_command(baud: int, line: str) -> None:
    """A written command is sent at once, at any speed of the line: none waits behind an older one."""
    (master, name), bench, clock = a_line(), Bench(), tenuto.SimulatedClock()
    sink = SerialLine(name, baud, line=line)
    sink.clock, free_at, longest, told = clock, 0.0, 0.0, ""
    counts: list[int] = []
    with sink:
        sink.start(bench.pipeline.plan)
        for number in range(120):
            sink.write(bench.step(pad(float(number > 20), held=number > 8)))
            data = read_now(master)
            if data:
                assert clock.now() >= free_at - 1e-9, "the one before has left"
                free_at = clock.now() + 10.0 * len(data) / baud
                longest = max(longest, 10.0 * len(data) / baud)
                counts.append(data.count(b"\n"))
            told = told or sink.problem
            clock.sleep_until(clock.now() + PERIOD)
        before = clock.now()
        sink.stop(bench.ticks[-1])
        assert clock.now() - before < 6.0 * (longest + 0.05), "a stop waits for one line, each"
        stops = read_now(master).splitlines()
    os.close(master)
    assert set(counts) == {1}
    slow = "raise baud, or lower rate" in told
    assert longest > PERIOD if slow else longest < 1.2 * PERIOD
    assert len(stops) == 5


def read_now(master: int) -> bytes:
    """Read the bytes of a line after the system has delivered them."""
    data = b""
    while select.select([master], [], [], 0.002)[0]:
        data += os.read(master, 10_000)
    return data


@pytest.mark.parametrize(("kind", "decoder"), [("sbus", SbusDecoder), ("ibus", IbusDecoder)])
def test_a_computer_stands_where_a_receiver_stood(kind: str, decoder: type[SbusDecoder] | type[IbusDecoder]) -> None:
    line, bench, buttons = a_line(), Bench(PULSED), {"north": 0.0, "south": 0.0}
    bench.run(0.1, pad() | buttons)
    bench.run(0.1, pad(held=True) | buttons)
    ticks = [bench.step(pad(1.0, held=True) | buttons) for _ in range(30)]
    off = bench.step(pad(1.0, held=True) | buttons | {"north": 1.0})
    with tenuto.open_sink(f"{kind}:{line[1]},channels=right_wheel|left_wheel") as sink:
        sink.clock = clock = tenuto.SimulatedClock()
        sink.start(PULSED.plan())
        for tick in (*ticks, off):
            sink.write(tick)
            clock.sleep_until(clock.now() + PERIOD)
        frames = decoder().feed(all_of(line[0]))
    moving = [frame for frame in frames if not frame.failsafe]
    assert len(moving) >= 28  # the decoder needs some to synchronise
    last = ticks[-1]
    assert moving[-1].channels[:2] == pytest.approx(
        (last.wire["right_wheel.pulse"], last.wire["left_wheel.pulse"]), abs=0.7
    )
    assert moving[-1].channels[0] < 1450.0 < 1550.0 < moving[-1].channels[1]  # the right one is wired in reverse
    assert moving[-1].channels[2] == pytest.approx(1500.0, abs=0.7)
    assert not off.power
    assert [frame.failsafe for frame in frames if frame.failsafe] == ([True] if kind == "sbus" else [])


def test_outputs_have_a_place_in_the_velocity_line() -> None:
    port, name = a_line()
    profile = tenuto.load_profile(shipped("medlar-lift.toml"))
    tick = tenuto.Pipeline(profile).halt(0.0)._replace(outputs={"lift": 0.8, "gripper": -1.0, "lamp": 1.0})
    with tenuto.open_sink(f"serial:{name},outputs=gripper|lift") as sink:
        sink.start(profile.plan())
        sink.write(tick)
        assert all_of(port).rsplit(b" ", 1)[0] == b"V 1 0 0 0 0 200 1 -1000 800"
    with FarEnd(profile) as robot, tenuto.open_sink(f"serial:{robot.port},outputs=gripper|lift") as sink:
        sink.write(tick)
        select.select([robot._master], [], [], 5.0)
        robot.hear()
        assert robot.summary() == "1 good lines, 0 bad, outputs -1.00 +0.80"


def test_a_profile_without_pulses_is_refused() -> None:
    with tenuto.open_sink(f"sbus:{a_line()[1]}") as sink, pytest.raises(tenuto.SinkError, match='form = "pulse"'):
        sink.start(MEDLAR.plan())
    with (
        tenuto.open_sink(f"ibus:{a_line()[1]},channels=arm") as sink,
        pytest.raises(tenuto.SinkError, match="for arm; the"),
    ):
        sink.start(PULSED.plan())
    with pytest.raises(tenuto.SinkError, match="cannot be opened: No such file"):
        tenuto.open_sink("ibus:/dev/there-is-none")


def test_a_function_is_called_at_its_own_rate_and_told_to_stop() -> None:
    every, seldom = list[Tick](), list[Tick]()
    report = tenuto.drive(
        MEDLAR, Hands(), [FunctionSink("all", every.append), FunctionSink("some", seldom.append, rate=10.0)],
        on_tick=lambda tick: "done" if tick.time > 1.5 else None, clock=tenuto.SimulatedClock(),
    )  # fmt: skip
    assert len(every) == report.ticks + 1  # and the stop
    gaps = [b.time - a.time for a, b in pairwise(seldom[:-1])]
    assert len(gaps) > 15
    assert gaps == pytest.approx([0.1] * len(gaps), abs=1e-9)
    assert every[-1].command == seldom[-1].command == STANDSTILL
    with pytest.raises(ZeroDivisionError):
        tenuto.drive(MEDLAR, Hands(), [FunctionSink("broken", lambda tick: 1 / 0)], clock=tenuto.SimulatedClock())


@pytest.mark.long
def test_the_example_with_pins_ends_with_the_motors_off() -> None:
    example = Path(__file__).parents[1] / "examples/own_pins.py"
    said = subprocess.run([sys.executable, example], capture_output=True, text=True, check=True).stdout
    most, last = (ast.literal_eval(line.partition(": ")[2]) for line in said.splitlines())
    assert most["left_wheel duty"] > 0.7
    assert last == {
        "left_wheel duty": 0.0, "left_wheel forward": 1.0, "right_wheel duty": 0.0, "right_wheel forward": 1.0,
        "flag servo": 1100.0,
    }  # fmt: skip


def test_sinks_stand_in_the_profile(tmp_path: Path) -> None:
    port = a_line()
    text = shipped("medlar.toml").read_text() + (
        f'\n[sinks.motors]\nkind = "serial"\nport = "{port[1]}"\nrate = "20 Hz"'
        '\nline = "W {left_wheel:.1f} {checksum}"'
        '\n[sinks.record]\nkind = "log"\nfile = "run.jsonl"\n'
    )
    (tmp_path / "mine.toml").write_text(text)
    done = run("drive", "mine.toml", "--source", f"recording:{shipped('orchard-row.csv')},end=8", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    lines = all_of(port[0]).decode().splitlines()
    assert lines[-1].startswith("W 0.0 ")
    kept = tenuto.load_log(tmp_path / "run.jsonl")
    assert kept["time"].iloc[-1] > 7.9
    assert len(kept) == pytest.approx(400, abs=100)  # a busy machine skips ticks
    for old, new, said in (
        ('file = "run.jsonl"', "", "sinks.record.file: expected a file that ends in .csv, .jsonl, .parquet or .mcap"),
        (
            'file = "run.jsonl"',
            'file = "run.jsonl"\nbaud = 9600',
            "sinks.record.baud: expected one of kind, file with kind log",
        ),
        ('kind = "log"', 'kind = "lgo"', 'did you mean "log"?'),
    ):
        with pytest.raises(tenuto.ProfileError) as caught:
            tenuto.parse_profile(text.replace(old, new))
        assert said in str(caught.value)


def test_no_rate_holds_the_emergency_stop_back() -> None:
    buttons, seldom, all_ticks = {"north": 0.0, "south": 0.0}, list[Tick](), list[Tick]()

    class Driver(Hands):
        def poll(self, now: float) -> tenuto.Frame:
            frame = super().poll(now)
            return frame._replace(values={**frame.values, **buttons, "north": float(now > 1.13)})

        def controls(self) -> tuple[ControlInfo, ...]:
            return tuple(ControlInfo(name, 0, 1, 0) for name in (*pad(), *buttons))

    def watch(tick: Tick) -> str | None:
        all_ticks.append(tick)
        return "done" if tick.time > 1.8 else None

    some = FunctionSink("some", seldom.append, rate=1.0)
    tenuto.drive(PULSED, Driver(), [some], on_tick=watch, clock=tenuto.SimulatedClock())
    stopped = next(tick for tick in all_ticks if not tick.power)
    assert stopped.time == pytest.approx(1.14)
    assert next(tick for tick in seldom if not tick.power) == stopped  # not a whole second later


@pytest.mark.parametrize(
    ("keys", "said"),
    [
        ("", None),
        ('line = "{vx:.2f} {left_wheel:.2f} {checksum}"', None),
        ("baud = 9600", "sinks.line.baud: 32 bytes 50 times a second need 16000 baud"),  # V 255 -494 0 0 -1551 …
        ('baud = 9600\nrate = "25 Hz"', None),
        ('rate = "4 Hz"', "sinks.line.rate: the robot stops after 0.2 s without a command, and the next one"),
        ('line = "{left_wheel.duty}"', "sinks.line.line: its line has a field left_wheel.duty; there are"),
        ('line = "{vx!r}"', "sinks.line.line: the field vx of its line has a format that is not for a number"),
        ('line = "{vx:{turn}}"', "sinks.line.line: the field vx of its line has a format"),
        ('line = "{vx"', "sinks.line.line: expected '}' before end of string"),
        ('outputs = ["lift"]', "sinks.line.outputs: there is no output lift; there are none"),
    ],
)  # fmt: skip
def test_a_line_that_cannot_be_filled_in_or_carried_is_an_error_of_check(keys: str, said: str | None) -> None:
    text = f'{shipped("medlar.toml").read_text()}\n[sinks.line]\nkind = "serial"\nport = "/dev/ttyUSB0"\n{keys}\n'
    found = [str(finding) for finding in advise(tenuto.parse_profile(text)) if finding.is_error]
    assert [line.startswith(said or "") for line in found] == [True] * (said is not None)


@given(st.sets(st.sampled_from(["front_left", "front_right", "rear_left", "rear_right"])), st.booleans(), st.booleans())
def test_motors_that_no_line_sends_are_told(first: set[str], split: bool, velocity: bool) -> None:
    """One line may have some wheels and another one the others; a line of velocities has all of them."""
    wheels = ["front_left", "front_right", "rear_left", "rear_right"]
    lines = [" ".join(f"{{{name}_wheel:.2f}}" for name in wheels if name in first)]
    if split:
        lines.append(" ".join(f"{{{name}_wheel:.2f}}" for name in wheels if name not in first))
    lines = [line for line in lines if line] + (["{vx:.3f} {vy:.3f} {yaw_rate:.3f}"] if velocity else [])
    table = '[sinks.s{}]\nkind = "serial"\nport = "p{}"\nline = "{}"\n'
    tables = "".join(table.format(number, number, line) for number, line in enumerate(lines))
    told = [one.text for one in advise(tenuto.parse_profile(MECANUM + tables)) if one.where == "sinks"]
    missing = [] if split or velocity or not first else [name for name in wheels if name not in first]
    assert bool(told) == bool(missing)
    assert all(f"{name}_wheel" in told[0] for name in missing)
