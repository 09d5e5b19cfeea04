"""The receiver sketch in C: compiled, compared with the Python one on any bytes, and driven over a pseudo-terminal."""

import ctypes as c
import os
import random
import shutil
import subprocess
import time
import tty
from pathlib import Path

import pytest

import tenuto
from helpers import pad, patient
from tenuto import VelocityCommand
from tenuto.driving.watchdog import CommandWatchdog
from tenuto.protocols.velocity_line import VelocityLine, VelocityLineDecoder, encode_velocity_line, with_checksum
from tenuto.sources.function import FunctionSource

FOLDER = Path(__file__).parents[1] / "examples/firmware"
FLAGS = ["-std=c99", "-Wall", "-Wextra", "-Werror", "-pedantic", "-O1"]
pytestmark = pytest.mark.skipif(shutil.which("gcc") is None, reason="no gcc here to compile the sketch with")


class Line(c.Structure):
    """The struct of velocity_line.h."""

    _fields_ = [
        ("vx", c.c_int32), ("vy", c.c_int32), ("vz", c.c_int32), ("yaw_rate", c.c_int32), ("power", c.c_bool),
        ("outputs", c.c_uint8), ("output", c.c_int16 * 8),
        ("good", c.c_uint32), ("bad", c.c_uint32), ("text", c.c_char * 96), ("length", c.c_uint16),
        ("too_long", c.c_bool), ("heard", c.c_bool), ("latched", c.c_bool), ("counter", c.c_uint8),
        ("came", c.c_uint32), ("valid", c.c_uint32),
    ]  # fmt: skip


@pytest.fixture(scope="module")
def sketch(tmp_path_factory: pytest.TempPathFactory) -> c.CDLL:
    library = tmp_path_factory.mktemp("c") / "sketch.so"
    subprocess.run(["gcc", *FLAGS, "-shared", "-fPIC", FOLDER / "velocity_line.c", "-o", library], check=True)
    loaded = c.CDLL(str(library))
    loaded.velocity_line_may_move.restype = loaded.velocity_line_byte.restype = c.c_bool
    return loaded


# Well summed, and no velocity lines all the same.
ODD = (
    b"V 1 2", b"V", b"V 300 1 0 0 0 200 1", b"V 1 +2 0 0 0 200 1", b"V 1 2 0 0 0 -5 1", b"", b"V 1 2  0 0 0 200 1",
    b"V 1 1234567 0 0 0 200 1", b"V 1 2 0 0 0 200 1 ", b"V 1 - 0 0 0 2 1", b"V 1 2 0 0 0 200 1 1001",
    b"V 1 2 0 0 0 200 1 1 2 3 4 5 6 7 8 9", b"V 1 2 0 0 0 200 1 5 ",
)  # fmt: skip


def some_bytes(dice: random.Random, counter: int) -> bytes:
    """A line as it should be, or one of the things that a wire or a stranger makes of it."""
    speed = dice.choice(
        (VelocityCommand(), VelocityCommand(0.4, -0.1, 0.0, 1.2), VelocityCommand(99.0, 0.0, 0.0, -99.0))
    )
    levels = dice.choice(((), (), (0.5, -0.25), (-1.0,) * 8))
    valid = dice.choice((0.0, 0.1, 0.2, 60.0))
    line = encode_velocity_line(VelocityLine(counter, speed, valid, dice.random() < 0.9, levels))
    kind = dice.randrange(12)
    if kind == 0:
        broken = bytearray(line)
        broken[dice.randrange(len(line))] ^= 1 << dice.randrange(8)
        return bytes(broken)
    if kind == 1:
        return line[: dice.randrange(len(line))]
    if kind == 2:
        return dice.randbytes(dice.randrange(150))
    if kind == 3:
        return line + line  # repeated
    if kind == 4:
        return with_checksum(dice.choice(ODD))
    return line[:-1] + b"\r\n" if kind == 5 else line


@pytest.mark.parametrize("seed", range(20))
def test_the_sketch_and_the_library_agree_on_any_bytes(sketch: c.CDLL, seed: int) -> None:
    dice = random.Random(seed)
    theirs, ours, watchdog, power = Line(), VelocityLineDecoder(), CommandWatchdog(), False
    sketch.velocity_line_begin(c.byref(theirs))
    begin = now = dice.choice((0, 2**32 - 3000))  # the clock of the sketch rolls over
    moved = 0
    for number in range(400):
        now += dice.choice((5, 20, 20, 20, 150, 400))
        piece = some_bytes(dice, number % 256)
        for byte in piece:
            sketch.velocity_line_byte(c.byref(theirs), c.c_char(byte), c.c_uint32(now))
        for line in ours.feed(piece):
            watchdog.feed((now - begin) / 1000.0, line.valid_for + 1e-9, line.command == VelocityCommand())
            power = line.power
            speeds = [theirs.vx, theirs.vy, theirs.vz, theirs.yaw_rate]
            assert speeds == [round(1000 * speed) for speed in line.command]
            assert theirs.output[: theirs.outputs] == [round(1000 * level) for level in line.outputs]
        may = watchdog.may_move((now - begin) / 1000.0) and power
        assert sketch.velocity_line_may_move(c.byref(theirs), c.c_uint32(now)) == may, (number, piece)
        assert theirs.good == ours.counts.good
        moved += may
    assert ours.counts.good > 200
    assert ours.counts.bad > 20
    assert 20 < moved < 380


@pytest.mark.live
def test_over_a_pseudo_terminal_it_converts_and_stops_on_silence(tmp_path: Path) -> None:
    program = tmp_path / "on_a_computer"
    subprocess.run(["gcc", *FLAGS, *FOLDER.glob("*.c"), "-o", program], check=True)
    ours, theirs = os.openpty()
    tty.setraw(theirs)
    process = subprocess.Popen([program], stdin=ours, stdout=ours, stderr=subprocess.PIPE, text=True)
    ticks: list[tenuto.Tick] = []

    def hands(now: float) -> dict[str, float]:
        now %= 4.0  # should the machine stall, it is let go and enabled again
        return pad(float(now > 0.4), 0.3 if now > 0.4 else 0.0, held=now > 0.2)

    def watch(tick: tenuto.Tick) -> str | None:
        ticks.append(tick)
        return "done" if tick.command.vx > 0.6 or tick.time > 30.0 else None

    source = FunctionSource("hands", tuple(pad()), hands)
    with tenuto.open_sink(f"serial:{os.ttyname(theirs)},answers=0.5") as sink:
        tenuto.drive(patient(tmp_path), source, [sink], on_tick=watch)
        assert sink.problem == ""  # it was answered
        cut = next(tick for tick in ticks if tick.command.vx > 0.3)
        sink.write(cut)
        time.sleep(2.0 * cut.valid_for + 0.5)  # nothing more comes: it stops by itself
    os.close(theirs)
    os.close(ours)
    _, told = process.communicate(timeout=60)
    speeds = [tuple(map(int, line.split()[1:])) for line in told.splitlines()]
    wanted = {(round(1000 * tick.command.vx), round(1000 * tick.command.yaw_rate)) for tick in ticks}
    assert len(speeds) > 20
    assert set(speeds) <= wanted | {(0, 0)}
    assert speeds[-2:] == [(round(1000 * cut.command.vx), round(1000 * cut.command.yaw_rate)), (0, 0)]
    assert max(vx for vx, _ in speeds) > 500
