"""The code of a board does the same as the pipeline, tick by tick: on a desktop, and on simulated chips."""

import json
import math
import random
import re
import shutil
import struct
import subprocess
import sys
from collections.abc import Callable, Iterator, Sequence
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import HealthCheck, Phase, assume, given, settings
from hypothesis import strategies as st

import tenuto
from boards import (
    BEGIN,
    BOARD,
    EXAMPLES,
    FLAGS,
    SKETCHES,
    built,
    in_python,
    needs_arm,
    needs_chip,
    needs_gcc,
    on_at,
    pins_of,
    radio,
    wired,
)
from helpers import examples, run
from tenuto.basics.frame import Frame
from tenuto.basics.reasons import Code
from tenuto.data import shipped
from tenuto.driving.follow import line_plan
from tenuto.driving.guard import State
from tenuto.driving.plan import Plan
from tenuto.driving.ramps import _Average
from tenuto.firmware.generate import make_firmware
from tenuto.firmware.refusals import refusals
from tenuto.firmware.step_time import longest_step
from tenuto.protocols.answer_line import read_answer
from tenuto.protocols.radio.base import RADIOS
from tenuto.protocols.velocity_line import VelocityLine, VelocityLineDecoder, encode_velocity_line
from tenuto.sim.hands import Hands
from tenuto.sources.recording import read_recording
from tenuto.testing.board import (
    Made,
    Row,
    any_schedule,
    as_table,
    by_pipeline,
    by_program,
    difference,
    made_of_output,
)
from tenuto.testing.profiles import any_profile
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

# Half of them begin shortly before the clock of the board wraps.
WRAPS = 2**32 - 4000
pytestmark = [pytest.mark.long, needs_gcc]


# MicroPython's own build for browsers and Node.js, at the place where `.ci/run` installs it.
TICKS = """
at, us, hooks = [2**30 // 1000 - 1000], [0], []
def ticks_ms():
    at[0] += 1
    us[0] = 1000 * at[0]
    for hook in hooks: hook(at[0])
    return (at[0] + 2**30 - 2**30 // 1000) % 2**30
def ticks_us():
    return us[0] % 2**30
def ticks_diff(a, b):
    return (a - b + 2**29) % 2**30 - 2**29
"""
# The inputs of the simulated board: FRAMES has the bytes of a receiver, PULSES the pulses of its channels, by action.
MACHINE = """
import atexit
import wrapping
fed, inputs = 0, []
atexit.register(lambda: print(*(one.duty for one in PWM.made)))
def done(): return 30 < fed < 150 or fed > 240, 60 <= fed < 235 or fed > 250  # the button is held, the stick pushed
class ADC:
    def __init__(self, pin): self.pin = pin
    def read_u16(self):
        held, pushed = done()
        return 64 * {26: 1004 if pushed else 512, 27: 512, 28: 1023 if held else 0}[self.pin]
class UART:
    INV_RX = 1
    def __init__(self, *_, **__):
        self.waiting = b""
        wrapping.hooks.append(self.hear)
    def hear(self, at):
        if at % 14 == 0: self.waiting += bytes.fromhex(FRAMES[done()])
    def any(self): return len(self.waiting)
    def read(self, count):
        data, self.waiting = self.waiting[:count], self.waiting[count:]
        return data
class Pin:
    IN, OUT, IRQ_RISING, IRQ_FALLING = 0, 1, 1, 2
    def __init__(self, number, mode=0): self.level = 0
    def value(self, level=None): return self.level
    def irq(self, handler, trigger, hard):
        self.handler = handler
        if not inputs: wrapping.hooks.append(send_pulses)
        inputs.append(self)
    def edge(self, at, level):
        wrapping.us[0], self.level = at, level
        self.handler(self)
def send_pulses(at):
    if at % 20: return
    start = 1000 * at
    for wire, pulse in enumerate(PULSES[done()]):
        if len(inputs) == 1: inputs[0].edge(start, 1)
        else: inputs[wire].edge(start, 1), inputs[wire].edge(start + pulse, 0)
        start += pulse
    if len(inputs) == 1: inputs[0].edge(start, 1)
    wrapping.us[0] = 1000 * at
class PWM:
    made = []
    def __init__(self, pin): self.duty, _ = 0, PWM.made.append(self)
    def freq(self, hz): pass
    def duty_u16(self, duty): self.duty = duty
class WDT:
    def __init__(self, timeout): pass
    def feed(self):
        global fed
        fed += 1
        print(*(one.duty for one in PWM.made))
        if fed == 260: raise SystemExit("Enough")
"""


# In about one of two hundred schedules float rounds a limit to its other side, and double does not; so not in both.
ROUNDED = 1


def for_one_board(drawn: tenuto.Profile) -> tenuto.Profile:
    """Remove the parts of a profile that need another driver or a sensor."""
    return drawn.model_copy(update={key: {} for key in ("drivers", "distances", "inhibits", "measured")})


def apart(program: Path, plan: Plan, seeds: Sequence[int], close: float = 1e-5) -> list[str]:
    """Return the differences between a program and the pipeline over the schedules of some seeds."""
    found = []
    for seed in seeds:
        rows = any_schedule(plan, seed)
        said = difference(plan, by_pipeline(plan, rows), by_program([program], plan, rows, WRAPS * (seed % 2)), close)
        found += [f"seed {seed}: {said}"] if said else []
    return found


@pytest.mark.parametrize("name", ["medlar", "medlar-lift", "medlar-keyboard", "quince", "damson"])
def test_a_shipped_profile_is_the_same_on_a_board(name: str, tmp_path: Path) -> None:
    profile = tenuto.load_profile(shipped(f"{name}.toml"))
    assert apart(built(make_firmware(profile, timed=False), tmp_path), profile.plan(), range(8)) == []


