"""The questions of `tenuto begin`, and the checks of its result."""

import json
import math
import re
import sys
import tomllib
from pathlib import Path

import pexpect
import pytest

import tenuto
from helpers import Bench, Notebook, run
from tenuto import Frame
from tenuto.calibration.binding import Listener, Meant, Unclear
from tenuto.cli.motors import SHARE, HeldKey, OneMotor, motors_of, one_motor_plan, turned_alone
from tenuto.clock import SimulatedClock
from tenuto.data import shipped
from tenuto.profile.beginning import text_begun_for
from tenuto.profile.checks.advice import advise
from tenuto.profile.checks.names import nearest
from tenuto.profile.lines import line_of
from tenuto.sources.gamepad import GamepadOptions
from tenuto.sources.recording import write_recording
from tenuto.vehicles.base import VEHICLES

PAD = GamepadOptions.layout
REST = {info.name: info.rest for info in PAD if not info.name.startswith(("misc", "paddle", "touch"))}


def gesture(now: float, *moved: tuple[str, float], seconds: float = 0.5) -> list[Frame]:
    """Half a second of rest, a movement, and rest again, at 50 Hz."""
    frames = []
    for step in range(int((seconds + 1.2) * 50)):
        out = 30 <= step < 30 + seconds * 50
        frames.append(Frame(now + step / 50, REST | (dict(moved) if out else {})))
    return frames


def heard(*gestures: list[Frame]) -> list[Meant | Unclear]:
    listener = Listener(tuple(info for info in PAD if info.name in REST), taken={"south"})
    return [answer for frames in gestures for frame in frames if (answer := listener.feed(frame)) is not None]


def test_one_clear_gesture_is_understood_and_others_are_asked_again() -> None:
    answers = heard(
        gesture(0, ("left_y", -31000)),
        gesture(2, ("left_y", -9000)),
        gesture(4, ("left_y", -31000), ("right_x", 30000)),
        gesture(6, ("paddle", 1.0), ("south", 1.0)),
        gesture(8, ("left_trigger", 32000), ("east", 1.0)),
        gesture(10, ("right_trigger", 32000)),
    )
    assert [isinstance(answer, Meant) for answer in answers] == [True, False, False, False, False, True]
    assert answers[0] == Meant("left_y", rising=False)
    assert "moved by only 27 %" in str(answers[1])
    assert "left_y and right_x moved together" in str(answers[2])
    assert "south is in use already" in str(answers[3])
    assert "one at a time" in str(answers[4])
    assert answers[5] == Meant("right_trigger", rising=True)


def recorded(path: Path) -> Path:
    """Forward, left, hold, and a stop button."""
    frames = [
        *gesture(0, ("left_y", -31000)), *gesture(2, ("right_x", -31000)),
        *gesture(4, ("left_shoulder", 1.0)), *gesture(6, ("east", 1.0)), *gesture(8, ("west", 1.0)),
    ]  # fmt: skip
    write_recording(path, frames)
    return path


