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
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import examples, pad, patient
from tenuto import VelocityCommand
from tenuto.driving.watchdog import CommandWatchdog
from tenuto.protocols.answer_line import AnswerLine, encode_answer, read_answer
from tenuto.protocols.frames import (
    COMMAND,
    SIGNED_ANSWER,
    SIGNED_COMMAND,
    AnswerSeal,
    CommandFrame,
    FrameFinder,
    Seal,
    encode_command,
    sign_command,
)
from tenuto.protocols.velocity_line import VelocityLine, VelocityLineDecoder, encode_velocity_line, with_checksum
from tenuto.sources.function import FunctionSource

FOLDER = Path(__file__).parents[1] / "examples/firmware"
FLAGS = ["-std=c99", "-Wall", "-Wextra", "-Wconversion", "-Werror", "-pedantic", "-O1"]
pytestmark = pytest.mark.skipif(shutil.which("gcc") is None, reason="no gcc here to compile the sketch with")


class Line(c.Structure):
    """The struct of velocity_line.h."""

    _fields_ = [
        ("vx", c.c_int32), ("vy", c.c_int32), ("vz", c.c_int32), ("yaw_rate", c.c_int32), ("power", c.c_bool),
        ("outputs", c.c_uint8), ("output", c.c_int16 * 8),
        ("good", c.c_uint32), ("bad", c.c_uint32), ("heard", c.c_bool), ("latched", c.c_bool),
        ("counter", c.c_uint8), ("came", c.c_uint32), ("valid", c.c_uint32), ("private", c.c_uint8 * 96),
    ]  # fmt: skip


@pytest.fixture(scope="module")
def sketch(tmp_path_factory: pytest.TempPathFactory) -> c.CDLL:
    library = tmp_path_factory.mktemp("c") / "sketch.so"
    sources = [FOLDER / "velocity_line.c", FOLDER / "velocity_frame.c"]
    subprocess.run(["gcc", *FLAGS, "-shared", "-fPIC", *sources, "-o", library], check=True)
    loaded = c.CDLL(str(library))
    loaded.velocity_line_may_move.restype = loaded.velocity_line_byte.restype = c.c_bool
    loaded.velocity_frame_may_move.restype = loaded.velocity_frame_byte.restype = c.c_bool
    loaded.velocity_line_answer.restype = c.c_uint16
    return loaded


# The checksum is correct, but these are not velocity lines.
ODD = (
    b"V 1 2", b"V", b"V 300 1 0 0 0 200 1", b"V 1 +2 0 0 0 200 1", b"V 1 2 0 0 0 -5 1", b"", b"V 1 2  0 0 0 200 1",
    b"V 1 1234567 0 0 0 200 1", b"V 1 2 0 0 0 200 1 ", b"V 1 - 0 0 0 2 1", b"V 1 2 0 0 0 200 1 1001",
    b"V 1 2 0 0 0 200 1 1 2 3 4 5 6 7 8 9", b"V 1 2 0 0 0 200 1 5 ",
)  # fmt: skip


def some_bytes(dice: random.Random, counter: int) -> bytes:
    """Return a good line, or one that is damaged or foreign."""
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
    begin = now = dice.choice((0, 2**32 - 3000))  # the clock of the sketch wraps
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


class Report(c.Structure):
    """The input of velocity_line.h for an answer."""

    _fields_ = [
        ("why", c.c_uint8), ("millivolts", c.c_uint16), ("wheels", c.c_uint8), ("distances", c.c_uint8),
        ("wheel", c.c_int32 * 4), ("distance", c.c_int32 * 4), ("made_from", c.c_char_p),
    ]  # fmt: skip