@settings(examples(6), suppress_health_check=list(HealthCheck), phases=[Phase.explicit, Phase.generate])
@given(any_profile(), st.integers(0, 10**6))
def test_any_profile_is_the_same_on_a_board(
    tmp_path_factory: pytest.TempPathFactory, drawn: tenuto.Profile, seed: int
) -> None:
    """Computed in double and in float: double shows that the code is the same, float the loss of precision."""
    profile = for_one_board(drawn)
    plan = profile.plan()
    assume(not plan.guard.needs.wanted)
    assume(not refusals(profile, plan))
    python = in_python(profile, tmp_path_factory.mktemp("python"))[0]
    rows = any_schedule(plan, seed)
    assert difference(plan, by_pipeline(plan, rows), by_program(python, plan, rows, WRAPS)) == ""
    in_double = built(make_firmware(profile, real="double", timed=False), tmp_path_factory.mktemp("double"), ["-O0"])
    assert apart(in_double, plan, (seed, seed + 1), 1e-6) == []
    in_float = built(make_firmware(profile, timed=False), tmp_path_factory.mktemp("float"), ["-O0"])
    assert len(apart(in_float, plan, (seed, seed + 1))) <= ROUNDED


STEERED = """
format = 1
name = "steered"
source = { kind = "gamepad" }
style = { kind = "car", throttle = "left_x", steer = "left_y" }
guard = { hold_to_run = "south", stop_deceleration = 3.0, link_timeout = 0.5 }
loop = { rate = 20.0 }
[speeds]
forward = 3.7
turn = 1.57
[limits]
acceleration = %s
turn_acceleration = 3.8
turn_deceleration = 0.7
jerk = %s
[chassis]
kind = "four_wheel_steer"
wheel_radius = 0.05
wheelbase = 0.8
track = 2.5
max_steering = 0.9
"""


# The window of four steps exactly, and one in which going to and fro has a mean of 0.
@pytest.mark.parametrize(("acceleration", "jerk"), [(6.0, 30.0), (2.8225, 27.4748)])
def test_rounding_in_the_window_of_an_s_curve_decides_nothing(acceleration: float, jerk: float, tmp_path: Path) -> None:
    profile = tenuto.parse_profile(STEERED % (acceleration, jerk))
    plan, program = profile.plan(), built(make_firmware(profile, real="double", timed=False), tmp_path)
    assert apart(program, plan, range(40), 1e-6) == []
    average, now = _Average(0.224139), [7.0 + 0.05 * number for number in range(40)]
    average.newest(STANDSTILL)
    speeds = [acceleration * speed for speed in (0.0, 0.05, 0.0, -0.05, *[0.0] * 35)]
    steps = zip(speeds, now, now[1:], strict=False)
    seen = [average.step(VelocityCommand(speed), after - before) for speed, before, after in steps]
    assert all(mean.vx == 0.0 or abs(mean.vx) > 1e-9 for mean in seen)


TWO_LIMITS = """
format = 1
name = "Two limits"
source = { kind = "gamepad" }
speeds = { forward = 1.2, backward = 0.8, turn = 2.0 }
guard = { hold_to_run = "left_shoulder", link_timeout = 0.3, stop_deceleration = 2.0 }
limits = { acceleration = 0.6, deceleration = 2.5, turn_acceleration = 5.0, turn_deceleration = 1.5, jerk = 8.0 }
controls = { a = { reads = "left_y" }, b = { reads = "right_x" } }
"""
SIDED = 'chassis = { kind = "differential", track = 0.5, wheel_radius = 0.1, max_wheel_speed = 30.0 }\n'


@pytest.mark.parametrize(
    "more",
    [
        SIDED + 'style = { kind = "arcade", forward = "a", turn = "b" }',
        SIDED + 'style = { kind = "tank", left = "a", right = "b" }',
        'style = { kind = "car", throttle = "a", steer = "b" }\n[chassis]\nkind = "car"\nmax_steering = 0.6\n'
        "wheelbase = 0.8\ntrack = 0.5\nwheel_radius = 0.1\nmax_wheel_speed = 30.0",
    ],
)
def test_a_speed_with_two_limits_reverses_alike_on_a_board(more: str, tmp_path: Path) -> None:
    profile = tenuto.parse_profile(TWO_LIMITS + more)
    program = built(make_firmware(profile, real="double", timed=False), tmp_path)
    assert apart(program, profile.plan(), range(15), 1e-6) == []