def test_begin_makes_a_profile_that_drives_the_right_way(tmp_path: Path) -> None:
    recording = recorded(tmp_path / "gestures.csv")
    done = run("begin", "new.toml", "--from", str(recording), cwd=tmp_path)
    assert (done.returncode, (tmp_path / "new.toml").exists()) == (1, False)  # it asks first, and gets no answer
    done = run("begin", "new.toml", "--from", str(recording), "--yes", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert "drive  left_y (decreases)" in done.stdout
    profile = tenuto.load_profile(tmp_path / "new.toml")
    drive, steer, hold, stop, *_ = profile.plan().controls
    assert [(mode.name, mode.speeds.forward, mode.speeds.turn) for mode in profile.plan().modes] == [
        ("slow", 0.3, 0.2), ("fast", 0.6, 0.4)]  # fmt: skip
    assert (drive.reads, drive.travel.position(-32768.0)) == ("left_y", 1.0)
    assert (steer.reads, steer.travel.position(-32768.0)) == ("right_x", 1.0)
    assert (hold.reads, stop.reads) == ("left_shoulder", "east")
    assert run("check", "new.toml", cwd=tmp_path).returncode == 0


def test_two_triggers_make_one_axis(tmp_path: Path) -> None:
    frames = [
        *gesture(0, ("right_trigger", 32767)), *gesture(2, ("left_trigger", 32767)),
        *gesture(4, ("right_x", -31000)), *gesture(6, ("left_shoulder", 1.0)),
    ]  # fmt: skip
    write_recording(tmp_path / "g.csv", frames)
    done = run("begin", "t.toml", "--from", "g.csv", "--vehicle", "differential", "--yes", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert "understood: left_trigger; the two form one axis" in done.stdout
    profile = tenuto.load_profile(tmp_path / "t.toml")
    bench = Bench(profile)
    for held in (0.0, 1.0):
        bench.run(0.1, REST | {"left_shoulder": held})
    for right, left, speed in ((32767, 0, 0.4), (0, 32767, -0.3), (32767, 32767, 0.0)):
        tick = bench.run(3.0, REST | {"left_shoulder": 1.0, "right_trigger": right, "left_trigger": left})
        assert tick.command.vx == pytest.approx(speed)
    tick = bench.step(REST | {"left_shoulder": 1.0, "left_trigger": math.nan})
    assert tick.guard.reasons[0].text.startswith("left_trigger is nan")
    text = (tmp_path / "t.toml").read_text().replace('minus = "left_trigger"', 'minus = "left_y"')
    with pytest.raises(tenuto.ProfileError, match="a stick has both directions"):
        tenuto.parse_profile(text)


# Vehicle → the gestures after "forward", in the order of the questions, and the motion for a push forward.
TWO, ANY = (("left_y", "right_x"), (0.4, 0, 0, 0)), (("left_y", "left_x", "right_x"), (0.4, 0, 0, 0))
ASKED: dict[str, tuple[tuple[str, ...], tuple[float, ...]]] = {
    **dict.fromkeys(("differential", "skid_steer", "tracked", "car", "thrusters", "linear_mix"), TWO),
    **dict.fromkeys(("mecanum", "omni", "modules"), ANY),
    "four_wheel_steer": (("left_y", "right_x", "north"), (0.4, 0, 0, 0)),
    "aircraft": (("left_y", "left_x", "right_y", "right_x"), (0, 0, 0.5, 0)),
    "surfaces": (("left_y", "left_x", "right_y"), (0, 0, 1.0, 0)),
    **dict.fromkeys(("motors", "motor_and_servo"), (("left_y", "right_x"), (0.3, 0, 0, 0))),
}


@pytest.mark.long
@pytest.mark.parametrize("vehicle", VEHICLES.all)
def test_begin_begins_a_profile_for_every_vehicle(vehicle: str, tmp_path: Path) -> None:
    moved, command = ASKED[vehicle]
    gestures = [(name, 1.0 if name == "north" else -31000.0) for name in moved] + [("left_shoulder", 1.0)]
    frames = [frame for number, one in enumerate(gestures) for frame in gesture(2.0 * number, one)]
    write_recording(tmp_path / "g.csv", frames)
    done = run("begin", "v.toml", "--vehicle", vehicle, "--from", "g.csv", "--yes", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert run("check", "v.toml", cwd=tmp_path).returncode == 0
    profile = tenuto.load_profile(tmp_path / "v.toml")
    bench = Bench(profile)
    for held in (0.0, 1.0):
        bench.run(0.1, REST | {"left_shoulder": held})
    tick = bench.run(3.0, REST | {"left_shoulder": 1.0, moved[0]: -32768.0})
    assert tick.command == pytest.approx(command)
    # All steering and sideways gestures go to the left.
    left = bench.run(3.0, REST | {"left_shoulder": 1.0, "left_y": -32768.0, "right_x": -32768.0, "left_x": -32768.0})
    assert max(left.command.vy, left.command.yaw_rate) > 0.1
    assert min(left.command.vy, left.command.yaw_rate) >= 0.0
    if vehicle == "four_wheel_steer":
        assert bench.run(0.2, REST | {"north": 1.0}).chosen.steering == "counter"


def test_begin_says_which_styles_it_can_ask_for(tmp_path: Path) -> None:
    text = shipped("medlar.toml").read_text().replace('kind = "arcade"', 'kind = "thrusters"')
    (tmp_path / "s.toml").write_text(text)
    done = run("begin", "s.toml", "--from", str(recorded(tmp_path / "g.csv")), cwd=tmp_path)
    assert (done.returncode, "one of these styles: any_direction, arcade, car" in done.stderr) == (1, True)


def test_a_stick_for_each_thruster_is_asked_for(tmp_path: Path) -> None:
    frames = [*gesture(0, ("left_y", -31000)), *gesture(2, ("right_y", -31000)), *gesture(4, ("left_shoulder", 1.0))]
    write_recording(tmp_path / "g.csv", frames)
    asked = ("begin", "b.toml", "--vehicle", "thrusters", "--style", "thrusters", "--from", "g.csv", "--yes")
    done = run(*asked, cwd=tmp_path)
    assert (done.returncode, "push the robot with LEFT FORWARD" in done.stdout) == (0, True), done.stderr
    bench = Bench(tenuto.load_profile(tmp_path / "b.toml"))
    for held in (0.0, 1.0):
        bench.run(0.1, REST | {"left_shoulder": held})
    tick = bench.run(3.0, REST | {"left_shoulder": 1.0, "right_y": -32768.0})
    assert tick.actuators["left_thrust"] == pytest.approx(0.0, abs=1e-6)
    assert tick.command.yaw_rate > 0.1
    again = run("begin", "b.toml", "--from", "g.csv", "--enable", "hold", "--yes", cwd=tmp_path)
    assert (again.returncode, "LEFT FORWARD" in again.stdout) == (0, True), again.stderr


def test_a_sink_that_the_vehicle_cannot_have_is_refused_before_anything_is_asked(tmp_path: Path) -> None:
    for sink, why in (("mavlink:h:1", "motors has no measures"), ("nothing", "expected a kind of sink")):
        done = run("begin", "m.toml", "--to", sink, "--yes", cwd=tmp_path)
        assert (done.returncode, why in re.sub(r"[\s│]+", " ", done.stderr)) == (2, True), done.stderr
    assert [path.name for path in tmp_path.iterdir()] == []
    (tmp_path / "medlar.toml").write_text(shipped("medlar.toml").read_text())
    done = run("begin", "medlar.toml", "--to", "simulated", "--yes", cwd=tmp_path)
    assert (done.returncode, "medlar.toml exists" in done.stderr) == (2, True)


def test_begin_keeps_comments_order_and_names_of_an_existing_profile(tmp_path: Path) -> None:
    text = shipped("medlar.toml").read_text()
    (tmp_path / "medlar.toml").write_text(text.replace("left_y", "right_y"))
    done = run("begin", "medlar.toml", "--from", str(recorded(tmp_path / "g.csv")), "--yes", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    new = (tmp_path / "medlar.toml").read_text()
    comments = [line for line in text.splitlines() if line.startswith("#")]
    assert [line for line in new.splitlines() if line.startswith("#")] == comments
    profile = tenuto.load_profile(tmp_path / "medlar.toml")
    assert (profile.controls["drive"].reads, profile.controls["drive"].low) == ("left_y", None)  # of another control
    assert profile.controls["steer"].low == -30454  # the same control as before
    assert (profile.speeds.forward, profile.guard.stop) == (1.2, "east")


def test_all_of_it_may_be_said_by_options(tmp_path: Path) -> None:
    roles = ("drive=left_y", "steer=-right_x", "hold=left_shoulder")
    asked = [one for role in roles for one in ("--control", role)]
    done = run("begin", "o.toml", "--source", "simulated:sticks", *asked, "--yes", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    drive, steer, hold = tenuto.load_profile(tmp_path / "o.toml").plan().controls
    assert (drive.travel.position(-32768.0), steer.travel.position(-32768.0), hold.reads) == (
        1.0,
        -1.0,
        "left_shoulder",
    )
    for wrong in ("drvie=left_y", "drive=left_z", "drive"):
        done = run("begin", "w.toml", "--source", "simulated:sticks", "--control", wrong, "--yes", cwd=tmp_path)
        assert (done.returncode, f"found {wrong}" in re.sub(r"[\s│]+", " ", done.stderr)) == (2, True)


@pytest.mark.long
def test_sticks_that_are_never_still_are_not_asked_for_ever(tmp_path: Path) -> None:
    done = run("begin", "n.toml", "--source", "simulated:sticks", "--yes", cwd=tmp_path)
    assert (done.returncode, "no gesture came for drive" in done.stderr) == (1, True)
    roles = ("throttle=left_y", "steer=right_x", "hold=left_shoulder")
    asked = [one for role in roles for one in ("--control", role.replace("throttle", "drive"))]
    done = run("begin", "f.toml", "--vehicle", "four_wheel_steer", "--source", "simulated:sticks", *asked, "--yes",
               cwd=tmp_path)  # fmt: skip
    assert done.returncode == 0, done.stderr


def test_a_robot_is_begun_that_is_driven_from_the_keyboard(tmp_path: Path) -> None:
    asked = ("begin", "k.toml", "--source", "keyboard", "--yes")
    done = run(*asked, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    bench = Bench(tenuto.load_profile(tmp_path / "k.toml"))
    rest = dict.fromkeys(("forward", "turn", "enable", "emergency", "reset"), 0.0)
    for values in (rest, rest | {"enable": 1.0}):
        bench.run(0.1, values)
    assert bench.run(1.2, rest | {"enable": 1.0, "forward": 1.0}).command.vx == pytest.approx(0.3)
    assert "emergency stop" in str(bench.run(0.1, rest | {"emergency": 1.0}).guard.state)
    assert run("check", "k.toml", cwd=tmp_path).returncode == 0
    wrong = run("begin", "t.toml", "--source", "keyboard", "--style", "tank", "--yes", cwd=tmp_path)
    assert (wrong.returncode, "arcade or car" in wrong.stderr) == (2, True)


def test_what_enables_an_existing_robot_stays_where_nothing_else_is_pressed(tmp_path: Path) -> None:
    (tmp_path / "medlar.toml").write_text(shipped("medlar.toml").read_text())
    write_recording(tmp_path / "g.csv", [*gesture(0, ("right_y", -31000)), *gesture(2, ("left_x", -31000))])
    done = run("begin", "medlar.toml", "--from", "g.csv", "--yes", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    profile = tenuto.load_profile(tmp_path / "medlar.toml")
    assert (profile.controls["drive"].reads, profile.controls["steer"].reads) == ("right_y", "left_x")
    assert (profile.guard.hold_to_run, profile.guard.enable, dict(profile.switches)) == ("left_shoulder", None, {})


def test_begin_asks_the_device_of_an_existing_profile(tmp_path: Path) -> None:
    text = shipped("damson.toml").read_text().replace("/dev/ttyAMA0", "/dev/none")
    (tmp_path / "d.toml").write_text(text)
    done = run("begin", "d.toml", "--yes", cwd=tmp_path)
    assert (done.returncode, "/dev/none cannot be opened" in done.stderr) == (1, True)
    done = run("begin", "d.toml", "--yes", "--calibrate", cwd=tmp_path)
    assert (done.returncode, "name the device to measure" in done.stderr) == (2, True)


def test_begin_does_not_touch_what_it_cannot_read(tmp_path: Path) -> None:
    (tmp_path / "broken.toml").write_text("[source\n")
    done = run("begin", "broken.toml", "--from", str(recorded(tmp_path / "g.csv")), "--yes", cwd=tmp_path)
    assert (done.returncode, "Traceback" in done.stderr) == (1, False)
    assert "broken.toml: file: expected TOML that can be changed" in done.stderr
    assert (tmp_path / "broken.toml").read_text() == "[source\n"
    (tmp_path / "short.csv").write_text("time,left_y\n0,0\n0.02,0\n")
    none = run("begin", "new.toml", "--from", "short.csv", "--yes", cwd=tmp_path)
    assert (none.returncode, "no gesture came for drive: nothing was written" in none.stderr) == (1, True)


# A device in simulated time: its controls are pushed in sequence, 1.6 s apart; then it continues as the device.
RADIO = """
pushes = [(1, 2012.0), (3, 988.0), (5, 2012.0), (6, 2012.0)]
def motion(t):
    turn, phase = divmod(t - 1.5, 1.6)
    channels = [1500.0] * 16
    if 0 <= turn < 4 and phase < 0.6:
        channel, pulse = pushes[int(turn)]
        channels[channel] = pulse
    return channels
device = SimulatedReceiver("crsf", motion=motion, clock=clock, link="device")
"""
POTS = """
from tenuto.sim.device import SerialDevice
class Rig(SerialDevice):
    def next_bytes(self, t):
        turn, phase = divmod(t - 1.5, 1.6)
        values = [512, 500]
        if 0 <= turn < 2 and phase < 0.6:
            values[int(turn)] = 1000 if turn == 0 else 20
        if 2 <= turn < 6 and phase < 0.6:
            values = [1010, 1005] if turn % 2 else [10, 15]
        return [("%d,%d\\n" % tuple(values)).encode()]
device = Rig(50.0, "device", clock)
"""
HAND = """
import sys
from tenuto.cli import main
from tenuto.clock import SimulatedClock
from tenuto.sim.receiver import SimulatedReceiver
clock = SimulatedClock()
{device}
main(sys.argv[1:], clock)
"""


def guided(folder: Path, device: str, source: str, *answers: tuple[str, str]) -> None:
    """Begin a robot in a real terminal, and answer the questions."""
    guide = pexpect.spawn(
        sys.executable, ["-c", HAND.format(device=device), "begin", "it.toml", *source.split()], cwd=str(folder),
        encoding="utf-8", timeout=40, dimensions=(50, 120),
    )  # fmt: skip
    for prompt, answer in answers:
        guide.expect(prompt)
        if answer:
            guide.sendline(answer)
    guide.expect(pexpect.EOF)
    guide.close()
    assert guide.exitstatus == 0


END = (("Write it.toml", "y"), ("Wrote", ""), ("Measure the sticks", "n"), ("alone", "n"), ("Drive now", "n"))


@pytest.mark.long
def test_a_radio_is_begun_with_in_a_terminal(tmp_path: Path) -> None:
    """A real terminal and a real line; the hand's time is simulated."""
    menus = (("Which vehicle is it", "motors"), ("How do you steer it", "1"))
    pushed = [(prompt, "") for prompt in ("FORWARD", "LEFT", "understood: channel_4", "HELD", "STOPS", "slow and fast")]
    guided(tmp_path, RADIO, "--source crsf:device", *menus, *pushed, ("Where do commands go", "1"), *END)
    profile = tenuto.load_profile(tmp_path / "it.toml")
    drive, steer, hold, stop = profile.plan().controls
    assert [drive.travel.position(2012.0), steer.travel.position(988.0)] == [1.0, 1.0]
    assert [hold.reads, stop.reads, profile.chassis.kind] == ["channel_6", "channel_7", "motors"]
    assert not (tmp_path / "it.toml.begun").exists()


@pytest.mark.long
def test_two_potentiometers_without_a_button_are_begun_with(tmp_path: Path) -> None:
    menus = (("Which vehicle is it", "2"), ("How do you steer it", ""), ("Number", "1"), ("FORWARD", ""), ("LEFT", ""))
    told = (("both sticks at their low ends for 1 s", ""), ("to both ends", ""), ("Where do commands go", "1"))
    guided(tmp_path, POTS, "--source lines:device", *menus, *told, *END)
    profile = tenuto.load_profile(tmp_path / "it.toml")
    assert (profile.chassis.kind, profile.guard.hold_to_run) == ("motor_and_servo", None)
    one, two = (control.reads for control in profile.plan().controls)
    bench = Bench(profile)
    bench.run(1.0, {one: 512.0, two: 500.0})
    assert bench.run(1.0, {one: 1000.0, two: 500.0}).actuators["motor"] == 0.0, "nobody has enabled it"
    for values in ({one: 512.0, two: 500.0}, {one: 10.0, two: 1005.0}, {one: 512.0, two: 500.0}):
        bench.run(1.5, values)  # low is right: the gesture, with rest before and after
    tick = bench.run(2.0, {one: 1010.0, two: 15.0})
    assert tick.actuators == pytest.approx({"motor": 0.3, "servo": 1.0})


def test_what_was_answered_is_kept_when_it_is_broken_off(tmp_path: Path) -> None:
    frames = [*gesture(0, ("left_y", -31000)), *gesture(2, ("right_x", -31000))]
    write_recording(tmp_path / "half.csv", frames[:-60])
    write_recording(tmp_path / "rest.csv", [*gesture(0, ("left_shoulder", 1.0))])
    asked = ("begin", "it.toml", "--enable", "hold", "--yes", "--vehicle", "tracked", "--style", "tank")
    broken = run(*asked, "--from", "half.csv", cwd=tmp_path)
    assert (broken.returncode, (tmp_path / "it.toml").exists()) == (1, False)
    write_recording(tmp_path / "more.csv", [*gesture(0, ("right_y", -31000)), *gesture(2, ("left_shoulder", 1.0))])
    done = run("begin", "it.toml", "--from", "more.csv", "--enable", "hold", "--yes", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert "Continuing from it.toml.begun: gamepad, tracked, tank, left" in done.stdout
    profile = tenuto.load_profile(tmp_path / "it.toml")
    assert (profile.chassis.kind, profile.controls["left"].reads) == ("tracked", "left_y")
    assert [path.name for path in tmp_path.glob("*.begun")] == []


def test_motors_that_turn_the_wrong_way_are_turned_round(tmp_path: Path) -> None:
    recorded(tmp_path / "g.csv")
    more = ("--to", "serial:port", "--reverse", "right", "--swap", "--enable", "hold", "--yes")
    assert run("begin", "it.toml", "--from", "g.csv", *more, cwd=tmp_path).returncode == 0
    bench = Bench(tenuto.load_profile(tmp_path / "it.toml"))
    for held in (0.0, 1.0):
        bench.run(0.1, REST | {"left_shoulder": held})
    left = bench.run(1.5, REST | {"left_shoulder": 1.0, "right_x": -32768.0}).wire
    assert left == pytest.approx({"left.share": 0.2, "right.share": 0.2}), "swapped, and the right one turned round"
    assert "{left.share:.3f} {right.share:.3f}" in (tmp_path / "it.toml").read_text()
    wrong = run("begin", "two.toml", "--from", "g.csv", "--reverse", "middle", "--yes", cwd=tmp_path)
    assert (wrong.returncode, "expected one of left, right; found middle" in wrong.stderr) == (2, True)
    assert not (tmp_path / "two.toml").exists(), "refused before anything is written"
    (tmp_path / "two.toml.begun").write_text('{"vehicle": "hovercraft", "meant": {}}', encoding="utf-8")
    wrong = run("begin", "two.toml", "--from", "g.csv", "--yes", cwd=tmp_path)
    assert (wrong.returncode, "nothing is called hovercraft; delete it" in wrong.stderr) == (1, True)


@pytest.mark.parametrize(
    ("sink", "alone"),
    [
        ('kind = "serial"\nport = "p"\nline = "{vx} {yaw_rate}"', {}),  # the far end would turn several motors
        ('kind = "serial"\nport = "p"\nline = "{left:.2f} {right.share:.2f}"', {"left": False, "right": True}),
        ('kind = "sbus"\nport = "p"', {"left": True}),
        ('kind = "mavlink"\naddress = "h:1"\nsends = "channels"\nchannels = ["left"]', {"left": True}),
        ('kind = "mavlink"\naddress = "h:1"\nsends = "sticks"', {}),
        ('kind = "simulated"', {"left": True, "right": True}),
        ('kind = "log"\nfile = "drive.csv"', {"left": True, "right": True}),
    ],
)
def test_a_motor_is_turned_alone_only_where_the_sink_sends_motors(sink: str, alone: dict[str, bool]) -> None:
    text = text_begun_for("motors").replace('name = ""', 'name = "two motors"')
    text = text.replace("[source]", '[source]\nkind = "gamepad"\n')
    text = text.replace("[style]", '[style]\nforward = "left_y"\nturn = "right_x"\n')
    text = text.replace("[guard]", '[guard]\nhold_to_run = "south"\n')
    forms = '\n[actuators.left]\nform = "pulse"\n[actuators.right]\nform = "share"\n'
    assert turned_alone(tenuto.parse_profile(f"{text}{forms}[sinks.robot]\n{sink}\n")) == alone


@pytest.mark.parametrize("kind", VEHICLES.all)
def test_a_held_key_turns_one_motor_gently_and_no_other(kind: str) -> None:
    """Through the loop and the guard of every drive: held, released, held again, ended."""
    tables = tomllib.loads(text_begun_for(kind))
    tables |= {"name": "v", "source": {"kind": "gamepad"}}
    tables["style"] = {"kind": "arcade", "forward": "left_y", "turn": "right_x"}
    tables["guard"]["hold_to_run"] = "south"
    plan = tenuto.Profile.model_validate(tables).plan()
    bounds = plan.chassis.bounds()
    for name in motors_of(plan):
        notebook, clock = Notebook(), SimulatedClock()

        def held(now: float) -> bool | None:
            return None if now > 4.0 else now < 1.0 or 2.0 < now < 3.0

        tenuto.drive(one_motor_plan(), HeldKey(held), [OneMotor(notebook, plan, name)], clock=clock)
        moved = {other for tick in notebook.ticks for other, value in tick.actuators.items() if value}
        assert moved == {name}
        turned = [(tick.time, tick.actuators[name]) for tick in notebook.ticks]
        most = bounds[name].most if math.isfinite(bounds[name].most) else 10.0
        assert 0.0 < max(value for _, value in turned) <= SHARE * most + 1e-9
        assert all(value == 0.0 for now, value in turned if 1.5 < now < 2.0 or now > 3.5), "let go, it stands"
        assert set(notebook.stops[0].actuators.values()) == {0.0}


REMARKS = [
    ("right_x", "left_y", "controls.steer.reads", True, "left_y is read by drive too"),
    ("1.2 m/s", "2.2 m/s", "speeds.forward", True, "no more than 63 % of it"),
    ("90 deg/s", "400 deg/s", "speeds.turn", True, "no more than 64 % of it"),
    ("300 ms", "4 s", "guard.link_timeout", True, "goes 4.8 m, across a room"),
    ('"0.8 m/s^2"', '"9 m/s^2"', "limits.acceleration", False, "reached in 0.13 s"),
    ('"1.5 m/s^2"', '"0.3 m/s^2"', "guard.stop_deceleration", False, "slower than the driver's own ramps"),
    ("dead_zone = 0.08", "dead_zon = 0.08", "controls.drive.dead_zon", True, "an unknown key"),
    (
        "expo = 0.35",
        "curve = [[-1, -1], [1, 0.9]]\ncurve_free = true",
        "controls.drive.curve",
        True,
        "at rest it demands",
    ),
    (
        "expo = 0.35",
        'expo = 0.35\nsmoothing = "500 ms"',
        "controls.drive.smoothing",
        False,
        "drives on for 0.50 s after",
    ),
]
# Of the profile with modes and switches.
LIFT_REMARKS = [
    ('order = ["slow", "brisk"]', 'order = ["brisk", "brisk"]', "choose.mode.back", True, "not one action away"),
    ('order = ["slow", "brisk"]', 'order = ["slow", "slow"]', "modes.brisk", True, "nothing selects it"),
    ('["slow", "brisk"]', '["slow", "brisk", "brisk"]', "choose.mode.back", True, "slow, the fallback mode"),
    ('kind = "latch"\nreads = "back"', 'kind = "cycle"\nreads = "back"\nat_start = true',
     "switches.lamp_button.at_start", False, "before it is touched"),
    ("levels = [0, 1]", "levels = [0, 0.5, 1]", "switches.gripper_button.positions", True, "it has 2 positions, and 3"),
    ('press = "mark_button"', 'press = "guide"', "switches.mark_button", False, "nothing uses it"),
    ('forward = "1.2 m/s"', 'forward = "2.2 m/s"', "modes.brisk.speeds.forward", True, "no more than 63 %"),
]  # fmt: skip


@pytest.mark.parametrize(("old", "new", "key", "problem", "said"), REMARKS)
def test_check_says_what_is_wrong_and_where(
    tmp_path: Path, old: str, new: str, key: str, problem: bool, said: str
) -> None:
    text = shipped("medlar.toml").read_text().replace(old, new, 1)
    (tmp_path / "m.toml").write_text(text)
    done = run("check", "m.toml", "--json", cwd=tmp_path)
    remark = next(remark for remark in json.loads(done.stdout)["findings"] if remark["where"] == key)
    assert (remark["severity"] == "error") is problem
    assert said in remark["text"]
    name = key.rpartition(".")[2]
    assert text.splitlines()[remark["line"] - 1].startswith(name)
    assert line_of(text, key) == remark["line"]
    assert done.returncode == (1 if problem else 0)


@pytest.mark.parametrize(("old", "new", "key", "problem", "said"), LIFT_REMARKS)
def test_check_knows_modes_and_switches(old: str, new: str, key: str, problem: bool, said: str) -> None:
    text = shipped("medlar-lift.toml").read_text()
    assert old in text
    profile = tenuto.parse_profile(text.replace(old, new, 1))
    found = {finding.where: finding for finding in advise(profile)}
    assert advise(tenuto.parse_profile(text)) == []
    assert (found[key].is_error, said in found[key].text) == (problem, True)
    assert line_of(text, key) > 1


def test_a_switch_that_only_an_autopilot_uses_is_used() -> None:
    flight = '[switches.flight]\nkind = "positions"\nreads = "right_trigger"\npositions = 2\n'
    modes = 'modes = { hold = 3, guided = 4 }\nmode_switch = "flight"\nmode_order = ["hold", "guided"]\n'
    text = shipped("damson-guided.toml").read_text()
    for more, said in (("", ["nothing uses it"]), (modes, [])):
        profile = tenuto.parse_profile(text.replace("[sinks.autopilot]\n", f"{flight}[sinks.autopilot]\n{more}", 1))
        assert [one.text for one in advise(profile) if one.where == "switches.flight"] == said


def test_nobody_is_asked_whether_a_word_was_meant_that_was_written() -> None:
    assert nearest("gate", ["gate", "gates", "horn"]) == 'did you mean "gates"?'
    assert nearest("gate", ["gate", "horn"]) == ""


@pytest.mark.parametrize(
    "written",
    [
        "[controls.x]\ndead_zone = 3", "controls.x.dead_zone = 3", "[controls]\nx.dead_zone = 3",
        'controls.x = { reads = "left_y", dead_zone = 3 }', "[controls]\nx = { dead_zone = 3 }",
        '[ controls . "x" ]\n"dead_zone" = 3',
    ],
)  # fmt: skip
def test_a_key_is_found_however_it_is_written(written: str) -> None:
    text = f'format = 1\nname = "controls.x.dead_zone"\n{written}\n[guard]\ndead_zone = 1\n'
    assert line_of(text, "controls.x.dead_zone") == text[: text.index(" = 3") if "{" not in written else
                                                         text.index("= {")].count("\n") + 1  # fmt: skip


TWO_STYLES = """
format = 1
name = "Two styles"
source = { kind = "gamepad" }
controls.drive = { reads = "left_y" }
controls.steer = { reads = "right_x" }
controls.left = { reads = "left_y" }
controls.right = { reads = "right_y" }
style = { kind = "arcade", forward = "drive", turn = "steer" }
speeds = { forward = 1.0, backward = 1.0, turn = 2.0 }
limits = { acceleration = 1.0, turn_acceleration = 3.0 }
guard = { hold_to_run = "left_shoulder", link_timeout = "300 ms", stop_deceleration = 1.5 }
chassis = { kind = "differential", track = 0.5, wheel_radius = 0.1, max_wheel_speed = 8.0 }
choose.mode = { switch = "style", order = ["plain", "sides"], through_rest = true }
switches.style = { kind = "cycle", reads = "north" }
modes.plain = { fallback = true }
modes.sides = { style = { kind = "tank", left = "left", right = "right" } }
"""


def test_two_modes_may_use_one_stick_and_share_one_finding() -> None:
    assert [(finding.where, finding.is_error) for finding in advise(tenuto.parse_profile(TWO_STYLES))] == [
        ("speeds.forward", True), ("chassis.max_wheel_speed", False),
    ]  # fmt: skip
    both = TWO_STYLES.replace('left = "left"', 'left = "drive"').replace('forward = "drive"', 'forward = "left"')
    assert "controls.left.reads" not in {finding.where for finding in advise(tenuto.parse_profile(both))}
    same = TWO_STYLES.replace('turn = "steer"', 'turn = "left"')
    assert "controls.left.reads" in {finding.where for finding in advise(tenuto.parse_profile(same))}


@pytest.mark.long
def test_check_compares_with_the_device_and_its_calibration(tmp_path: Path) -> None:
    profile = str(shipped("medlar.toml"))
    calm = run("check", profile, cwd=tmp_path)
    assert (calm.returncode, "0 errors, 0 warnings" in calm.stdout) == (0, True)
    assert "it slows down to standstill                      until 1.12 s  0.87 m" in calm.stdout
    other = run("check", profile, "--source", "simulated:crsf", cwd=tmp_path)
    assert other.returncode == 1
    assert "medlar.toml:11: controls.drive.reads: error: the device has no left_y" in other.stdout
    run("calibrate", "--from", str(shipped("worn-pad.csv")), "--out", "worn.toml", "--force", cwd=tmp_path)
    worn = run("check", profile, "--calibration", "worn.toml", cwd=tmp_path)
    assert "controls.drive.dead_zone: warning: 0.08 is less than the 0.1" in worn.stdout