class Frame(c.Structure):
    """The struct of velocity_frame.h."""

    _fields_ = [
        ("vx", c.c_int16), ("vy", c.c_int16), ("vz", c.c_int16), ("yaw_rate", c.c_int16), ("power", c.c_bool),
        ("good", c.c_uint32), ("refused", c.c_uint32), ("key", c.c_char_p), ("session", c.c_uint32),
        ("began", c.c_uint32), ("run", c.c_uint32), ("number", c.c_uint32), ("asked_run", c.c_uint32),
        ("asked_number", c.c_uint32), ("bytes", c.c_uint8 * 38), ("length", c.c_uint8),
        ("counter", c.c_uint8), ("heard", c.c_bool), ("latched", c.c_bool), ("came", c.c_uint32),
        ("valid", c.c_uint32),
    ]  # fmt: skip


class FrameReport(c.Structure):
    """The input of velocity_frame.h for an answer."""

    _fields_ = [
        ("why", c.c_uint8), ("millivolts", c.c_uint16), ("has_wheels", c.c_bool), ("has_distance", c.c_bool),
        ("left", c.c_int32), ("right", c.c_int32), ("distance", c.c_uint16),
    ]  # fmt: skip


@examples(60)
@given(
    st.integers(0, 255), st.integers(0, 65535), st.lists(st.integers(-900_000, 900_000), max_size=4),
    st.lists(st.integers(0, 900_000), max_size=4),
)  # fmt: skip
def test_the_sketch_answers_as_the_library_reads(
    sketch: c.CDLL, why: int, volts: int, wheels: list[int], distances: list[int]
) -> None:
    line, text = Line(), c.create_string_buffer(96)
    sketch.velocity_line_begin(c.byref(line))
    for byte in encode_velocity_line(VelocityLine(200, VelocityCommand(), 1.0, True)):
        sketch.velocity_line_byte(c.byref(line), c.c_char(byte), c.c_uint32(5))
    four = c.c_int32 * 4
    report = Report(
        why, volts, len(wheels), len(distances), four(*wheels), four(*distances), b"4e8835b0" if volts % 2 else None
    )
    length = sketch.velocity_line_answer(c.byref(line), c.byref(report), c.c_uint32(6), text)
    assert length <= 96
    answer = read_answer(text.raw[: length - 1])
    assert answer is not None
    assert (answer.counter, answer.good, answer.why) == (200, 1, why)
    # The digest is last: it is left out if the line would be longer than 96 bytes.
    room = len(encode_answer(answer._replace(made_from=""))) + len(" P 4e8835b0") <= 96
    assert answer.made_from == ("4e8835b0" if volts % 2 and room else "")
    assert [*answer.wheels, *answer.distances] == pytest.approx([one / 1000 for one in (*wheels, *distances)])
    assert encode_answer(answer) == text.raw[:length]
    # The short form has coarser steps, and the same report of the link.
    frame, sent = Frame(), c.create_string_buffer(34)
    sketch.velocity_frame_begin(c.byref(frame), KEY, c.c_uint32(77), c.c_uint32(1000))
    left, right, near = (*wheels, 0, 0)[0], (*wheels, 0, 0)[1], (*distances, 0)[0] % 65536
    told = FrameReport(why, volts, True, True, left, right, near)
    assert sketch.velocity_frame_answer(c.byref(frame), c.byref(told), c.c_uint32(1500), sent) == 34
    ((said, seal),) = FrameFinder(SIGNED_ANSWER, KEY).feed(sent.raw)
    assert isinstance(said, AnswerLine)
    assert (said.why, seal) == (why or 1, AnswerSeal(77, 500, 0, 0))
    assert said.wheels == pytest.approx([max(min(one / 1000, 327.67), -327.67) for one in (left, right)], abs=5.1e-3)
    assert said.distances[0] == pytest.approx(min(near / 1000, 5.08), abs=0.0101)


KEY = bytes(range(7, 39))
SESSION = 0xC0FFEE


def on_the_way(dice: random.Random, piece: bytes, sent: list[bytes]) -> bytes:
    """Return a frame that is damaged or foreign."""
    kind = dice.randrange(10)
    if kind == 0:
        return piece[: dice.randrange(len(piece))]
    if kind == 1:
        place = dice.randrange(len(piece))
        return piece[:place] + bytes([piece[place] ^ 1 << dice.randrange(8)]) + piece[place + 1 :]
    if kind == 2:
        return dice.choice(sent) + piece  # a replay before it
    return dice.randbytes(dice.randrange(60)) + piece if kind == 3 else piece