def any_sticks(dice: random.Random) -> str:
    """A profile of two sticks, a switch and outputs, with every key that shapes a stick."""

    def some(*lines: str) -> str:
        return "".join(f"{line}\n" for line in lines if dice.random() < 0.35)

    def share(most: float) -> str:
        return f"{dice.uniform(0.01, most):.3f}"

    def control(name: str, reads: str, zoned: bool) -> str:
        own = "" if zoned else some(f"outer_dead_zone = {share(0.2)}", f"hysteresis = {share(0.05)}")
        zone = "" if zoned else some(f"dead_zone = {share(0.3)}")
        curve = dice.choice((
            f"expo = [{share(1.0)}, {share(1.0)}]\n", f"power = [{dice.uniform(1, 3):.2f}, 1.5]\n",
            "curve = [[0, 0], [0.3, 0.1], [0.8, 0.6], [1, 1]]\n", "",
        ))  # fmt: skip
        more = some("spike_filter = true", f"smoothing = {share(0.3)}", f"ramp_up = {share(1.0)}",
                    f"ramp_down = {share(1.0)}", f"scale = {share(1.0)}", "reverse = true",
                    'centre = "at start"')  # fmt: skip
        ends = f"low = {dice.randrange(-32700, -29000)}\nhigh = {dice.randrange(29000, 32700)}\n"
        return f'[controls.{name}]\nreads = "{reads}"\n{zone}{own}{curve}{more}{ends}'

    zone = dice.choice(("", "round", "square", "straight"))
    stick = f'[sticks.left]\nx = "steer"\ny = "drive"\nzone = "{zone}"\ndead_zone = {share(0.3)}\n' if zone else ""
    mapped = dice.choice(("square to round", "round to square"))
    stick += some(f"hysteresis = {share(0.05)}", f'travel = "{mapped}"') if zone else ""
    switch = dice.choice((
        'kind = "momentary"\nreads = "south"', 'kind = "latch"\nreads = "south"',
        'kind = "cycle"\nreads = "south"\npositions = 3', 'kind = "held"\nreads = "south"\ntime = 0.2',
        'kind = "double"\nreads = "south"\ntime = 0.5', 'kind = "positions"\nreads = "right_trigger"\npositions = 3',
        'kind = "gesture"\nsticks = { drive = "low" }\ntime = 0.2',
    ))  # fmt: skip
    corner = dice.choice(("free", "clip", "scale", "halve", "keep turn", "keep forward"))
    style = f'kind = "arcade"\nforward = "drive"\nturn = "steer"\ncorner = "{corner}"\n'
    style += some("smallest_radius = 0.8", 'backing = "as a car"')
    style = dice.choice((style, style, 'kind = "tank"\nleft = "drive"\nright = "steer"\n'))
    limits = some("deceleration = 2.1", f"jerk = {dice.uniform(1, 30):.1f}", f"turn_jerk = {dice.uniform(1, 30):.1f}")
    guard = some('stop = "north"', f"fault_category = {dice.randrange(3)}", "grace = 0.2", "attention = 2.0",
                 f"released_category = {dice.randrange(3)}", "link_good_for = 0.4")  # fmt: skip
    guard += some('emergency_stop = "east"\nreset = "west"')
    kept = dice.choice(("idle", "keep", "always"))
    return (
        'format = 1\nname = "any sticks"\nsource = { kind = "gamepad" }\n'
        + control("drive", "left_y", bool(zone)) + control("steer", "left_x", bool(zone)) + stick
        + f"[switches.knob]\n{switch}\n" + some("at_start = true") + f"[style]\n{style}"
        + f'[outputs.lamp]\nkind = "levels"\nswitch = "knob"\nlevels = [0.0, 1.0, 0.5]\nwhen_stopped = "{kept}"\n'
        + '[outputs.beep]\nkind = "contact"\ncontrol = "drive"\nside = "negative"\n'
        + '[actions.horn]\npress = "knob"\n' + some('when = "any time"')
        + "[speeds]\nforward = 1.2\nbackward = 0.7\nturn = 1.5\n"
        + f"[limits]\nacceleration = {dice.uniform(0.6, 3):.2f}\n{limits}"
        + f'[guard]\nhold_to_run = "left_shoulder"\nlink_timeout = {dice.uniform(0.12, 0.5):.3f}\n{guard}'
        + '[chassis]\nkind = "differential"\ntrack = 0.62\nwheel_radius = 0.11\nmax_wheel_speed = 11.0\n'
        + f"[loop]\nrate = {dice.choice((20, 50, 100))}\n"
    )  # fmt: skip


@settings(examples(6), phases=[Phase.explicit, Phase.generate])
@given(st.integers(0, 10**6))
def test_whatever_is_made_of_a_stick_is_the_same_on_a_board(
    tmp_path_factory: pytest.TempPathFactory, seed: int
) -> None:
    profile = tenuto.parse_profile(any_sticks(random.Random(seed)))
    assume(not refusals(profile, profile.plan()))
    plan, programs = profile.plan(), {}
    for real in ("double", "float"):
        programs[real] = built(make_firmware(profile, real=real, timed=False), tmp_path_factory.mktemp(real), ["-O0"])
    assert apart(programs["double"], plan, (seed, seed + 1), 1e-6) == []
    assert len(apart(programs["float"], plan, (seed, seed + 1))) <= ROUNDED


@pytest.mark.parametrize("name", ["medlar", "medlar-lift", "quince", "damson"])
def test_a_shipped_profile_is_the_same_in_micropython(name: str, tmp_path: Path) -> None:
    """In MicroPython itself, if it is installed, and in this Python."""
    profile = tenuto.load_profile(shipped(f"{name}.toml"))
    plan, commands = profile.plan(), in_python(profile, tmp_path)
    for seed in range(2):
        rows = any_schedule(plan, seed)
        here = by_pipeline(plan, rows)
        for command in commands:
            assert difference(plan, here, by_program(command, plan, rows, WRAPS * seed)) == "", command


@pytest.mark.parametrize("kind", ["pins", "lines", "sbus", "crsf", "ibus", "ppm", "pwm"])
def test_the_program_for_two_motors_drives_them(kind: str, tmp_path: Path) -> None:
    """The pins are simulated, and the clock wraps early, as on such boards; the loop runs 260 times."""
    sender = tenuto.load_profile(EXAMPLES / "sender.toml")
    profile = sender if kind in ("pins", "lines") else wired(kind) if kind in ("ppm", "pwm") else tenuto.parse_profile(
        BOARD.read_text().replace('"sbus"', f'"{kind}"'))  # fmt: skip
    make_firmware(profile, language="micropython", lines="serial" if kind == "lines" else "pins").write(tmp_path)
    sent = {(held, pushed): [1500, 1900 if pushed else 1500, 1500, 1500, 2000 if held else 1000]
            for held in (False, True) for pushed in (False, True)}  # fmt: skip
    radio = RADIOS.all.get(kind)
    frames = {
        done: radio.encode([*map(float, pulses), *[1500.0] * ((radio.plain_channels or radio.channels) - 5)]).hex()
        for done, pulses in sent.items() if radio is not None
    }  # fmt: skip
    if kind == "lines":
        frames = {done: f"{1004 if done[1] else 512},512,{1023 if done[0] else 0}\n".encode().hex() for done in sent}
    (tmp_path / "machine.py").write_text(f"FRAMES, PULSES = {frames}, {sent}\n{MACHINE}")
    (tmp_path / "wrapping.py").write_text(TICKS)
    main = (tmp_path / "main.py").read_text().replace("from time import", "from wrapping import")
    (tmp_path / "main.py").write_text(main)
    done = subprocess.run([sys.executable, "main.py"], cwd=tmp_path, capture_output=True, text=True, check=False)
    assert "Enough" in done.stderr, done.stderr
    duties = [tuple(map(int, line.split())) for line in done.stdout.splitlines()]
    assert len(duties) == 261
    assert set(duties[:60]) == {(0, 0)}, "the stick rests, and then the button is held"
    assert all(left == right > 0 for left, right in duties[80:120])
    if kind in ("pins", "lines"):
        assert max(left for left, _ in duties) == pytest.approx(65535 * 0.8 / (12.566 * 0.11), rel=0.02)
    assert set(duties[235:250]) == {(0, 0)}, "the button was let go"
    assert duties[259][0] > 0
    assert duties[260] == (0, 0), "the loop has ended by an error while it drove"


