"""Sources through their public interface: real pseudo-terminals, SDL's virtual pads, and a terminal."""

import json
import math
import os
import random
import signal
import subprocess
import sys
import termios
import time
from collections.abc import Callable, Iterator
from itertools import pairwise
from pathlib import Path
from typing import Any

import gpiod
import pexpect
import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import run
from tenuto import Frame, SimulatedClock, State
from tenuto.basics.frame import frames_in
from tenuto.data import shipped
from tenuto.links.black_box import BlackBox
from tenuto.sim.gamepad import VirtualGamepad
from tenuto.sim.gpio import SimulatedPulses
from tenuto.sim.receiver import SimulatedReceiver, wandering_channels
from tenuto.sources import Source
from tenuto.sources.keyboard import Keyboard
from tenuto.sources.lines import Tilt
from tenuto.sources.recording import write_recording
from tenuto.sticks.tilt import MOST_LEANING, MOST_RATE, HandTilt, TiltFilter

pytestmark = pytest.mark.port


def wait_for(source: Source, good: Callable[[Frame | None], bool], seconds: float = 10.0) -> Frame:
    """Poll until a frame meets a condition."""
    start = time.monotonic()
    while (now := time.monotonic() - start) < seconds:
        frame = source.poll(now)
        if frame is not None and good(frame):
            return frame
        time.sleep(0.002)
    raise AssertionError(f"no such frame in {seconds} s; the last was {frame}")


@pytest.mark.live
@pytest.mark.parametrize("kind", ["sbus", "crsf", "ibus"])
def test_a_receiver_on_a_real_pseudo_terminal_with_all_that_goes_wrong(kind: str, tmp_path: Path) -> None:
    with (
        SimulatedReceiver(kind, link=str(tmp_path / "port")) as device,
        tenuto.open_source(f"{kind}:{tmp_path / 'port'}") as receiver,
    ):
        device.channels = [1000.0 + 50 * channel for channel in range(16)]
        frame = wait_for(receiver, lambda frame: bool(frame and frame.values["channel_3"] == 1100))
        names = [info.name for info in receiver.controls()]
        assert list(frame.values) == (names[:14] if kind == "ibus" else names)  # the other four are not always sent
        assert frame.values["channel_14"] == pytest.approx(1650, abs=0.4)
        device.faults.silent = True
        time.sleep(0.1)
        receiver.poll(0.0)
        time.sleep(0.2)
        assert receiver.poll(0.0) is None  # silence is not a frame, whatever came before
        device.faults.silent = False
        wait_for(receiver, lambda frame: bool(frame and frame.link_good))
        if kind != "ibus":
            device.faults.failsafe = True  # it keeps sending, which must not count as a driver
            assert "in failsafe" in wait_for(receiver, lambda frame: bool(frame and not frame.link_good)).note
            device.faults.failsafe = False
            wait_for(receiver, lambda frame: bool(frame and frame.link_good))
        device.faults.flip, device.faults.drop, device.faults.burst = 0.02, 0.1, 3
        wait_for(receiver, lambda _: receiver.counts().bad > 2)
        device.faults.flip = 0.0
        device.unplug()
        assert "is gone" in wait_for(receiver, lambda frame: bool(frame and not frame.link_good)).note
        device.plug_in()
        wait_for(receiver, lambda frame: bool(frame and frame.link_good and frame.values["channel_3"] == 1100))


@pytest.mark.live
def test_lost_frames_of_sbus_count_as_silence() -> None:
    with tenuto.open_source("simulated:sbus,lost=1.0") as receiver:
        start = time.monotonic()
        while receiver.counts().lost < 5:
            assert receiver.poll(time.monotonic() - start) is None
            time.sleep(0.005)
    with tenuto.open_source("simulated:sbus,lost=0.3") as receiver:
        wait_for(receiver, lambda frame: bool(frame and frame.counts and frame.counts.lost > 3))