@pytest.mark.parametrize("signed", [False, True])
@pytest.mark.parametrize("seed", range(10))
def test_the_sketch_takes_what_the_library_takes_of_any_frames(sketch: c.CDLL, seed: int, signed: bool) -> None:
    """Good, damaged, cut, foreign, forged, replayed, late and reordered frames in noise, against the rules."""
    dice = random.Random(seed)
    theirs, watchdog, power, number, newest = Frame(), CommandWatchdog(), False, 0, (0, 0)
    came, asked = -(10**9), (0, 0)
    began = now = dice.choice((0, 2**32 - 3000))
    sketch.velocity_frame_begin(c.byref(theirs), KEY if signed else None, c.c_uint32(SESSION), c.c_uint32(now))
    finder = FrameFinder(SIGNED_COMMAND, KEY) if signed else FrameFinder(COMMAND)
    sent, taken, moved, counter, last = list[bytes](), 0, 0, -1, VelocityCommand()
    for step in range(400):
        now += dice.choice((5, 20, 20, 150, 400))
        number += 1
        speed = dice.choice((VelocityCommand(), VelocityCommand(0.4, -0.1, 0.05, -1.2)))
        frame = CommandFrame(step, speed, dice.choice((0.05, 0.1, 0.2, 0.5)), dice.random() < 0.9)
        heard = (now - began - dice.choice((0, 100, 499, 500, 501, 3000))) % 2**32
        run = 7 if step < 250 or dice.random() < 0.1 else 8  # another program, and its predecessor's messages
        seal = Seal(dice.choice((SESSION,) * 18 + (5, 0)), run, number, heard)
        key = KEY if dice.random() < 0.9 else bytes(32)
        piece = sign_command(frame, seal, key) if signed else encode_command(frame)
        sent.append(piece)
        piece = on_the_way(dice, piece, sent)
        for byte in piece:
            sketch.velocity_frame_byte(c.byref(theirs), c.c_uint8(byte), c.c_uint32(now))
        for found, said in finder.feed(piece):
            assert isinstance(found, CommandFrame)
            if isinstance(said, Seal):
                age, free = (now - began - said.heard) % 2**32, now - came >= 1000
                later = said.number > newest[1] if said.run == newest[0] else free
                good = said.session == SESSION and later and age <= 500
                asked = (said.run, said.number) if good or free else asked
                if not good:
                    continue
                newest, came = (said.run, said.number), now
            elif found.counter == counter:
                continue
            counter, taken, power = found.counter, taken + 1, found.power
            watchdog.feed((now - began) % 2**32 / 1000.0, found.valid_for + 1e-9, found.command == VelocityCommand())
            last = found.command
        assert [theirs.vx, theirs.vy, theirs.vz, theirs.yaw_rate] == [round(1000 * axis) for axis in last]
        may = watchdog.may_move((now - began) % 2**32 / 1000.0) and power
        assert sketch.velocity_frame_may_move(c.byref(theirs), c.c_uint32(now)) == may
        assert theirs.good == taken
        assert (theirs.asked_run, theirs.asked_number) == asked
        moved += may
    assert taken > 100
    assert moved > 20


@pytest.mark.live
def test_over_a_pseudo_terminal_it_converts_and_stops_on_silence(tmp_path: Path) -> None:
    program = tmp_path / "on_a_computer"
    subprocess.run(["gcc", *FLAGS, *FOLDER.glob("*.c"), "-o", program], check=True)
    ours, theirs = os.openpty()
    tty.setraw(theirs)
    process = subprocess.Popen([program], stdin=ours, stdout=ours, stderr=subprocess.PIPE, text=True)
    ticks: list[tenuto.Tick] = []

    def hands(now: float) -> dict[str, float]:
        now %= 4.0  # if the machine stalls, the driver releases and enables again
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
        time.sleep(2.0 * cut.valid_for + 0.5)  # no more commands come: it stops by itself
    os.close(theirs)
    os.close(ours)
    _, told = process.communicate(timeout=60)
    speeds = [tuple(map(int, line.split()[1:])) for line in told.splitlines()]
    wanted = {(round(1000 * tick.command.vx), round(1000 * tick.command.yaw_rate)) for tick in ticks}
    assert len(speeds) > 20
    assert set(speeds) <= wanted | {(0, 0)}
    assert speeds[-2:] == [(round(1000 * cut.command.vx), round(1000 * cut.command.yaw_rate)), (0, 0)]
    assert max(vx for vx, _ in speeds) > 500