# A serial port that stores written bytes, and delivers a line of a file every 20 ms.
PORT = """
class UART:
    def __init__(self, *_, **__):
        self.given, self.waiting = open("given.bin", "rb").read().splitlines(True), b""
        wrapping.hooks.append(self.hear)
    def hear(self, at): self.waiting += self.given.pop(0) if self.given and at % 20 == 0 else b""
    def any(self): return len(self.waiting)
    def read(self, count):
        data, self.waiting = self.waiting[:count], self.waiting[count:]
        return data
    def write(self, data): open("sent.bin", "ab").write(data)
"""


def test_two_boards_with_micropython_are_a_sender_and_a_robot(tmp_path: Path) -> None:
    """The lines of one board drive the other, which answers; after 200 lines the wire is cut."""
    sent, said = b"", ""
    for part, profile in (("sticks", EXAMPLES / "sender.toml"), ("robot", BOARD)):
        folder = tmp_path / part
        make_firmware(tenuto.load_profile(profile), language="micropython", part=part).write(folder)
        (folder / "machine.py").write_text(MACHINE + PORT)
        (folder / "wrapping.py").write_text(TICKS)
        (folder / "given.bin").write_bytes(sent)
        text = (folder / "main.py").read_text().replace("from time import", "from wrapping import")
        (folder / "main.py").write_text(text)
        done = subprocess.run([sys.executable, "main.py"], cwd=folder, capture_output=True, text=True, check=False)
        assert "Enough" in done.stderr, done.stderr
        sent, said = (folder / "sent.bin").read_bytes(), done.stdout
        if part == "sticks":
            decoder = VelocityLineDecoder()
            lines = decoder.feed(sent)
            assert (len(lines), decoder.counts.bad, decoder.counts.lost) == (260, 0, 0)
            assert max(line.command.vx for line in lines) == pytest.approx(0.8, rel=0.02)
            sent = b"".join(sent.splitlines(True)[:200])
    duties = [tuple(map(int, line.split())) for line in said.splitlines()]
    assert set(duties[:60]) == {(0, 0)}
    assert all(left == right > 0 for left, right in duties[90:120])
    assert set(duties[245:]) == {(0, 0)}
    answers = [read_answer(line) for line in sent.splitlines()]
    assert len(answers) > 40
    assert {answer.why for answer in answers if answer is not None} == {0, 2}
    assert {answer.made_from for answer in answers if answer is not None} == {
        line_plan(tenuto.load_profile(BOARD).plan()).digest()
    }


def test_it_compiles_as_other_compilers_and_as_cpp_want_it(tmp_path: Path) -> None:
    make_firmware(tenuto.load_profile(shipped("damson.toml"))).write(tmp_path)
    flags = [flag for flag in FLAGS if not flag.startswith("-std")]
    for compiler in (["g++", "-x", "c++", "-std=c++11"], ["clang", "-std=c99"], ["clang", "-x", "c++", "-std=c++11"]):
        if shutil.which(compiler[0]) is not None:
            subprocess.run([*compiler, *flags, "-c", "robot_board.c", "-o", "x.o"], cwd=tmp_path, check=True)
    symbols = subprocess.run(["nm", "-u", tmp_path / "x.o"], capture_output=True, text=True, check=True).stdout
    assert not {"malloc", "free", "printf", "_Znwm"} & set(symbols.split())


@pytest.mark.skipif(shutil.which("g++") is None, reason="no g++: apt-get install g++")
@pytest.mark.parametrize("part", ["whole", "sticks", "robot"])
@pytest.mark.parametrize("name", ["medlar-board", "sender", "ppm"])
def test_a_sketch_compiles(name: str, part: str, tmp_path: Path) -> None:
    profile = wired(name) if name == "ppm" else tenuto.load_profile(EXAMPLES / f"{name}.toml")
    made = make_firmware(profile, part=part)
    # An AVR has one serial port, too few for a receiver and lines.
    assert set(made.misfits) == ({"avr"} if (name, part) == ("medlar-board", "sticks") else set())
    made.write(tmp_path)
    (tmp_path / "Sketch.h").write_text(SKETCHES)
    (tmp_path / "Servo.h").write_text("")
    flags = ["-std=c++11", "-Wall", "-Wextra", "-Werror", "-include", "Sketch.h", "-I.", "-Isketch/src", "-x", "c++"]
    command = ["g++", *flags, "-c", "sketch/examples/drive/drive.ino", "-o", "x.o"]
    subprocess.run(command, cwd=tmp_path, check=True)


def test_a_recording_through_the_program_is_the_drive(tmp_path: Path) -> None:
    """The frames of each period, in whole ms; the replay in Python uses the same ones."""
    profile, recording = tenuto.load_profile(shipped("medlar.toml")), shipped("orchard-row.csv")
    program = built(make_firmware(profile), tmp_path)
    out = subprocess.run([program], input=recording.read_text(), capture_output=True, text=True, check=True).stdout
    plan, frames = (
        profile.plan(),
        [(math.floor(1000.0 * one.time + 0.5), one.values) for one in read_recording(recording)],
    )
    there = made_of_output(out, plan)
    rows, newest = list[Row](), 0
    for ms in range(0, 20 * len(there), 20):
        came = [(at, values, True) for at, values in frames[newest:] if at <= ms]
        newest += len(came)
        at, values = came[-1][:2] if came else (None, None)
        rows.append(Row(ms, values, came_at=at, earlier=tuple(came[:-1])))
    assert difference(plan, by_pipeline(plan, rows), there) == ""
    assert {one.state for one in there} >= {"driving", "stopping", "fault"}
    odd = subprocess.run([program], input="time,left_y\n0,1\n1,x\n", capture_output=True, text=True, check=False)
    assert (odd.returncode, odd.stderr) == (1, 'line 3: expected a number, found "x"\n')
    assert out.splitlines()[0].startswith("time,state,reason,vx,vy,vz,yaw_rate,left_wheel,right_wheel")