@pytest.mark.live
def test_lines_and_a_port_that_sends_none() -> None:
    with tenuto.open_source("simulated:lines") as lines:
        frame = wait_for(lines, bool)
        assert list(frame.values) == ["column_1", "column_2", "column_3", "column_4"]
        assert all(0 <= value <= 1023 for value in frame.values.values())
    with SimulatedReceiver("lines") as device:
        device.faults.silent = True
        with pytest.raises(tenuto.SourceError, match="sent no line of numbers in 3 s at 9600 baud"):
            tenuto.open_source(f"lines:{device.port},baud=9600", clock=tenuto.SimulatedClock())
        with pytest.raises(tenuto.SourceError, match="tilt needs columns ax, ay"):
            tenuto.open_source(f"tilt:{device.port},columns=a|b")
        with tenuto.open_source(f"tilt:{device.port},columns=ax|ay|az|gx|gy|zero|flex") as glove:
            assert isinstance(glove, Tilt)
            device.write(b"\n" + b"0,0.5,0.866,0,0,0,300\n" * 12)
            leaning = wait_for(glove, lambda frame: frame is not None and not frame.note)
            assert leaning.values["roll"] == pytest.approx(math.radians(30), abs=1e-3)
            assert leaning.values["flex"] == 300
            device.write(b"0,0.5,0.866,0,0,1,300\n0,0.5,0.866,0,0,0,300\n")
            assert wait_for(glove, bool).values["roll"] == pytest.approx(0.0, abs=1e-3)
            device.write(b"0,0.5,0.866,312,0,0,300\n")
            told = wait_for(glove, bool)
            assert "a turn rate of 312 rad/s is no hand's" in told.note
            assert math.isnan(told.values["roll"])


def test_the_tilt_filter_believes_the_gyroscope_at_once_and_gravity_in_the_end() -> None:
    level, nose_down = (0.0, 0.0, 9.81), (-9.81 * math.sin(0.5), 0.0, 9.81 * math.cos(0.5))
    tilt = TiltFilter(time_constant=0.5)
    tilt.step(level, (0.0, 0.0), 0.01)
    for _ in range(10):  # a fast turn of 0.5 rad in 0.1 s
        _, pitch = tilt.step(level, (0.0, 5.0), 0.01)
    assert 0.4 < pitch < 0.5
    for step in (0.01, 0.05):  # then still: the approach to gravity does not depend on the time steps, to 5 %
        still = TiltFilter(time_constant=0.5)
        still.step(level, (0.0, 0.0), step)
        for _ in range(round(0.5 / step)):
            _, pitch = still.step(nose_down, (0.0, 0.0), step)
        assert pitch == pytest.approx(0.5 * (1 - math.exp(-1)), rel=0.05)


GLOVE = """
format = 1
name = "a glove"
source = { kind = "tilt", port = "/dev/ttyACM0", columns = ["ax", "ay", "az", "gx", "gy", "flex"] }
controls.drive.reads = "pitch"
controls.steer.reads = "roll"
controls.hold = { reads = "flex", low = 0, high = 1, rests = "end" }
style = { kind = "arcade", forward = "drive", turn = "steer" }
speeds = { forward = 1.0, turn = 1.0 }
limits = { acceleration = 0.5 }
guard = { hold_to_run = "hold", link_timeout = 0.3, grace = 0.3 }
chassis = { kind = "differential", track = 0.5, wheel_radius = 0.1, max_wheel_speed = 30.0 }
"""
ANY = st.floats(allow_nan=True, allow_infinity=True) | st.sampled_from([0.0, 312.0, 1e308, -1e308, 1e-308])


@given(st.lists(st.tuples(ANY, ANY, ANY, ANY, ANY), min_size=1, max_size=5), st.floats(0.0, 5.0))
def test_whatever_a_hand_s_sensor_sends_its_tilt_is_one_that_a_hand_can_have_or_not_known(
    lines: list[tuple[float, ...]], pause: float
) -> None:
    hand = HandTilt(0.5)
    for _ in range(10):
        assert hand.step((0.0, 0.0, 9.81), (0.0, 0.0), 0.02) is not None
    before = hand.step((0.0, 0.0, 9.81), (0.0, 0.0), 0.02)
    for ax, ay, az, gx, gy in lines:
        dt = pause if pause < 0.1 else 0.02
        roll, pitch = hand.step((ax, ay, az), (gx, gy), dt)
        assert bool(hand.problem) is math.isnan(roll) is math.isnan(pitch)
        if hand.problem:
            break
        # No faster than a hand turns, and than gravity pulls the filter.
        most = MOST_RATE * dt + math.tau * dt / (0.5 + dt)
        assert max(abs(roll - before[0]), abs(pitch - before[1])) <= most
        before = roll, pitch
        assert math.acos(math.cos(roll) * math.cos(pitch)) <= MOST_LEANING + 1e-9