BOARD = FOLDER / "servo_board"


class ServoLines(c.Structure):
    """The struct of servo_lines.h."""

    _fields_ = [
        ("pulse", c.c_uint16 * 8), ("pulses", c.c_uint8), ("power", c.c_bool), ("good", c.c_uint32),
        ("bad", c.c_uint32), ("text", c.c_char * 80), ("length", c.c_uint8), ("counter", c.c_uint8),
        ("drives", c.c_uint8), ("too_long", c.c_bool), ("heard", c.c_bool), ("latched", c.c_bool),
        ("came", c.c_uint32), ("valid", c.c_uint32),
    ]  # fmt: skip


@pytest.fixture(scope="module")
def board(tmp_path_factory: pytest.TempPathFactory) -> c.CDLL:
    library = tmp_path_factory.mktemp("c") / "board.so"
    subprocess.run(["gcc", *FLAGS, "-shared", "-fPIC", BOARD / "servo_lines.c", "-o", library], check=True)
    loaded = c.CDLL(str(library))
    loaded.servo_lines_byte.restype = c.c_bool
    loaded.servo_lines_pulse.restype = c.c_uint16
    loaded.servo_lines_write.restype = c.c_uint8
    return loaded


def servo_line(number: int, pulses: tuple[int, ...], valid: int = 200, power: int = 1) -> bytes:
    return with_checksum(f"P {number % 256} {valid} {power} {' '.join(map(str, pulses))}".encode())


moments = st.tuples(
    st.sampled_from(("neutral", "drive", "drive", "flipped", "cut", "wrong", "silence")), st.integers(700, 2300),
    st.integers(1, 400), st.integers(0, 10_000),
)  # fmt: skip


@examples(100)
@given(st.lists(moments, max_size=25), st.integers(0, 2**32 - 1))
def test_a_servo_board_moves_by_good_lines_in_time_only(
    board: c.CDLL, story: list[tuple[str, int, int, int]], start: int
) -> None:
    """Against the rules of docs/protocols.md, computed here: what is held, neutral or off."""
    lines, now, came, newest, free = ServoLines(), start, -(10**9), 1500, False
    board.servo_lines_begin(c.byref(lines), c.c_uint8(1))
    for number, (what, pulse, wait, chance) in enumerate(story):
        data = servo_line(number, (1500 if what == "neutral" else pulse, 1100))
        if what == "flipped":
            place = chance % len(data)
            data = data[:place] + bytes([data[place] ^ 1 << chance % 8]) + data[place + 1 :]
        elif what == "cut":
            data = data[: chance % (len(data) - 1)] + b"\n"
        elif what == "wrong":
            data = servo_line(number, (pulse + 3000, 1100))
        if what not in ("silence", "cut", "flipped", "wrong"):
            newest, free = (
                1500 if what == "neutral" else pulse,
                (free and now - came < 200) or data.split()[4] == b"1500",
            )
            came = now
        if what != "silence":
            for byte in data + (b"" if data.endswith(b"\n") else b"\n"):
                board.servo_lines_byte(c.byref(lines), c.c_char(byte), c.c_uint32(now % 2**32))
        for step in (0, wait):
            now += step
            first = board.servo_lines_pulse(c.byref(lines), c.c_uint8(0), c.c_uint32(now % 2**32))
            second = board.servo_lines_pulse(c.byref(lines), c.c_uint8(1), c.c_uint32(now % 2**32))
            silent = now - came
            if silent >= 1200:
                assert (first, second) == (0, 0)
                free = False
            else:
                assert first == (newest if free and silent < 200 else 1500)
                assert second == 1100, "what drives nothing stays where it is"