class Heard:
    """The handling of velocity lines on a board, written independently: a standstill releases, the next line holds."""

    def __init__(self) -> None:
        self.decoder, self.until, self.latched, self.power = VelocityLineDecoder(), -1, True, False

    def frame(self, data: bytes, ms: int, outputs: Sequence[str]) -> Frame | None:
        frame = None
        for line in self.decoder.feed(data):
            waited = self.latched or ms > self.until
            self.latched = waited and line.command != tenuto.VelocityCommand()
            self.until, self.power = ms + round(1000 * line.valid_for), line.power
            levels = [*line.outputs, *[0.0] * len(outputs)]
            values = {**line.command._asdict(), "hold_to_run": not (waited or self.latched) and line.power}
            values |= {"emergency_stop": 0.0, "reset": 0.0}
            values |= {f"output {name}": level for name, level in zip(outputs, levels, strict=False)}
            frame = Frame(ms / 1000.0, {name: float(value) for name, value in values.items()})
        silent = frame is None and 0 <= self.until < ms
        return Frame(ms / 1000.0, {}, False, "its last command is no longer valid") if silent else frame


def lines_of_a_sender(dice: random.Random, outputs: int) -> Iterator[tuple[int, bytes]]:
    """Return the bytes of a driver over a bad line, with their ms."""
    ms, speed = 1000, [0.0, 0.0]
    for number in range(400):
        ms += 20
        if number % 80 < 10:
            speed = [0.0, 0.0]
        elif dice.random() < 0.2:
            speed = [dice.choice((0.0, 0.4, 1.0, -0.3, 3.0)), dice.choice((0.0, 0.5, -1.2))]
        command = tenuto.VelocityCommand(speed[0], 0.0, 0.0, speed[1])
        levels = tuple(dice.choice((0.0, 0.5, -1.0)) for _ in range(outputs))
        data = encode_velocity_line(VelocityLine(number, command, 0.2, number % 160 < 150, levels))
        fate = dice.random()
        data = (
            b"" if fate < 0.1 or 40 < number % 120 < 60 else data[: dice.randrange(len(data))] if fate < 0.15 else data
        )
        yield ms, data + (data if fate > 0.95 else b"")


def followed(profile: tenuto.Profile, dice: random.Random, commands: Sequence[Sequence[str | Path]]) -> list[Made]:
    """Send lines to the pipeline and to programs of the part robot, which must agree; return the result."""
    outputs, plan = profile.plan().output_names(), line_plan(profile.plan())
    pipeline, heard, here, rows = tenuto.Pipeline(plan), Heard(), list[Made](), ["time,.step,.bytes"]
    for ms, data in lines_of_a_sender(dice, len(outputs)):
        rows.append(f"{ms / 1000.0:.3f},1,{data.hex()}")
        made = Made.of(pipeline.step(heard.frame(data, ms, outputs), ms / 1000.0))
        here.append(made._replace(power=made.power and heard.power))
    for command in commands:
        done = subprocess.run([*command, "0"], input="\n".join(rows) + "\n", capture_output=True, text=True, check=True)
        assert difference(plan, here, made_of_output(done.stdout, plan)) == "", command
    return here


@pytest.mark.parametrize("name", ["medlar", "quince", "medlar-lift"])
def test_a_board_that_hears_lines_is_a_robot_that_follows(name: str, tmp_path: Path) -> None:
    # Twice this speed is exactly the limit of a plausible velocity, and it is sent.
    profile = tenuto.load_profile(shipped(f"{name}.toml")).with_(
        **{"speeds.forward": 1.5, "chassis.max_wheel_speed": 40.0}
    )
    program = built(make_firmware(profile, part="robot"), tmp_path)
    here = followed(profile, random.Random(name), [[program], *in_python(profile, tmp_path / "python", part="robot")])
    assert {one.state for one in here} >= {"driving", "stopping", "fault", "not enabled"}
    assert max(one.values["vx"] for one in here) > 0.1


@settings(examples(4), suppress_health_check=list(HealthCheck), phases=[Phase.explicit, Phase.generate])
@given(any_profile(), st.integers(0, 10**6))
def test_any_board_that_hears_lines_is_a_robot_that_follows(
    tmp_path_factory: pytest.TempPathFactory, drawn: tenuto.Profile, seed: int
) -> None:
    profile = for_one_board(drawn)
    profile = profile.model_copy(update={"loop": profile.loop.model_copy(update={"rate": 50.0})})
    try:
        made = make_firmware(profile, part="robot", timed=False)
    except tenuto.TenutoError:
        assume(False)
        raise
    folder = tmp_path_factory.mktemp("robot")
    commands: list[list[str | Path]] = [
        [built(made, folder, ["-O0"])],
        *in_python(profile, folder / "python", part="robot")[:1],
    ]
    followed(profile, random.Random(seed), commands)