def test_a_line_that_no_hand_sends_is_a_fault_and_not_a_motion() -> None:
    """A lost decimal point, a dead accelerometer, a hand upside down: each stops at once, without grace."""
    for odd in ((0.0, 0.0, 9.81, 0.0, 312.0), (0.0, 0.0, 0.0, 0.0, 0.0), (0.0, 0.0, 9.81, math.inf, 0.0),
                (-9.7, 0.0, 0.3, 0.0, 11.0)):  # fmt: skip
        hand, pipeline = HandTilt(0.5), tenuto.Pipeline(tenuto.parse_profile(GLOVE))
        states, moved = list[State](), 0.0
        for number in range(120):
            lines = [(0.0, 0.0, 9.81, 0.0, 0.0)] if number < 60 else [odd]
            ax, ay, az, gx, gy = lines[0]
            roll, pitch = hand.step((ax, ay, az), (gx, gy), 0.02)
            values = {"roll": roll, "pitch": pitch, "flex": float(number > 30)}
            tick = pipeline.step(Frame(0.02 * number, values, note=hand.problem), 0.02 * number)
            states.append(tick.guard.state)
            moved += 0.02 * abs(tick.command.vx)
        assert states[59] is State.DRIVING
        assert State.DRIVING not in states[80:]
        assert moved < 0.05, odd
    noise = random.Random(1)
    hand = HandTilt(0.5)
    for _ in range(200):  # dead from the start: noise around nothing
        hand.step(tuple(noise.gauss(0.0, 0.02) for _ in range(3)), (0.0, 0.0), 0.02)  # type: ignore[arg-type]
        assert hand.problem