@examples(60)
@given(st.lists(st.integers(0, 2300), min_size=1, max_size=8))
def test_a_servo_board_prints_lines_that_are_read(board: c.CDLL, pulses: list[int]) -> None:
    text = c.create_string_buffer(80)
    length = board.servo_lines_write((c.c_uint16 * 8)(*pulses), c.c_uint8(len(pulses)), text)
    assert text.raw[:length] == with_checksum(",".join(map(str, pulses)).encode())


@pytest.mark.long
@pytest.mark.skipif(shutil.which("avr-gcc") is None, reason="no avr-gcc: apt-get install gcc-avr avr-libc")
@pytest.mark.skipif(not Path("/usr/include/simavr").exists(), reason="no simavr: apt-get install libsimavr-dev")
def test_a_servo_board_on_a_simulated_chip(tmp_path: Path) -> None:
    """Servo wires in and servo pulses out of an 8-bit chip, both at once, by a profile's own line."""
    chip = ["-mmcu=atmega328p", "-DF_CPU=16000000UL", "-Os", "-std=c99", "-Wall", "-Wextra", "-Werror"]
    program, bench = tmp_path / "servo_board.elf", tmp_path / "on_a_chip"
    subprocess.run(["avr-gcc", *chip, BOARD / "board_avr.c", BOARD / "servo_lines.c", "-o", program], check=True)
    subprocess.run(["gcc", "-std=c99", BOARD / "on_a_chip.c", "-lsimavr", "-o", bench], check=True)
    dice, events, sent = random.Random(1), list[tuple[float, str]](), list[tuple[int, ...]]()
    for frame in range(18):
        at, widths = 5_000 + 20_000 * frame, tuple(dice.randrange(800, 2200) for _ in range(4))
        sent.append(widths)
        for wire, width in enumerate(widths):
            events += [(at, f"W {at} {wire} 1"), (at + width, f"W {at + width} {wire} 0")]
            at += width
    for number in range(10):  # neutral, then driving, then silence of the computer
        data = servo_line(number, (1500, 1500) if number < 2 else (1720, 1250), valid=60)
        events += [(at, f"U {at} {byte}") for at, byte in zip(range(40_000 + 20_000 * number, 10**9, 87), data)]  # noqa: B905
    events.append((500_000, "E 500000"))
    said = "\n".join(text for _, text in sorted(events))
    out = subprocess.run([bench, program], input=said, capture_output=True, text=True, check=True).stdout
    rows = [line.split() for line in out.splitlines() if line[:2] in ("S ", "B ")]
    decoder = tenuto.protocols.LineDecoder([f"channel_{n}" for n in range(1, 5)], checksum=True)
    read = [tuple(row.values()) for row in decoder.feed(bytes(int(row[2]) for row in rows if row[0] == "B"))]
    assert decoder.counts.bad == 0
    assert 15 <= len(read) <= 22
    assert all(any(max(abs(a - b) for a, b in zip(one, widths, strict=True)) <= 15 for widths in sent) for one in read)
    rises, pulses = dict[str, float](), list[tuple[float, int, float]]()
    for kind, time_us, *rest in rows:
        if kind == "S" and rest[1] == "1":
            rises[rest[0]] = float(time_us)
        elif kind == "S" and rest[0] in rises:
            pulses.append((rises[rest[0]], int(rest[0]), float(time_us) - rises.pop(rest[0])))
    assert {servo for _, servo, _ in pulses} == {0, 1}, "nothing on pins that no line names"
    for rise, servo, long in pulses:
        moved, neutral = abs(long - (1720, 1250)[servo]) <= 15.0, abs(long - 1500) <= 15.0
        assert moved or neutral
        assert moved or not 105_000 < rise < 275_000
        assert neutral or 80_000 < rise < 310_000
    assert any(rise > 320_000 for rise, _, _ in pulses), "neutral, once the computer is silent"
