"""The complete program for a Cortex-M, on a simulated chip: bytes in, pins out."""

import math
import random
from itertools import pairwise
from pathlib import Path
from statistics import median

import pytest

import tenuto
from boards import BEGIN, BOARD, EXAMPLES, edges, needs_arm, on_at, on_cortex, pins_of, radio, wired
from tenuto.firmware.generate import make_firmware
from tenuto.protocols.answer_line import read_answer
from tenuto.protocols.velocity_line import VelocityLine, encode_velocity_line

pytestmark = [pytest.mark.long, needs_arm]


def test_the_whole_board_drives_and_stops(tmp_path: Path) -> None:
    """The radio falls silent at full speed, and later sends garbage at full rate."""
    dice = random.Random(3)
    noise = [f"U {1000 * at:.0f} {dice.randrange(256)}" for at in (1850.0 + 0.12 * number for number in range(2000))]
    profile = tenuto.load_profile(BOARD)
    pins = pins_of(on_cortex(make_firmware(profile), tmp_path, [*radio(BEGIN), *noise, "E 2100000"]))
    assert not on_at(pins, 404.0)
    assert on_at(pins, 990.0)
    duties = [(at, pin, level) for kind, at, pin, level in pins if kind == "D"]
    # The last frame ends at 995 ms, with a timeout of 0.3 s: 0.8 m/s² from 424 ms on at most, then −1.5 m/s².
    assert 1295.0 < max(at for at, _, level in duties if level) < 995.0 + 300.0 + 1000.0 * 0.72 / 1.5 + 80.0
    assert {pin for kind, _, pin, level in pins if kind == "P" and level} == {"PB1", "PB4"}, "both go ahead"
    assert not any(at > 1860.0 and level for _, at, _, level in pins), "garbage moves nothing"
    # The greatest duty is that of the speed that was reached; a step of 20 ms changes it by 3.
    reached, fastest = 0.8 * (1.295 - 0.42), 0.11 * 120.0 / 60.0 * 2.0 * math.pi  # m/s
    greatest = {pin: max(level for _, name, level in duties if name == pin) for pin in ("PB0", "PB3")}
    assert all(abs(level - 255 * reached / fastest) < 6 for level in greatest.values()), greatest


def test_a_main_loop_that_hangs_and_a_reset_at_full_speed_are_a_stop(tmp_path: Path) -> None:
    made = make_firmware(tenuto.load_profile(BOARD))

    def hangs(text: str) -> str:
        return text.replace("robot_step(now);", "robot_step(now);\n        while (now > 900) chip_idle();")

    goes_on = radio([*BEGIN[:2], (404.0, 1400.0, 1.0, True)])
    pins = pins_of(on_cortex(made, tmp_path, [*goes_on, "E 1400000"], hangs))
    assert on_at(pins, 895.0)
    assert not on_at(pins, 900.0 + 20.0 + 130.0), "the watchdog of the chip resets it"
    assert not any(at > 1050.0 and level for _, at, _, level in pins), "and it stands, for nobody has let go"
    events = sorted([*goes_on, "R 800000", "E 1100000"], key=lambda one: int(one.split()[1]))
    pins = pins_of(on_cortex(made, tmp_path, events))
    assert on_at(pins, 795.0)
    assert not any(at > 806.0 and level for _, at, _, level in pins)


def test_the_board_of_the_robot_answers_drives_and_stops_on_silence(tmp_path: Path) -> None:
    events = list[str]()
    for number, ms in enumerate(range(150, 900, 20)):
        line = VelocityLine(number, tenuto.VelocityCommand(0.5 if ms > 300 else 0.0), 0.2, True)
        events += [f"U {1000 * ms + 87 * place} {byte}" for place, byte in enumerate(encode_velocity_line(line))]
    made = make_firmware(tenuto.load_profile(BOARD), part="robot")
    out = on_cortex(made, tmp_path, [*events, "E 1500000"])
    sent = bytes(int(line.split()[2]) for line in out.splitlines() if line.startswith("B "))
    whys = [answer.why for answer in map(read_answer, sent.splitlines()) if answer is not None]
    assert len(whys) == len(sent.splitlines()) > 10
    assert (whys[0], whys[-1]) == (1, 2), "nothing has come; none came in time, it waits for a standstill command"
    assert 0 in whys
    pins = pins_of(out)
    assert not on_at(pins, 300.0)
    assert on_at(pins, 880.0)
    assert 1050.0 < max(at for kind, at, _, level in pins if kind == "D" and level) < 900.0 + 200.0 + 320.0 + 80.0