def test_the_command_writes_what_is_wanted_and_refuses_the_rest_by_its_key(tmp_path: Path) -> None:
    said = run("firmware", str(BOARD), "--out", "board", "--json", cwd=tmp_path)
    found = json.loads(said.stdout)
    assert (found["misfits"], found["unread"]) == ({}, [])
    # A setting that a board ignores is reported.
    text = BOARD.read_text().replace("[guard]", "[guard]\nleast_quality = 50.0", 1)
    (tmp_path / "more.toml").write_text(text + '\n[sinks.log]\nkind = "log"\nfile = "a.csv"\n[feedback]\nby = "bell"\n')
    over = json.loads(run("firmware", "more.toml", "--out", "more", "--json", cwd=tmp_path).stdout)["unread"]
    assert [one.partition(":")[0] for one in over] == ["sinks.log", "feedback", "guard.least_quality"]
    assert all((tmp_path / file).exists() for file in found["files"])
    assert found["digest"] in (tmp_path / "board/robot_board.h").read_text()
    assert "# this transmitter sends more to the right" in (tmp_path / "board/robot_board.c").read_text()
    plain = run("firmware", str(shipped("medlar.toml")), "--out", "pad", cwd=tmp_path)
    assert plain.returncode == 0
    assert (
        'no avr: source.kind: its pins read a receiver, or potentiometers as of "lines", not "gamepad"' in plain.stdout
    )
    for path, then in (
        (shipped("medlar.toml"), "read robot_board.py: a main.py of your own calls it"),
        (EXAMPLES / "sender.toml", "put robot_board.py and main.py on the board"),
    ):
        python = run("firmware", str(path), "--for", "micropython", "--out", "python", cwd=tmp_path)
        assert (python.returncode, then in python.stdout, "no main.py" in python.stdout) == (0, True, "own" in then)
    for name, keys in (
        ("sorrel", ["chassis.kind", "modes.a_stick_each.style"]),
        ("medlar-lesson", ["drivers.learner", "distances.front"]),
        ("damson-guided", ["sinks.autopilot"]),
    ):
        refused = run("firmware", str(shipped(f"{name}.toml")), "--out", "none", cwd=tmp_path)
        assert refused.returncode == 1
        assert all(f"{name}.toml: {key}: " in refused.stderr for key in keys), refused.stderr
    contacts = "".join(f'[outputs.o{n}]\nkind = "contact"\ncontrol = "drive"\n' for n in range(9))
    nine = tmp_path / "nine.toml"
    nine.write_text((EXAMPLES / "sender.toml").read_text() + contacts)
    for options, key in ((["--part", "sticks"], "outputs"), (["--part", "robot"], "outputs"),
                         (["--for", "micropython", "--real", "double"], "MicroPython has the float")):  # fmt: skip
        refused = run("firmware", str(nine), "--out", "none", *options, cwd=tmp_path)
        assert (refused.returncode, f"nine.toml: {key}" in refused.stderr) == (1, True), refused.stderr
    assert not (tmp_path / "none").exists()
    # Programs of another profile in the folder are removed.
    (tmp_path / "board/avr/notes.txt").write_text("my own")
    run("firmware", str(shipped("medlar.toml")), "--out", "board", cwd=tmp_path)
    assert [path.name for path in (tmp_path / "board/avr").iterdir()] == ["notes.txt"]


# ---- On the simulated chip. ----


@pytest.fixture(scope="module")
def chip(tmp_path_factory: pytest.TempPathFactory) -> Callable[[str, list[str]], tuple[str, Path]]:
    """Builds the program of a folder for the chip, and runs it with inputs."""
    folder = tmp_path_factory.mktemp("chip")
    make_firmware(tenuto.load_profile(BOARD)).write(folder)
    subprocess.run(["make", "-s", "-C", folder / "avr", "bench"], check=True)

    def run_it(program: str, events: list[str]) -> tuple[str, Path]:
        if not (folder / f"avr/{program}.elf").exists():
            if program != "main":
                (folder / "avr/main.c").rename(folder / "avr/kept.c")
                (folder / "avr/main.c").write_text(PROGRAMS[program]((folder / "avr/kept.c").read_text()))
            subprocess.run(["make", "-s", "-C", folder / "avr", "main.elf"], check=True, capture_output=True)
            (folder / "avr/main.elf").rename(folder / f"avr/{program}.elf")
            if program != "main":
                (folder / "avr/kept.c").rename(folder / "avr/main.c")
        command = [folder / "avr/bench", folder / f"avr/{program}.elf", folder / f"avr/{program}.vcd"]
        done = subprocess.run(command, input="\n".join(events).encode(), capture_output=True, check=True)
        return done.stdout.decode("ascii", "replace"), folder / f"avr/{program}.elf"

    return run_it


PROGRAMS: dict[str, Callable[[str], str]] = {
    "hangs": lambda text: text.replace("robot_step(now);", "robot_step(now);\n        while (now > 1200) continue;"),
    "trial": lambda text: (Path(__file__).parent / "board_trial.c").read_text(),
}


@needs_chip
def test_the_whole_board_drives_and_stops_on_a_simulated_chip(chip: Callable[..., tuple[str, Path]]) -> None:
    """Bytes of a receiver in, H-bridges out. The radio falls silent, and later sends garbage at full rate."""
    dice = random.Random(3)
    noise = [f"U {1000 * at:.0f} {dice.randrange(256)}" for at in (1850.0 + 0.12 * number for number in range(2000))]
    out, program = chip("main", [*radio(BEGIN), *noise, "E 2100000"])
    pins = pins_of(out)
    assert not on_at(pins, 404.0)
    assert on_at(pins, 990.0)
    moved = [at for kind, at, _, level in pins if kind == "D" and level]
    # The last frame ends at 995 ms, with a timeout of 0.3 s: 0.8 m/s² from 404 ms on are 0.71 m/s, then −1.5 m/s².
    assert 1295.0 < max(moved) < 995.0 + 300.0 + 1000.0 * 0.71 / 1.5 + 60.0
    assert {pin for kind, _, pin, level in pins if kind == "P" and level} == {12, 4}, "both go ahead"
    assert not any(at > 1835.0 and level for _, at, _, level in pins), "garbage moves nothing"
    # The trace has the same edges: time in ns, and the pin as a character.
    now, edges = 0, list[tuple[int, int, int]]()
    for line in program.with_suffix(".vcd").read_text().split("#0\n")[1].splitlines()[20:]:
        if line.startswith("#"):
            now = int(line[1:])
        elif line[0] in "01":
            edges.append((now, ord(line[1]) - ord("!"), int(line[0])))
    said = [(1e6 * at, pin, level) for kind, at, pin, level in pins if kind == "P"]
    assert [edge[1:] for edge in edges] == [edge[1:] for edge in said]
    assert all(abs(a[0] - b[0]) <= 10.0 for a, b in zip(edges, said, strict=True))
    size = subprocess.run(["avr-size", program], capture_output=True, text=True, check=True).stdout.split()
    text, data, bss = map(int, size[6:9])
    assert text + data <= 16 * 1024
    assert data + bss <= 600, "and 300 bytes are left for the stack"


