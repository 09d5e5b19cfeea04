"""A board receives the same as the pipeline: bytes of receivers, edges of pulses, lines of numbers, good or damaged."""

import ctypes
import math
import random
import statistics
import subprocess
from binascii import crc_hqx
from collections.abc import Iterator, Sequence
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from boards import BEGIN, BOARD, EXAMPLES, built, edges, in_python, needs_chip, needs_gcc, on_at, pins_of, radio, wired
from tenuto import State
from tenuto.basics.frame import Frame, Signal
from tenuto.data import shipped
from tenuto.driving.plan import Plan
from tenuto.firmware.generate import Firmware, make_firmware
from tenuto.profile.checks.advice import advise
from tenuto.protocols import LineDecoder, PpmDecoder, PwmDecoder
from tenuto.protocols.radio.base import RADIOS, channel_values
from tenuto.protocols.radio.decoder import ChannelFrame
from tenuto.testing.board import Made, difference, made_of_output

pytestmark = [pytest.mark.long, needs_gcc]


def receiver_rows(kind: str, dice: random.Random) -> Iterator[tuple[int, bytes]]:
    """Return pieces with a pause before each: good frames, damaged ones, noise; with their ms."""
    radio, ms = RADIOS.all[kind], 1000
    channels = [1500.0] * (radio.plain_channels or radio.channels)
    for number in range(300):
        ms += dice.choice((12, 14, 14, 20, 30))
        channels = [min(max(pulse + dice.choice((0.0, 0.0, 30.0, -30.0)), 990.0), 2000.0) for pulse in channels]
        channels[4] = 2000.0 if number % 100 > 20 else 1000.0
        if number % 100 < 30:
            channels[:2] = 1500.0, 1500.0
        data = radio.encode(channels, lost=dice.random() < 0.05, failsafe=dice.random() < 0.03)
        if dice.random() < 0.2:
            data = radio.encode_link(Signal(dice.choice((0.0, 40.0, *[100.0] * 8)), -60.0, 5.0)) + data
        if dice.random() < 0.1:
            broken = bytearray(data)
            broken[dice.randrange(len(data))] ^= 1 << dice.randrange(8)
            data = bytes(broken)
        elif dice.random() < 0.1:
            data = data[: dice.randrange(len(data))]
        elif dice.random() < 0.1:
            data = bytes(dice.randbytes(dice.randrange(1, 4))) + data
        yield ms, b"" if 260 < number < 290 else data


@pytest.mark.parametrize("kind", ["sbus", "crsf", "ibus"])
def test_a_receiver_is_read_as_here(kind: str, tmp_path: Path) -> None:
    """The same bytes go to both decoders, of Python and of the board; the results drive alike."""
    least = "least_quality = 50" if kind == "crsf" else ""
    text = BOARD.read_text().replace('"sbus"', f'"{kind}"').replace("[guard]", f"[guard]\n{least}")
    profile = tenuto.parse_profile(text)
    plan, made = profile.plan(), make_firmware(profile, timed=False)
    program = built(made, tmp_path)
    decoder, pipeline, here, lines = (
        RADIOS.all[kind].decoder(),
        tenuto.Pipeline(plan),
        list[Made](),
        ["time,.step,.bytes"],
    )
    values: dict[str, float] = {}
    for ms, data in receiver_rows(kind, random.Random(7)):
        lines.append(f"{ms / 1000.0:.3f},1,|{data.hex()}")
        heard = [one for one in decoder.feed(data, pause=True) if not one.lost or one.failsafe]
        frame = frame_of(heard[-1], ms / 1000.0, values) if heard else None
        values = dict(frame.values) if frame is not None else values
        here.append(Made.of(pipeline.step(frame, ms / 1000.0)))
    commands: list[list[str | Path]] = [[program], *in_python(profile, tmp_path / "python")]
    for command in commands:
        assert difference(plan, here, told_by(command, lines, plan)) == "", command
    assert sum(one.state == "driving" for one in here) > 40
    assert {one.reason for one in here} >= {"link_quiet"} | ({"link_weak", "link_bad"} if kind == "crsf" else set())


def told_by(command: Sequence[str | Path], lines: list[str], plan: Plan) -> list[Made]:
    """Return the output of a board's program for the lines of a recording; its clock begins at 0 ms."""
    done = subprocess.run([*command, "0"], input="\n".join(lines) + "\n", capture_output=True, text=True, check=True)
    return made_of_output(done.stdout, plan)