@pytest.fixture(autouse=True)
def _no_screen(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("SDL_VIDEODRIVER", "dummy")


@pytest.mark.live
def test_two_equal_pads_are_told_apart_and_never_taken_for_each_other() -> None:
    with (
        VirtualGamepad() as one,
        VirtualGamepad() as two,
        tenuto.open_source("gamepad") as first,
        tenuto.open_source("gamepad") as second,
    ):
        assert first.identity == second.identity
        one.set("left_y", 111)
        two.set("left_y", 222)
        assert [wait_for(source, bool).values["left_y"] for source in (first, second)] == [111, 222]
        two.detach()
        assert "is disconnected" in wait_for(second, bool).note
        assert wait_for(first, bool).link_good
        two.attach()
        two.set("left_y", 333)
        assert [wait_for(source, bool).values["left_y"] for source in (first, second)] == [111, 333]


@pytest.mark.live
def test_a_pad_that_comes_back_as_another_is_named_and_not_used() -> None:
    with VirtualGamepad() as pad, tenuto.open_source("gamepad") as source:
        pad.detach()
        pad.name, pad.numbered = "Other mode", True
        pad.attach()
        note = wait_for(source, lambda frame: bool(frame and "is in its place" in frame.note)).note
        assert "Virtual gamepad is disconnected, and Other mode is in its place with another identity" in note
        assert "without back, dpad_down" in note
        assert "with axis_0, axis_1" in note
        assert "mode switch" in note
        pad.detach()
        pad.name, pad.numbered = "Virtual gamepad", False
        pad.attach()
        assert wait_for(source, lambda frame: bool(frame and frame.link_good))
        assert source.rumble(0.5, 0.1)
        assert pad.rumbles[0] == pytest.approx(0.5, abs=0.01)
        pad.detach()
        source.poll(9.0)
        assert not source.rumble(1.0, 0.1)  # no device to rumble
    with pytest.raises(tenuto.SourceError, match="no gamepad has the identity 1234; connected: none"):
        tenuto.open_source("gamepad:1234")


@pytest.mark.live
def test_a_numbered_joystick_and_triggers_at_their_end() -> None:
    with VirtualGamepad(numbered=True) as stick, tenuto.open_source("gamepad") as source:
        stick.set("axis_2", -5)
        stick.set("button_3", 1)
        values = wait_for(source, bool).values
        assert (values["axis_2"], values["button_3"], values["hat_0_x"]) == (-5, 1, 0)
    with VirtualGamepad() as pad, tenuto.open_source("gamepad") as source:
        assert wait_for(source, bool).values["left_trigger"] == 0
        pad.set("left_trigger", 32767)
        assert wait_for(source, bool).values["left_trigger"] > 32700


def test_recordings_as_parquet_faster_and_in_part(tmp_path: Path) -> None:
    frames = [Frame(10 + n / 50, {"a": float(n), "b": n / 3}) for n in range(100) if not 30 <= n < 60]
    for name in ("r.csv", "r.parquet"):
        write_recording(tmp_path / name, frames)
        with tenuto.open_source(f"recording:{tmp_path / name},speed=2,start=0.4,end=1.6") as source:
            played = [(now / 100, source.poll(now / 100)) for now in range(70)]
        heard = [(now, frame) for now, frame in played if frame is not None]
        assert [heard[0][1].values["a"], heard[-1][1].values["a"]] == [20, 80]
        assert heard[-1][0] == pytest.approx(0.6)  # 1.2 s at double speed
        gap = max(b[0] - a[0] for a, b in pairwise(heard))
        assert gap == pytest.approx(0.31, abs=0.011)  # a gap remains a gap
        assert source.finished
    with pytest.raises(tenuto.RecordingError, match=r"a slice of its 1\.98 s, found 5 s"):
        tenuto.open_source(f"recording:{tmp_path / 'r.csv'},start=5")
    with pytest.raises(tenuto.SourceError, match="speed: expected a number above 0"):
        tenuto.open_source(f"recording:{tmp_path / 'r.csv'},speed=x")


def test_pulses_from_a_file_of_edges(tmp_path: Path) -> None:
    from tenuto.protocols import encode_ppm, encode_pwm

    channels = [1000.0, 1250.0, 1500.0, 2000.0]
    edges = [edge for n in range(5) for edge in encode_ppm(n * 0.02, channels)]
    (tmp_path / "ppm.csv").write_text("time\n" + "\n".join(f"{edge:.7f}" for edge in edges))
    rows = [edge for n in range(5) for edge in encode_pwm(n * 0.02, channels)]
    text = "\n".join(f"{t:.7f},{channel + 1},{rising:d}" for t, channel, rising in rows)
    (tmp_path / "pwm.csv").write_text("time,channel,level\n" + text)
    for kind in ("ppm", "pwm"):
        with tenuto.open_source(f"{kind}:{tmp_path / kind}.csv") as source:
            assert list(wait_for(source, bool).values.values()) == pytest.approx(channels, abs=0.2)
    (tmp_path / "none.csv").write_text("time\n0\n1\n")
    with pytest.raises(tenuto.RecordingError, match="found no whole frame"):
        tenuto.open_source(f"ppm:{tmp_path / 'none.csv'}")


@pytest.fixture
def terminal(tmp_path: Path) -> Iterator[pexpect.spawn]:
    """A shell in a terminal in which Medlar is driven from the keyboard, on a machine that may be busy."""
    profile = tmp_path / "keyboard.toml"
    profile.write_text(shipped("medlar-keyboard.toml").read_text() + '[loop]\nstall_timeout = "3 s"\n')
    shell = pexpect.spawn("sh", encoding="utf-8", timeout=60, dimensions=(24, 140), echo=True)
    shell.sendline("PS1='ready> '")
    shell.expect("[\n ]ready> ")  # a late shell prints it after its first prompt
    shell.before_drive = termios.tcgetattr(shell.child_fd)
    shell.sendline(f"{sys.executable} -m tenuto drive {profile} --plain; echo status $?")
    shell.expect(r"speed 30 %, turn 30 %\): enable is off: press Enter")
    yield shell
    shell.close(force=True)


def is_as_it_was(shell: pexpect.spawn) -> bool:
    """Wait until the terminal is restored, which may take time on a busy machine."""
    # Nothing is typed meanwhile: a shell that reads during a change to canonical mode may read an end of file.
    until = time.monotonic() + 60.0
    while termios.tcgetattr(shell.child_fd) != shell.before_drive:
        if time.monotonic() > until:
            return False
        time.sleep(0.1)
    return True


@pytest.mark.live
def test_the_keys_drive_and_the_whole_view_is_drawn(tmp_path: Path) -> None:
    """The view reads no key, because the keys drive; and the terminal is restored."""
    profile = tmp_path / "keyboard.toml"
    profile.write_text(shipped("medlar-keyboard.toml").read_text() + '[loop]\nstall_timeout = "3 s"\n')
    drive = pexpect.spawn(sys.executable, ["-m", "tenuto", "drive", str(profile)], encoding="utf-8", timeout=60,
                          dimensions=(30, 120))  # fmt: skip
    drive.expect("N O T   E N A B L E D")
    drive.expect("arrows or WASD drive")
    drive.send("\r")
    drive.expect("D R I V I N G")
    for _ in range(400):
        drive.send("w")
        if drive.expect([r"command.{0,12}\+0\.[1-9]", pexpect.TIMEOUT], timeout=0.05) == 0:
            break
    assert drive.after != pexpect.TIMEOUT
    drive.send("\x03")
    drive.expect("Stopped: Ctrl-C")
    drive.expect(pexpect.EOF)
    drive.close()
    assert drive.exitstatus == 0


@pytest.mark.live
def test_driving_from_a_terminal_and_ctrl_c(terminal: pexpect.spawn) -> None:
    terminal.send("\r")
    terminal.expect(r"driving \(speed 30 %, turn 30 %\): standing still")
    terminal.send("+")
    terminal.expect("speed 40 %, turn 30 %")
    moves = [r"driving \(speed 40 %, turn 30 %\): 0\.[1-4]\d m/s forward", pexpect.TIMEOUT]
    for _ in range(400):  # a held key, for as long as the machine needs
        terminal.send("\x1b[A")
        if terminal.expect(moves, timeout=0.05) == 0:
            break
    assert terminal.after != pexpect.TIMEOUT
    terminal.expect(r"speed 40 %, turn 30 %\): standing still")  # by itself, soon after the last key
    terminal.send(" ")
    terminal.expect(r"not enabled \(speed 40 %, turn 30 %\): enable is off: press Enter")
    terminal.send("\x03")
    terminal.expect("Stopped: Ctrl-C")
    terminal.expect("status 0")
    assert is_as_it_was(terminal)


@pytest.mark.live
def test_a_killed_process_leaves_a_usable_terminal(terminal: pexpect.spawn) -> None:
    children = subprocess.run(["pgrep", "-f", "-P", str(terminal.pid), "tenuto drive"], capture_output=True, text=True)
    os.kill(int(children.stdout), signal.SIGKILL)
    terminal.expect("status 137")
    assert is_as_it_was(terminal)


def test_devices_and_watch(tmp_path: Path) -> None:
    listed = json.loads(run("devices", "--simulated", "--json", cwd=tmp_path).stdout)["devices"]
    pads = [device for device in listed if device["what"] == "gamepad"]
    assert [pad["name"] for pad in pads] == ["Virtual gamepad", "Virtual flight stick"]
    trigger = next(control for control in pads[0]["controls"] if control["name"] == "left_trigger")
    assert (trigger["low"], trigger["high"], trigger["rest"]) == (0.0, 32767.0, 0.0)
    done = run("watch", "simulated:crsf,drop=0.3", "--for", "3", "--record", "seen.csv", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert "link 70 %, -76 dBm" in done.stdout
    assert "channel_16" in done.stdout
    seen = json.loads(run("watch", "seen.csv", "--json", cwd=tmp_path).stdout)
    assert seen["controls"]["channel_5"]["low"] == pytest.approx(988, abs=1)
    assert run("watch", "lines:/dev/none", cwd=tmp_path).returncode == 1


@pytest.mark.live
def test_watch_in_a_terminal_picks_out_what_moves(tmp_path: Path) -> None:
    view = pexpect.spawn(
        sys.executable, ["-m", "tenuto", "watch", "simulated:sticks", "--record", str(tmp_path / "seen.parquet")],
        encoding="utf-8", timeout=60, dimensions=(24, 80),
    )  # fmt: skip
    view.expect("left_y")
    view.expect("◀ moved")
    view.expect("more controls below")
    view.send("m")
    view.expect("1 mark")
    view.send("r")
    view.sendcontrol("c")
    view.expect(r"mark 1 at [0-9.]+ s: (left_y|left_x|right_x|right_y|at rest)")
    view.expect("recorded [0-9]+ frames")
    view.expect(pexpect.EOF)
    view.close()
    assert view.exitstatus == 0
    with tenuto.open_source(tmp_path / "seen.parquet") as recording:
        assert [info.name for info in recording.controls()][:2] == ["left_x", "left_y"]


@pytest.mark.live
@pytest.mark.parametrize("fault", ["baud", "frozen"])
def test_faults_of_the_simulated_receiver(fault: str) -> None:
    with SimulatedReceiver("ibus") as device, tenuto.open_source(f"ibus:{device.port}") as receiver:
        device.channels = [1234.0] * 16
        wait_for(receiver, lambda frame: bool(frame and frame.values["channel_1"] == 1234.0))
        setattr(device.faults, fault, 9600)
        before, began = receiver.counts().good, time.monotonic()
        device.channels = [1999.0] * 16
        wait_for(receiver, lambda _: receiver.counts().good > before + 8)
        if fault == "baud":  # 32 bytes of 10 bits at 9600 baud: 30 frames a second at most, not 140
            assert time.monotonic() - began > 5 * 32 * 10 / 9600
        else:
            assert wait_for(receiver, bool).values["channel_1"] == 1234.0


def test_a_keyboard_that_never_ends_holds_up_no_poll(monkeypatch: pytest.MonkeyPatch) -> None:
    master, slave = os.openpty()
    keyboard, reads, read = Keyboard(slave), [0], os.read

    def pasted(descriptor: int, most: int) -> bytes:
        reads[-1] += 1
        if reads[-1] > 100:
            raise OSError("read without end")
        os.write(master, b"w" * 1024)  # as fast as it is read
        return read(descriptor, most)

    monkeypatch.setattr(os, "read", pasted)
    try:
        os.write(master, b"\r" + b"w" * 1024)
        for tick in range(20):
            reads.append(0)
            frame = keyboard.poll(0.02 * tick)
            assert frame is not None
            assert frame.link_good
    finally:
        monkeypatch.undo()
        keyboard.close()
        os.close(master)
        os.close(slave)
    assert max(reads) <= 4


def all_of(frames: list[Frame | None]) -> list[dict[str, float]]:
    heard = [frame for frame in frames if frame is not None]
    return [dict(one.values) for frame in heard for one in frames_in(frame)]


@pytest.mark.port
@pytest.mark.filterwarnings("ignore::tenuto.CutOffWarning")
@pytest.mark.parametrize("kind", ["sbus", "ibus", "crsf", "lines"])
def test_a_black_box_plays_what_came_again(kind: str, tmp_path: Path) -> None:
    """The same frames at the same times, also from a box that was cut off; and the doctor examines it."""
    clock, columns = SimulatedClock(), ",columns=a|b|c|d" * (kind == "lines")
    with (
        SimulatedReceiver(kind, link=str(tmp_path / "port"), clock=clock) as device,
        tenuto.open_source(f"{kind}:{tmp_path / 'port'}{columns}", clock=clock) as source,
        BlackBox(tmp_path / "box.mcap", clock) as box,
    ):
        assert source.record_raw(box)
        device.motion = wandering_channels
        came = []
        for _ in range(100):
            clock.sleep_until(clock.now() + 0.02)
            came.append(source.poll(clock.now()))
    whole = (tmp_path / "box.mcap").read_bytes()
    (tmp_path / "cut.mcap").write_bytes(whole[: len(whole) // 2])
    for name in ("box", "cut"):
        frames, now = list[Frame | None](), 0.0
        with tenuto.open_source(f"{kind}:{tmp_path / name}.mcap{columns}", clock=SimulatedClock()) as again:
            while not again.finished:
                frames.append(again.poll(now))
                now += 0.02
        values, first = all_of(frames), all_of(came)
        assert values == first[: len(values)]
        assert len(values) == len(first) if name == "box" else len(values) > len(first) // 3
    other = "crsf" if kind != "crsf" else "ibus"
    with tenuto.open_source(f"{other}:{tmp_path / 'box.mcap'}") as wrong:
        now = 0.0
        while not wrong.finished:
            now += 0.02
            frame = wrong.poll(now)
        assert frame is not None
        assert (frame.link_good, "bytes arrive, but no valid frame" in frame.note) == (False, True)
        assert any(f"this looks like {kind} at" in one for one in wrong.about_line())
    with pytest.raises(tenuto.RecordingError, match="no bytes came in at elsewhere"):
        tenuto.open_source(f"sbus:{tmp_path / 'box.mcap'}@elsewhere")
    (tmp_path / "junk.mcap").write_bytes(b"junk" * 50)
    with pytest.raises(tenuto.RecordingError, match="cannot be read as MCAP"):
        tenuto.open_source(f"sbus:{tmp_path / 'junk.mcap'}")
    done = run("watch", "simulated:gamepad", "--for", "1", "--raw", "x.mcap", cwd=tmp_path)
    assert (done.returncode, "records the bytes of ports and sockets" in done.stderr) == (1, True)


class FakeChip:
    """A simulated chip of the kernel, with the calls of its Python package: edges with times in ns."""

    def __init__(self, kind: str, clock: SimulatedClock) -> None:
        self.lines, self.fails, self.released = SimulatedPulses(kind, wandering_channels, clock=clock), False, False
        self.waiting: list[object] = []

    def wait_edge_events(self, timeout: float) -> bool:
        assert timeout == 0, "it must never wait"
        if self.fails:
            raise OSError(5, "Input/output error")
        kinds = gpiod.EdgeEvent.Type
        for edge in self.lines.edges():
            kind = kinds.RISING_EDGE if edge.rises else kinds.FALLING_EDGE
            self.waiting.append(gpiod.EdgeEvent(kind.value, round(edge.time * 1e9), edge.line, 0, 0))
        return bool(self.waiting)

    def read_edge_events(self, most: int) -> list[object]:
        came, self.waiting = self.waiting[:most], self.waiting[most:]
        return came

    def release(self) -> None:
        self.released = True


@pytest.mark.parametrize("kind", ["ppm", "pwm"])
def test_pulses_on_the_pins_of_a_computer(kind: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """The kernel stamps the edges: the measurement does not depend on when the program reads."""
    clock = SimulatedClock()
    chip, asked = FakeChip(kind, clock), dict[str, Any]()

    def request(path: str, **more: object) -> FakeChip:
        asked.update(more, path=path)
        return chip

    monkeypatch.setattr(gpiod, "request_lines", request)
    monkeypatch.setattr("tenuto.sources.gpio.stamped", clock.now)
    numbers = "|".join(map(str, chip.lines.numbers))
    source = tenuto.open_source(f"{kind}:/dev/gpiochip9,line={numbers}", clock=clock)
    assert (asked["path"], list(asked["config"])) == ("/dev/gpiochip9", [chip.lines.numbers])
    heard = []
    for _ in range(60):
        clock.sleep_until(clock.now() + 0.047)
        frame = source.poll(clock.now())
        if frame is not None:
            heard.append(frame)
            assert 0.0 <= clock.now() - frame.time < 0.06
            sent = [wandering_channels(frame.time - 0.02 * back) for back in (0, 1, 2)]
            for number in range(4):
                near = [one[number] for one in sent]
                assert min(near) - 1.0 <= frame.values[f"channel_{number + 1}"] <= max(near) + 1.0
    assert len(heard) > 50
    assert source.counts().bad <= 2
    chip.fails = True
    failed = source.poll(clock.now())
    assert failed is not None
    assert (failed.link_good, "Input/output error" in failed.note) == (False, True)
    source.close()
    assert chip.released
    for text, said in (
        (f"{kind}:/dev/gpiochip9", "say which pin"),
        (f"{kind}:edges.csv,line=4", "this is a file"),
        (f"{kind}:/dev/gpiochip9,line=x", "expected the number"),
    ):
        with pytest.raises(tenuto.SourceError, match=said):
            tenuto.open_source(text)
    monkeypatch.undo()
    with pytest.raises(tenuto.SourceError, match="No such file or directory; gpioinfo lists the lines"):
        tenuto.open_source(f"{kind}:/dev/gpiochip9,line=4")
    monkeypatch.setitem(sys.modules, "gpiod", None)
    with pytest.raises(tenuto.SourceError, match=r"pip install 'tenuto\[gpio\]'"):
        tenuto.open_source(f"{kind}:/dev/gpiochip9,line=4")


@pytest.mark.parametrize("channel", ["1e12", "0", "-3", "1.5"])
def test_a_capture_of_wires_that_cannot_be_is_refused(channel: str, tmp_path: Path) -> None:
    (tmp_path / "p.csv").write_text(f"time,channel,level\n0,1,1\n0.001,{channel},0\n")
    with pytest.raises(tenuto.RecordingError, match=r"p.csv:3: expected a whole number from 1 to 64 in column channel"):
        tenuto.open_source(f"pwm:{tmp_path / 'p.csv'}")