@needs_chip
def test_a_main_loop_that_hangs_and_a_reset_at_full_speed_are_a_stop(chip: Callable[..., tuple[str, Path]]) -> None:
    goes_on = [(404.0, 1700.0, 1.0, True)]
    out, _ = chip("hangs", [*radio([*BEGIN[:2], *goes_on]), "E 1700000"])
    pins = pins_of(out)
    assert on_at(pins, 1195.0)
    assert not on_at(pins, 1200.0 + 20.0 + 150.0), "the watchdog of the chip resets it"
    assert not any(at > 1370.0 and level for _, at, _, level in pins), "and it stands, for nobody has let go"
    events = sorted([*radio([*BEGIN[:2], (404.0, 1100.0, 1.0, True)]), "R 800000"], key=lambda one: int(one.split()[1]))
    out, _ = chip("main", [*events, "E 1100000"])
    pins = pins_of(out)
    assert on_at(pins, 799.0)
    assert not any(at > 800.5 and level for _, at, _, level in pins)


@needs_chip
def test_the_simulated_chip_makes_the_same_ticks(chip: Callable[..., tuple[str, Path]]) -> None:
    profile = tenuto.load_profile(BOARD)
    plan, made = profile.plan(), make_firmware(profile)
    rows = [row for seed in (1, 2) for row in any_schedule(plan, seed, 2)][:230]
    rows = [row._replace(ms=1000 + 20 * number, earlier=()) for number, row in enumerate(rows)]
    out, _ = chip("trial", trial_events(rows, made.inputs, WRAPS))
    data = bytes(int(line.split()[2]) for line in out.splitlines() if line.startswith("B "))
    states, codes, size = list(State), ["", *Code], 4 + 4 * len(made.outputs)
    there = []
    for at in range(0, len(data) - size + 1, size):
        state, code, power, sends = data[at : at + 4]
        values = dict(zip(made.outputs, struct.unpack_from(f"<{len(made.outputs)}f", data, at + 4), strict=True))
        there.append(Made(str(states[state]), str(codes[code]), values, bool(power), bool(sends), frozenset()))
    assert difference(plan, by_pipeline(plan, rows), there) == ""
    assert sum(one.state == "driving" for one in there) > 50
    assert slowest_of(out) < 1000.0 * made.longest_step


def slowest_of(out: str) -> float:
    """Return the longest step of `board_trial.c`, ms of a chip that runs at 16 MHz whatever this computer does."""
    edges = [(at, level) for kind, at, pin, level in pins_of(out) if kind == "P" and pin == 13]
    return max(fall - rise for (rise, up), (fall, _) in pairwise(edges) if up)


@needs_chip
@pytest.mark.long
@pytest.mark.parametrize("name", ["medlar-board", "quince", "damson"])
def test_no_step_on_the_chip_is_longer_than_is_said(name: str, tmp_path: Path) -> None:
    """Sticks that jump to other ends once or twice a second: another drive than the one that is computed."""
    profile = tenuto.load_profile(EXAMPLES / f"{name}.toml" if name == "medlar-board" else shipped(f"{name}.toml"))
    plan, board = profile.plan(), make_firmware(tenuto.load_profile(BOARD), timed=False)
    made = make_firmware(profile)
    wires = [made.outputs.index(output) for output in made.outputs if output in plan.wire_at_rest()]
    module = make_firmware(profile, language="micropython").files["robot_board.py"]
    said = 1000.0 * longest_step(module, plan, made.inputs, wires)
    made.write(tmp_path)
    (tmp_path / "avr").mkdir(exist_ok=True)
    for file in ("avr/Makefile", "avr/bench.c"):
        (tmp_path / file).write_text(board.files[file])
    (tmp_path / "avr/main.c").write_text((Path(__file__).parent / "board_trial.c").read_text())
    subprocess.run(["make", "-s", "-C", tmp_path / "avr", "main.elf", "bench"], check=True, capture_output=True)
    dice, hands, where = random.Random(7), Hands(plan), dict[str, float]()
    driving = [one for one in plan.controls if one.name in plan.driving_controls()]
    rows = []
    for number in range(800):
        hands.act("careful" if number <= hands.begins else "absent", dice, plan.period, number)
        for one in driving if number > hands.begins + 3 else ():
            if dice.random() < 0.03 or one.reads not in where:
                where |= one.raw_at(dice.choice((-1.0, 0.0, 1.0, dice.uniform(-1.0, 1.0))))
        rows.append(Row(1000 + round(1000.0 * plan.period) * number, {**hands.values(), **where}, True, False, False))
    command = [tmp_path / "avr/bench", tmp_path / "avr/main.elf"]
    events = trial_events(rows, made.inputs, 1000, pause=20_000.0)
    out = subprocess.run(command, input="\n".join(events).encode(), capture_output=True, check=True).stdout
    slowest = slowest_of(out.decode("ascii", "replace"))
    assert slowest <= said <= 3.0 * slowest
    fast = profile.with_(**{"loop.rate": 1000.0 / (0.9 * said)}) if name == "medlar-board" else None
    if fast is not None:
        assert "a step takes up to" in make_firmware(fast).misfits["avr"]
        assert '#error "loop.rate: a step takes' in make_firmware(fast).files["sketch/examples/drive/drive.ino"]


def trial_events(rows: Sequence[Row], inputs: Sequence[str], begins: int, pause: float = 6000.0) -> list[str]:
    """Return the input of `board_trial.c`: bytes at 40 us each, and some us for a step and its answer."""
    events, at = list[str](), 1000.0

    def send(data: bytes) -> None:
        nonlocal at
        for byte in data:
            events.append(f"U {at:.0f} {byte}")
            at += 40.0

    send(b"B" + struct.pack("<I", begins))
    for row in rows:
        now = (begins + row.ms - rows[0].ms) % 2**32
        for name, value in (row.values or {}).items():
            send(b"P" + struct.pack("<Bf", inputs.index(name), value) if name in inputs else b"")
        if row.values is not None:
            send(b"F" + struct.pack("<I?", now, row.link))
        send(b"X" * row.stop + b"R" * row.reset + b"S" + struct.pack("<I", now))
        at += pause
    return [*events, f"E {at:.0f}"]