def frame_of(heard: ChannelFrame, now: float, before: dict[str, float]) -> Frame:
    """Return a frame like that of a receiver on a serial port."""
    if heard.failsafe:
        return Frame(now, before, False, "failsafe", heard.signal)
    return Frame(now, channel_values(heard), signal=heard.signal)


Edge = tuple[int, int, bool]  # time, us; wire, from 0; whether it rises


def pulse_rows(kind: str, dice: random.Random) -> Iterator[tuple[int, list[Edge]]]:
    """Return frames of five channels every 20 ms, good and damaged: their ms, and the edges since the last row."""
    channels, ms = [1500] * 5, 1000
    for number in range(400):
        ms += 20 if number != 250 else 4_294_987  # one silence so long that the count of us wraps
        channels = [min(max(pulse + dice.choice((0, 0, 30, -30)), 990), 2000) for pulse in channels]
        channels[4] = 2000 if number % 100 > 20 else 1000
        if number % 100 < 30:
            channels[:2] = 1500, 1500
        sent = [*channels, *([1500] if number // 130 == 1 else [])]  # for a time it sends six
        if dice.random() < 0.1:
            sent[dice.randrange(5)] = dice.choice((0, 400, 650, 2350, 2650))
        at, edges = 1000 * ms - 15_000, list[Edge]()
        for wire, pulse in enumerate(sent):
            edges += [(at, wire, True), (at + pulse, wire, False)] if kind == "pwm" else [(at, 0, True)]
            at += pulse
        edges += [(at, 0, True)] if kind == "ppm" else []
        if dice.random() < 0.1:
            del edges[dice.randrange(len(edges))]
        elif dice.random() < 0.1:
            edges.insert(3, (edges[2][0] + 100, edges[2][1], dice.random() < 0.5))
        yield ms, [] if 360 < number < 390 else edges


@pytest.mark.parametrize("kind", ["ppm", "pwm"])
def test_pulses_are_read_as_here(kind: str, tmp_path: Path) -> None:
    profile = wired(kind)
    plan, program = profile.plan(), built(make_firmware(profile, timed=False), tmp_path)
    ppm, pwm, pipeline, here, lines = PpmDecoder(), PwmDecoder(5), tenuto.Pipeline(plan), list[Made](), list[str]()
    for ms, seen in pulse_rows(kind, random.Random(11)):
        told = [f"{at % 2**32}" if kind == "ppm" else f"{wire}{'-+'[up]}{at % 2**32}" for at, wire, up in seen]
        lines.append(f"{ms / 1000.0:.3f},1,{' '.join(told)}")
        if kind == "ppm":
            heard = ppm.feed(at * 1e-6 for at, _, _ in seen)
        else:
            heard = pwm.feed((at * 1e-6, wire, up) for at, wire, up in seen)
        frame = Frame(ms / 1000.0, channel_values(heard[-1][1])) if heard else None
        here.append(Made.of(pipeline.step(frame, ms / 1000.0)))
    commands: list[list[str | Path]] = [[program], *in_python(profile, tmp_path / "python")]
    for command in commands:
        assert difference(plan, here, told_by(command, ["time,.step,.edges", *lines], plan)) == "", command
    assert sum(one.state == "driving" for one in here) > 40
    counts = ppm.counts if kind == "ppm" else pwm.counts
    assert min(counts.good, counts.bad) > 20
    assert {one.reason for one in here} >= {"link_quiet"}


def number_lines(dice: random.Random, checked: bool) -> Iterator[tuple[int, bytes]]:
    """Return the lines of a board that prints its potentiometers: good, cut, damaged or malformed."""
    columns, ms = [512.0, 512.0, 0.0], 1000
    for number in range(400):
        ms += 20
        columns = [min(max(one + dice.choice((0.0, 0.0, 40.5, -40.25)), 20.0), 1004.0) for one in columns]
        columns[2] = 1023.0 if number % 100 > 20 else 0.0
        if number % 100 < 30:
            columns[:2] = 512.0, 512.0
        form, between = (
            dice.choice(("{:g}", "{:.3f}", "{:.6e}", "+{:.0f}", "{:.1E}")),
            dice.choice((",", "; ", "\t", " ")),
        )
        text = between.join(form.format(one) for one in columns)
        text = dice.choice((
            *[text] * 12, "stick_y,stick_x,button", text.replace("0", "_0"), f"{text},", f",{text}", f"  {text} ",
            f"{text},7", text.rpartition(between)[0], text.replace("1", "nan"), "0x10,1,2", "1e,2,3", ".,1,2",
            ".5,5.,-0", "1e999,1,2", "", "x" * 200,
        ))  # fmt: skip
        data = text.encode()
        data += b" %04X" % crc_hqx(data.strip(), 0xFFFF) if checked else b""
        data += dice.choice((b"\n", b"\r\n"))
        if dice.random() < 0.08:
            data = data[: dice.randrange(len(data))]
        elif dice.random() < 0.08:
            broken = bytearray(data)
            broken[dice.randrange(len(data))] = dice.randrange(256)
            data = bytes(broken)
        yield ms, b"" if 260 < number < 290 else data


@pytest.mark.parametrize("checked", [False, True])
def test_lines_of_numbers_are_read_as_here(checked: bool, tmp_path: Path) -> None:
    text = (EXAMPLES / "sender.toml").read_text()
    profile = tenuto.parse_profile(text.replace("[source]", f"[source]\nchecksum = {str(checked).lower()}"))
    plan, program = profile.plan(), built(make_firmware(profile, lines="serial", timed=False), tmp_path)
    decoder = LineDecoder(("stick_y", "stick_x", "button"), checksum=checked)
    pipeline, here, rows = tenuto.Pipeline(plan), list[Made](), ["time,.step,.bytes"]
    for ms, data in number_lines(random.Random(5), checked):
        rows.append(f"{ms / 1000.0:.3f},1,{data.hex()}")
        heard = decoder.feed(data)
        here.append(Made.of(pipeline.step(Frame(ms / 1000.0, heard[-1]) if heard else None, ms / 1000.0)))
    commands: list[list[str | Path]] = [[program], *in_python(profile, tmp_path / "python", lines="serial")]
    for command in commands:
        assert difference(plan, here, told_by(command, rows, plan)) == "", command
    assert sum(one.state == "driving" for one in here) > 20
    assert min(decoder.counts.good, decoder.counts.bad) > 40


def test_what_a_board_cannot_hear_is_refused_by_its_key() -> None:
    sender, board = tenuto.load_profile(EXAMPLES / "sender.toml"), tenuto.load_profile(BOARD)
    nameless = tenuto.parse_profile(sender.text().replace('columns = ["stick_y", "stick_x", "button"]', ""))
    short = tenuto.parse_profile(wired("pwm").text().replace("[4, 5, 6, 7, 8]", "[4, 5]"))
    for profile, lines, part, key in (
        (board, "serial", "whole", "source.kind: only lines"), (sender, "serial", "robot", "source.kind: only lines"),
        (nameless, "serial", "whole", "source.columns: a board cannot wait"),
        (short, "pins", "whole", "source.line: a control reads channel_5, and there are 2 wires"),
    ):  # fmt: skip
        with pytest.raises(tenuto.ProfileError, match=key):
            make_firmware(profile, lines=lines, part=part, timed=False)
    assert set(make_firmware(wired("pwm")).misfits) == {"sketch"}
    slow = BOARD.read_text().replace('"300 ms"', '"2 s"') + '[loop]\nrate = 5\nstall_timeout = "1 s"\n'
    wrong = make_firmware(tenuto.parse_profile(slow)).misfits
    assert set(wrong) == {"avr", "cortex-m/board"}
    assert all(
        "loop.rate: its watchdog resets it after 120 ms without a step: 10.0 Hz" in why for why in wrong.values()
    )
    for old, new, rate, key in (
        ("[limits]", "[limits]\njerk = 1.5", 100, "limits.jerk: the S-curve takes"),
        ("reverse = true", 'reverse = true\ncentre = "at start"', 400, "controls.steer.centre: taking centres"),
    ):
        large = tenuto.parse_profile(f"{BOARD.read_text().replace(old, new)}[loop]\nrate = {rate}\n")
        assert key in make_firmware(large).misfits["avr"]
    many = tenuto.parse_profile(wired("pwm").text().replace("[4, 5, 6, 7, 8]", "[4, 5, 6, 7, 8, 9, 10]"))
    wrong = make_firmware(many).misfits
    assert all("source.line: it has pins for 6 wires" in wrong[target] for target in ("avr", "cortex-m/board"))


def on_chip(made: Firmware, folder: Path, events: list[str]) -> str:
    made.write(folder)
    subprocess.run(["make", "-s", "-C", folder / "avr", "main.elf", "bench"], check=True, capture_output=True)
    command = [folder / "avr/bench", folder / "avr/main.elf"]
    return subprocess.run(command, input="\n".join(events), capture_output=True, text=True, check=True).stdout


@needs_chip
@pytest.mark.parametrize("kind", ["ppm", "pwm"])
def test_pulses_at_the_pins_of_a_chip_drive_it_and_their_end_stops_it(kind: str, tmp_path: Path) -> None:
    events = edges(kind, range(14, 19) if kind == "pwm" else [2])
    pins = pins_of(on_chip(make_firmware(wired(kind)), tmp_path, [*events, "E 2100000"]))
    assert not on_at(pins, 404.0)
    assert on_at(pins, 990.0)
    # The last frame is at 988 ms or 991 ms, the timeout is 0.3 s, and 0.7 m/s are stopped at 1.5 m/s².
    stood = max(at for kind, at, _, level in pins if kind == "D" and level)
    assert 1280.0 < stood < 991.0 + 300.0 + 1000.0 * 0.71 / 1.5 + 60.0
    assert {pin for kind, _, pin, level in pins if kind == "P" and level} == {12, 4}, "both go ahead"


@needs_chip
def test_ibus_at_the_serial_port_of_a_chip_drives_it(tmp_path: Path) -> None:
    events = []
    for ms in range(20, 1000, 20):
        pulses = [1500.0, 2012.0 if ms > 404 else 1500.0, 1500.0, 1500.0, 2000.0 if ms > 204 else 1000.0]
        data = RADIOS.all["ibus"].encode([*pulses, *[1500.0] * 9])
        events += [f"U {1000 * ms + 87 * place} {byte}" for place, byte in enumerate(data)]
    made = make_firmware(tenuto.parse_profile(BOARD.read_text().replace('"sbus"', '"ibus"')))
    pins = pins_of(on_chip(made, tmp_path, [*events, "E 1900000"]))
    assert not on_at(pins, 404.0)
    assert on_at(pins, 990.0)
    assert 1280.0 < max(at for kind, at, _, level in pins if kind == "D" and level) < 1850.0


@needs_chip
def test_lines_at_the_serial_port_of_a_chip_drive_it(tmp_path: Path) -> None:
    events = []
    for ms in range(20, 700, 20):
        text = f"{1004 if ms > 404 else 512},512,{1023 if ms > 204 else 0}\n".encode()
        events += [f"U {1000 * ms + 87 * place} {byte}" for place, byte in enumerate(text)]
    made = make_firmware(tenuto.load_profile(EXAMPLES / "sender.toml"), lines="serial")
    pins = pins_of(on_chip(made, tmp_path, [*events, "E 1500000"]))
    assert not on_at(pins, 404.0)
    assert on_at(pins, 690.0)
    # The last line is at 680 ms, and the timeout is 0.1 s; 0.2 m/s are stopped soon.
    assert 780.0 < max(at for kind, at, _, level in pins if kind == "D" and level) < 1300.0


@needs_chip
def test_servo_pulses_of_a_chip_are_as_long_as_they_should_be(tmp_path: Path) -> None:
    """Within a µs where no other interrupt comes in between, for servos on two ports."""
    servos = 'form = "pulse"\nlow_us = 1100\nhigh_us = 1900'
    text = BOARD.read_text().replace('form = "duty"\nsmallest = 0.05', servos)
    events = radio(BEGIN)
    pins = pins_of(on_chip(make_firmware(tenuto.parse_profile(text)), tmp_path, [*events, "E 1000000"]))
    widths = list[float]()
    for pin in {pin for kind, _, pin, _ in pins if kind == "P"}:
        own = [(at, level) for kind, at, one, level in pins if (kind, one) == ("P", pin)]
        widths += [1000.0 * (off - on) for (on, up), (off, _) in pairwise(own) if up and 200.0 < on < 400.0]
    assert len(widths) > 10
    assert sum(abs(width - 1500.0) <= 1.0 for width in widths) > 0.7 * len(widths), widths
    assert abs(statistics.mean(widths) - 1500.0) < 1.0, widths


@needs_gcc
def test_a_second_begin_of_a_board_is_a_stop(tmp_path: Path) -> None:
    """It drives again only after a release and a press, as after every stop."""
    made = make_firmware(tenuto.load_profile(BOARD))
    made.write(tmp_path)
    library = tmp_path / "board.so"
    command: list[str | Path] = [
        "gcc",
        "-std=c99",
        "-shared",
        "-fPIC",
        tmp_path / "robot_board.c",
        "-o",
        library,
        "-lm",
    ]
    subprocess.run(command, check=True)
    board, inputs, states = ctypes.CDLL(str(library)), list(made.inputs), list(State)
    board.robot_put.argtypes = [ctypes.c_int, ctypes.c_float]
    ms = 1000

    def run(steps: int, held: bool) -> State:
        nonlocal ms
        for _ in range(steps):
            ms += 20
            for number, name in enumerate(inputs):
                high = name == "channel_5" and held
                board.robot_put(number, 2000.0 if high or (name == "channel_2" and pushed) else 1500.0 - 500.0 * (
                    name == "channel_5"))  # fmt: skip
            board.robot_frame(ms, True)
            board.robot_step(ms)
        return State(states[int(board.robot_is())])

    pushed = False
    board.robot_begin(ms)
    run(10, False)
    assert run(10, True) is State.DRIVING
    pushed = True
    assert run(50, True) is State.DRIVING
    board.robot_begin(ms)
    assert run(1, True) is State.NOT_ENABLED
    assert run(100, True) is State.NOT_ENABLED
    pushed = False
    run(10, False)
    assert run(10, True) is State.DRIVING


POTS = EXAMPLES / "sender.toml"


@given(st.sampled_from([8, 10, 12, 14, 16]), st.data())
def test_a_broken_wire_is_a_fault_wherever_the_ends_leave_room_for_it(bits: int, data: st.DataObject) -> None:
    """The ends of the converter are those of the next power of two above the measured end."""
    full = 2**bits - 1
    low = data.draw(st.integers(math.ceil(0.01 * full), full // 4))
    high = data.draw(st.integers(full // 2 + 2, math.floor(0.99 * full)))
    margin = data.draw(st.sampled_from([0.0, 0.1, 0.5]))
    ends = f"low = {low}\ncentre = {(low + high) // 2}\nhigh = {high}\nmargin = {margin}"
    text = POTS.read_text().replace("low = 20\ncentre = 512\nhigh = 1004", ends, 1)
    profile = tenuto.parse_profile(text)
    rest = {"stick_y": (low + high) // 2, "stick_x": 512.0, "button": 0.0}
    for broken in (0.0, 1.0, float(full), full - 1.0):
        pipeline = tenuto.Pipeline(profile)
        for number in range(60):
            at = rest | ({"button": 1023.0} if number > 10 else {}) | ({"stick_y": broken} if number > 40 else {})
            tick = pipeline.step(Frame(0.02 * number, at), 0.02 * number)
            assert tick.guard.state is not State.DRIVING or number <= 40, broken
            assert number != 40 or tick.guard.state is State.DRIVING
    for end in (low, high):  # the measured ends themselves are the stick's own
        pipeline = tenuto.Pipeline(profile)
        assert pipeline.step(Frame(0.0, rest | {"stick_y": float(end)}), 0.0).guard.state is State.NOT_ENABLED


@pytest.mark.parametrize(
    ("old", "new", "key", "said"),
    [
        ('pull = "down"', "", "controls.hold.pull", "an open wire may read as held"),
        ('pull = "down"', 'pull = "up"', "controls.hold.pull", "an open wire would read 1023, which is held"),
        ("expo = 0.3", "curve_free = true\ncurve = [[0, 0.2], [1, 1]]", "controls.drive.curve", "at rest it demands"),
    ],
)
def test_a_board_gets_no_code_for_what_check_refuses(old: str, new: str, key: str, said: str) -> None:
    text = POTS.read_text().replace(old, new)
    for guard in ('hold_to_run = "hold"', 'enable = "hold"'):  # a lever that enables permits driving too
        with pytest.raises(tenuto.ProfileError, match=said) as refused:
            make_firmware(tenuto.parse_profile(text.replace('hold_to_run = "hold"', guard)), part="sticks")
        assert key in str(refused.value)


@pytest.mark.parametrize("more", ["margin = 0.1", 'pull = "down"'])
def test_a_device_of_known_range_has_no_wires_to_break(more: str) -> None:
    text = shipped("medlar.toml").read_text().replace("[controls.drive]", f"[controls.drive]\n{more}")
    with pytest.raises(tenuto.ProfileError, match="the range of this device is known, so it has no effect"):
        tenuto.parse_profile(text)


def test_check_warns_of_a_stick_whose_broken_wire_looks_like_its_end() -> None:
    text = POTS.read_text().replace("low = 20", "low = 0").replace('pull = "down"', "")
    found = {one.where: one.text for one in advise(tenuto.parse_profile(text))}
    assert "a broken wire reads 0, as the stick at its end does" in found["controls.drive"]
    assert "a wire that is open may read as held" in found["controls.hold.pull"]
    assert not any("wire" in one.text for one in advise(tenuto.load_profile(POTS)))