def test_servos_get_their_pulses_and_contacts_are_switched(tmp_path: Path) -> None:
    text = BOARD.read_text().replace('form = "duty"\nsmallest = 0.05', 'form = "pulse"')
    # The tick does not divide the servos' 20 ms: an edge while the chip computes is reported too early.
    text += '\n[loop]\nrate = "59 Hz"\n[outputs.lamp]\nkind = "contact"\ncontrol = "drive"\n'
    pins = pins_of(on_cortex(make_firmware(tenuto.parse_profile(text)), tmp_path, [*radio(BEGIN), "E 900000"]))
    for name in ("PA2", "PA3"):
        edges = [(at, level) for _, at, pin, level in pins if pin == name]
        pulses = [(rise, 1000.0 * (fall - rise)) for (rise, up), (fall, _) in pairwise(edges) if up]
        assert all(19.0 < later - sooner < 21.5 for (sooner, _), (later, _) in pairwise(pulses))
        assert abs(median(us for at, us in pulses if at < 404.0) - 1500.0) < 6.0
        # 0.8 m/s² for 0.45 s, of 1.38 m/s by 500 us.
        assert 1500.0 + 500.0 * 0.30 / 1.38 < median(us for at, us in pulses[-3:]) < 1500.0 + 500.0 * 0.42 / 1.38
    lamp = [(at, level) for _, at, pin, level in pins if pin == "PC4"]
    assert len(lamp) == 1
    assert lamp[0][1] == 1
    assert 404.0 < lamp[0][0] < 480.0


@pytest.mark.parametrize("kind", ["ppm", "pwm"])
def test_pulses_at_its_pins_drive_it_and_their_end_stops_it(kind: str, tmp_path: Path) -> None:
    events = edges(
        kind, ["PD0", "PD1", "PD2", "PD3", "PD6"], late=5000
    )  # an edge during a step is late in the simulation
    pins = pins_of(on_cortex(make_firmware(wired(kind)), tmp_path, [*events, "E 2100000"]))
    assert not on_at(pins, 404.0)
    assert on_at(pins, 990.0)
    # The last frame ends at 996 ms or earlier, the timeout is 0.3 s, and 0.7 m/s are stopped at 1.5 m/s².
    stood = max(at for kind, at, _, level in pins if kind == "D" and level)
    assert 1280.0 < stood < 996.0 + 300.0 + 1000.0 * 0.71 / 1.5 + 60.0
    assert {pin for kind, _, pin, level in pins if kind == "P" and level} == {"PB1", "PB4"}, "both go ahead"


def test_voltages_drive_it(tmp_path: Path) -> None:
    """Of the stick to the left nothing is told: its converter measures about the middle, as qemu simulates it."""
    events = ["V 1000 ADC2 0", "V 204000 ADC2 1023", "V 404000 ADC0 1004", "V 1200000 ADC2 0", "E 1800000"]
    made = make_firmware(tenuto.load_profile(EXAMPLES / "sender.toml"))
    pins = pins_of(on_cortex(made, tmp_path, events))
    assert not on_at(pins, 404.0)
    assert on_at(pins, 1190.0)
    duties = [(at, pin, level) for kind, at, pin, level in pins if kind == "D"]
    # 0.6 m/s² for 0.8 s, of 1.38 m/s by 255; and straight ahead.
    greatest = [max(level for _, name, level in duties if name == pin) for pin in ("PB0", "PB3")]
    assert all(abs(level - 255 * 0.48 / 1.382) < 6 for level in greatest), greatest
    assert 1200.0 < max(at for at, _, level in duties if level) < 1200.0 + 1000.0 * 0.5 / 0.6 + 60.0, (
        "the button is let go"
    )