@needs_chip
def test_a_sender_s_lines_are_velocity_lines(tmp_path: Path) -> None:
    """Unconnected potentiometers read 0, outside their travel, so the lines command standstill."""
    sender = tenuto.load_profile(EXAMPLES / "sender.toml")
    make_firmware(sender, part="sticks").write(tmp_path)
    subprocess.run(["make", "-s", "-C", tmp_path / "avr", "main.elf", "bench"], check=True)
    command = [tmp_path / "avr/bench", tmp_path / "avr/main.elf"]
    out = subprocess.run(command, input="E 500000\n", capture_output=True, text=True, check=True).stdout
    decoder = VelocityLineDecoder()
    lines = decoder.feed(bytes(int(line.split()[2]) for line in out.splitlines() if line.startswith("B ")))
    assert 20 <= len(lines) <= 26
    assert decoder.counts.bad == decoder.counts.lost == 0
    assert all(line.command == tenuto.VelocityCommand() and line.valid_for == 0.2 for line in lines)


@pytest.mark.parametrize("outputs", [0, 3])
def test_the_longest_line_of_a_sender_fits_into_its_buffer(outputs: int) -> None:
    more = "".join(f'[outputs.o{n}]\nkind = "contact"\ncontrol = "drive"\n' for n in range(outputs))
    text = (EXAMPLES / "sender.toml").read_text().replace("[guard]", '[guard]\ncommand_timeout = "20000 s"')
    files = make_firmware(tenuto.parse_profile(text + more), part="sticks").files
    fastest = tenuto.VelocityCommand(-99.0, -99.0, -99.0, -99.0)
    longest = encode_velocity_line(VelocityLine(255, fastest, 20_000.0, True, (-1.0,) * outputs))
    size = re.search(r"#define ROBOT_LINE (\d+)", files["robot_board.h"])
    assert size is not None
    assert int(size[1]) == len(longest)
    assert "write_number(line, 60000)" in files["robot_board.c"]


@needs_chip
def test_the_board_of_the_robot_answers_drives_and_stops_on_silence(tmp_path: Path) -> None:
    make_firmware(tenuto.load_profile(BOARD), part="robot").write(tmp_path)
    subprocess.run(["make", "-s", "-C", tmp_path / "avr", "main.elf", "bench"], check=True, capture_output=True)
    events, silent_from = list[str](), 900
    for number, ms in enumerate(range(150, silent_from, 20)):
        line = VelocityLine(number, tenuto.VelocityCommand(0.5 if ms > 300 else 0.0), 0.2, True)
        data = encode_velocity_line(line)
        events += [f"U {1000 * ms + 87 * place} {byte}" for place, byte in enumerate(data)]
    command = [tmp_path / "avr/bench", tmp_path / "avr/main.elf"]
    said = "\n".join([*events, "E 1500000"])
    out = subprocess.run(command, input=said, capture_output=True, text=True, check=True).stdout
    sent = bytes(int(line.split()[2]) for line in out.splitlines() if line.startswith("B "))
    answers = [read_answer(line) for line in sent.splitlines()]
    assert None not in answers[1:]
    whys = [answer.why for answer in answers if answer is not None]
    assert len(whys) > 10
    assert whys[0] == 1, "nothing has come yet"
    assert 0 in whys
    digests = {answer.made_from for answer in answers[1:] if answer is not None}
    assert digests == {line_plan(tenuto.load_profile(BOARD).plan()).digest()}
    assert whys[-1] == 2, "none came in time: it waits for a standstill command"
    pins = pins_of(out)
    assert not on_at(pins, 300.0)
    assert on_at(pins, 880.0)
    # The last line is valid for 0.2 s, and from 0.46 m/s it stops at 1.5 m/s².
    assert 1050.0 < max(at for kind, at, _, level in pins if kind == "D" and level) < 900.0 + 200.0 + 320.0 + 60.0


@needs_arm
def test_a_cortex_m_makes_the_same_ticks(tmp_path: Path) -> None:
    profile = tenuto.load_profile(shipped("quince.toml"))
    plan, made = profile.plan(), make_firmware(profile)
    made.write(tmp_path)
    subprocess.run(["make", "-s", "-C", tmp_path / "cortex-m", "replay.elf"], check=True)
    for seed in range(3):
        rows = any_schedule(plan, seed)
        command = ["make", "-s", "-C", str(tmp_path / "cortex-m"), "run", f"MS={WRAPS * (seed % 2)}"]
        out = subprocess.run(command, input=as_table(rows, made.inputs), capture_output=True, text=True, check=True)
        assert difference(plan, by_pipeline(plan, rows), made_of_output(out.stdout, plan)) == ""


def test_numbers_that_no_board_has_are_said_as_its_language_says_them() -> None:
    from tenuto.firmware.naming import Names, quoted
    from tenuto.firmware.numbers import literal, ms_above, ms_below

    assert [literal(one, "float") for one in (0.1, 2.0, math.inf, 1e-50)] == ["0.1f", "2.0f", "INFINITY", "0.0f"]
    assert literal(0.1, "double") == "0.1"
    # 0.3 s are 300 whole ms, however 0.3 is rounded; an infinite time is longer than any age.
    assert (ms_above(0.3), ms_below(0.3), ms_above(0.3004), ms_below(0.3004)) == tuple(
        f"INT32_C({ms})" for ms in (300, 300, 300, 301)
    )
    assert ms_above(math.inf) == "INT32_C(1073741825)"
    names = Names()
    assert [names.identifier(one) for one in ("take off", "take-off", "Ä", "take off")] == [
        "take_off", "take_off_2", "a", "take_off",
    ]  # fmt: skip
    assert quoted('*/ "x" \\') == "* / 'x' /"
