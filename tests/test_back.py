"""What comes back over a link is guarded as what goes out: by a key, by the reader's own challenge, and by bounds."""

import json
import re
import socket
import tempfile
from itertools import count
from pathlib import Path

import pytest
from hypothesis import example, given
from hypothesis import strategies as st
from pymavlink.dialects.v20 import common as dialect

import tenuto
from brokers import free_port
from helpers import Bench, examples, pad, run
from tenuto.basics.errors import TenutoError
from tenuto.data import shipped
from tenuto.health.service import service_for
from tenuto.protocols.answer_line import AnswerLine
from tenuto.protocols.frames import SIGNED_COMMAND, AnswerSeal, CommandFrame, FrameFinder, Seal, sign_answer
from tenuto.protocols.fresh import MOST_AGE
from tenuto.protocols.mavlink import MavlinkLink, Member
from tenuto.protocols.remote import MOST_DRIVERS, DriverGone, RemoteState
from tenuto.protocols.remote_ends import DriverEnd, RobotEnd
from tenuto.sim.autopilot import Autopilot
from tenuto.sinks.line_forms import SignedFrames
from tenuto.sinks.mavlink import MavlinkSink
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

KEY = bytes(range(32))
DRIVING = Bench().drive(1.0)
# What is delivered in a step: all that is sent, nothing, or only something that was recorded, here or yesterday.
ATTACKS = st.lists(
    st.tuples(st.sampled_from(["all", "nothing", "recorded"]), st.integers(0, 200)), min_size=1, max_size=80
)


class Talk:
    """A driver's machine and a robot that talk every 50 ms; everything is recorded, with the time it was made."""

    def __init__(self, began: float) -> None:
        self.robot, self.driver, self.now = RobotEnd(), DriverEnd("shed"), began
        self.states: list[tuple[float, RemoteState]] = []

    def step(self, reaches: bool) -> RemoteState:
        """Take a step; return the robot's state."""
        self.now += 0.05
        message = self.driver.command(DRIVING, self.now)
        ask = self.driver.ask(self.now) if message is None else None
        if reaches and message is not None:
            self.robot.take(message, self.now)
        elif reaches and ask is not None:
            self.robot.answer(ask, self.now)
        self.states.append((self.now, self.robot.state(self.now)))
        return self.states[-1][1]


@examples(150)
@given(ATTACKS)
def test_a_driver_believes_only_what_was_made_a_moment_ago_and_is_never_locked_out(
    attacks: list[tuple[str, int]],
) -> None:
    yesterday, today = Talk(0.0), Talk(86_400.0)
    for _ in range(20):
        yesterday.driver.hear(yesterday.step(reaches=True), yesterday.now)
    yesterday.states.append((yesterday.now, yesterday.robot.last_will(1)))
    believed = 0.0
    for kind, which in attacks:
        state = today.step(reaches=kind != "nothing")
        recorded = yesterday.states + today.states
        made, said = (today.now, state) if kind == "all" else recorded[which % len(recorded)]
        if kind != "nothing" and today.driver.hear(said, today.now):
            assert today.now - made <= MOST_AGE
            assert made > believed, "each counts once, and no later one came before it"
            believed = made
        assert not today.driver.is_gone
    heard = [today.driver.hear(today.step(reaches=True), today.now) for _ in range(6)]
    assert heard[-1], "once the attack ends the robot is heard again"
    assert today.driver.robot is not None
    assert today.driver.robot.session == today.robot.session


@examples(60)
@given(
    st.lists(st.tuples(st.sampled_from(["command", "again", "gone", "gone again"]), st.integers(0, 60)), max_size=60)
)
def test_whatever_is_said_to_be_gone_no_action_is_done_twice(said: list[tuple[str, int]]) -> None:
    talk, done, lives = Talk(0.0), list[str](), count(1)
    talk.robot.prepare(tenuto.load_profile(shipped("medlar-lift.toml")).plan())
    horn = DRIVING._replace(actions=("horn",), time=0.2)
    talk.driver.hear(talk.step(reaches=True), talk.now)
    first = talk.driver.command(horn, talk.now)
    assert first is not None
    sent, gone = [first], list[DriverGone]()
    for kind, which in [("command", 0), *said]:
        talk.now += 0.01
        if kind == "command":
            talk.driver.hear(talk.step(reaches=True), talk.now)
            command = talk.driver.command(DRIVING._replace(time=talk.now), talk.now)
            assert command is not None
            sent.append(command)
        elif kind == "gone":
            gone.append(DriverGone(driver="shed", run=talk.driver.run, life=next(lives)))
            talk.robot.gone(gone[-1], talk.now)
        elif gone:
            assert not talk.robot.gone(gone[which % len(gone)], talk.now), "each last will counts once"
        talk.robot.take(sent[-1] if kind == "command" else sent[which % len(sent)], talk.now)
        done += [name for name, value in talk.robot.values().items() if name.endswith("horn") and value]
    assert len(done) <= 1


class RadioRobot:
    """A robot with signed frames, by the rules of docs/protocols.md and by nothing of the library's own robot."""

    def __init__(self, session: int, began: float) -> None:
        self.session, self.began = session, began
        self.finder = FrameFinder(SIGNED_COMMAND, KEY)
        self.newest, self.at, self.asked = (0, 0), -9.0, (0, 0)
        self.followed = STANDSTILL
        self.answers = list[tuple[float, bytes]]()

    def take(self, data: bytes, now: float) -> None:
        for frame, seal in self.finder.feed(data):
            assert isinstance(frame, CommandFrame)
            assert isinstance(seal, Seal)
            free = now - self.at >= 1.0
            in_turn = seal.number > self.newest[1] if seal.run == self.newest[0] else free
            if seal.session == self.session and in_turn and 0.0 <= now - self.began - seal.heard / 1000.0 <= 0.5:
                self.newest, self.at, self.followed = (seal.run, seal.number), now, frame.command
                self.asked = self.newest
            elif free:
                self.asked = (seal.run, seal.number)

    def answer(self, now: float) -> bytes:
        seal = AnswerSeal(self.session, round(1000.0 * (now - self.began)), *self.asked)
        data = sign_answer(AnswerLine(0, 0, 0, 12.0, (), ()), seal, KEY)
        self.answers.append((now, data))
        return data


@examples(100)
@given(ATTACKS)
def test_no_recorded_answer_of_a_radio_is_believed_or_locks_the_driver_out(attacks: list[tuple[str, int]]) -> None:
    """Those of yesterday are signed too, and with later times of the robot's clock."""
    now = 0.0
    old, robot = RadioRobot(5, -9_000.0), RadioRobot(6, 0.0)
    for one in (old, robot):
        form = SignedFrames(KEY, lambda: now)  # noqa: B023 the newest time is meant
        for _ in range(8 if one is old else 1):
            now += 0.1
            one.take(form.command(DRIVING, 1), now)
            form.answers(one.answer(now))
    for kind, which in attacks:
        now += 0.1
        for _ in range(3 if kind != "nothing" else 0):
            robot.take(form.command(DRIVING, 1), now)
        answer = robot.answer(now)
        recorded = [*old.answers, *robot.answers]
        made, data = (now, answer) if kind == "all" else recorded[which % len(recorded)]
        if kind != "nothing" and form.answers(data):
            assert now - made <= MOST_AGE
            assert made > 0.95
    for _ in range(12):  # a robot that was silent for a second answers whoever asks
        now += 0.1
        robot.take(form.command(DRIVING, 1), now)
        heard = form.answers(robot.answer(now))
    assert heard
    assert robot.followed.vx == pytest.approx(DRIVING.command.vx, abs=0.001)


@pytest.mark.parametrize("restarted", [False, True])
def test_two_robots_with_one_key_are_told_apart_from_one_that_was_started_again(restarted: bool) -> None:
    now, form = 0.0, SignedFrames(KEY, lambda: now)
    first, second = RadioRobot(5, 0.0), RadioRobot(6, 0.0)
    for step in range(60):
        now += 0.1
        data = form.command(DRIVING, step)
        for robot in (first, second):
            there = step >= 20 if robot is second else step < 20 or not restarted
            if there:
                robot.take(data, now)
                form.answers(robot.answer(now))
        if step == 19:
            assert first.followed.vx > 0.3
    assert bool(form.emergency) is not restarted
    assert (second.followed.vx > 0.3) is restarted
    assert restarted or first.followed == STANDSTILL or now - first.at > 0.5, "neither is driven"


@pytest.mark.port
def test_a_recorded_heartbeat_does_not_take_the_link_to_an_autopilot(tmp_path: Path) -> None:
    (tmp_path / "a.key").write_text(KEY.hex())
    (tmp_path / "a.key").chmod(0o600)
    profile, port = tenuto.load_profile(shipped("damson-guided.toml")), free_port(socket.SOCK_DGRAM)
    values = dict.fromkeys(("left_y", "left_x", "right_y", "right_x", "left_shoulder", "start", "north", "south"), 0.0)
    values |= {"east": 0.0, "back": 0.0}
    yesterday = MavlinkLink(Member(1, 1), KEY)
    recorded = [yesterday.pack(dialect.MAVLink_heartbeat_message(2, 3, 128, 4, 4, 3)) for _ in range(50)]
    bench, sink = Bench(profile), tenuto.open_sink(f"mavlink::{port},key={tmp_path / 'a.key'}")
    assert isinstance(sink, MavlinkSink)
    with (
        sink, socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as thief,
        Autopilot(profile, speaks_to=f"127.0.0.1:{port}", key=KEY) as autopilot,
    ):  # fmt: skip
        thief.setblocking(False)
        sink.start(profile.plan())
        for step in range(330):
            if step % 10 == 0 and step < 300:
                thief.sendto(recorded[step // 10], ("127.0.0.1", port))
            sink.write(bench.step(values))
            if step < 170:
                assert sink.telemetry.time == -float("inf"), "a recording is not believed"
                if step == 160:
                    assert "their sender does not answer a TIMESYNC" in sink.problem
            else:
                autopilot.step(0.02)
        assert sink.telemetry.armed is False, "as the autopilot says, and not the recording"
        assert autopilot.good > 20
        assert sink._port._udp.peer == ("127.0.0.1", autopilot.address[1])  # type: ignore[union-attr]


def test_a_key_file_keeps_its_link_its_owner_and_its_bounds(tmp_path: Path) -> None:
    run("key", "real.keys", "--driver", "shed", cwd=tmp_path)
    run("key", "real.keys", "--driver", "field", cwd=tmp_path)
    (tmp_path / "robot.keys").symlink_to("real.keys")
    assert run("key", "robot.keys", "--revoke", "shed", cwd=tmp_path).returncode == 0
    assert "shed" not in (tmp_path / "real.keys").read_text()
    assert (tmp_path / "robot.keys").is_symlink()
    own = run("key", "barn.key", "--driver", "barn", cwd=tmp_path)
    assert (own.returncode, "barn's own key would have this name too" in own.stderr) == (1, True)
    assert not (tmp_path / "barn.key").exists()
    many = tmp_path / "many.keys"
    for more, said in (
        (0, f"{MOST_DRIVERS} drivers have a key already"),
        (1, f"{MOST_DRIVERS} at most can have a key"),
    ):
        many.write_text("".join(f"d{number} {KEY.hex()}\n" for number in range(MOST_DRIVERS + more)))
        many.chmod(0o600)
        full = run("key", "many.keys", "--driver", "shed", cwd=tmp_path)
        assert (full.returncode, said in full.stderr) == (1, True), full.stderr
    for place, secret in ((f"udp:localhost:14660,key={KEY.hex()}", KEY.hex()), ("mqtt:u:pears@shed/medlar", "pears")):
        with pytest.raises(tenuto.SinkError) as refused:
            tenuto.open_sink(place)
        assert secret not in str(refused.value), "a secret is never printed"


texts = st.text(st.characters(codec="utf-8", exclude_characters="\0"), min_size=1, max_size=30) | st.sampled_from((
    'ttyUSB0", RUN+="/bin/true', "a\nExecStartPre=/bin/true", "x\\", "root\nUser=root", "$HOME %h",
    "\N{RIGHT-TO-LEFT OVERRIDE}",
))  # fmt: skip


@examples(80)
@given(texts, st.sampled_from(["USB0", "ACM1"]) | texts, texts, texts)
@example("Cart", "USB0", "$HOME %h \\ \" '", "root\nUser=root")
def test_nothing_from_a_profile_changes_what_a_service_does(name: str, port: str, word: str, user: str) -> None:
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "cart.toml"
        text = shipped("medlar.toml").read_text().replace('name = "Medlar"', f"name = {json.dumps(name[:20])}", 1)
        file.write_text(text + f'\n[sinks.board]\nkind = "serial"\nport = {json.dumps("/dev/tty" + port)}\n', "utf-8")
        try:
            profile = tenuto.load_profile(file)
            made = service_for(profile, ["drive", str(file), "--to", word], python="/usr/bin/python3", user="picker")
        except TenutoError:
            return
        keys = [line.partition("=")[0] for line in made.unit.splitlines() if "=" in line and not line.startswith("#")]
        assert keys == [
            "Description", "StartLimitIntervalSec", "ExecStart", "WorkingDirectory", "User", "SupplementaryGroups",
            "Environment", "Restart", "RestartSec", "KillSignal", "KillMode", "TimeoutStopSec", "WantedBy",
        ]  # fmt: skip
        assert not any(line.endswith("\\") for line in made.unit.splitlines())
        # The words of the command, read as systemd.service(5) has it, are those that were asked for.
        line = next(line for line in made.unit.splitlines() if line.startswith("ExecStart="))
        assert not re.search(r"[%$]", line.replace("%%", "").replace("$$", "")), "nothing is put in by systemd"
        words = re.findall(r'"(?:[^"\\]|\\.)*"|\S+', line.removeprefix("ExecStart="))
        bare = (re.sub(r"\\(.)", r"\1", one[1:-1]) if one.startswith('"') else one for one in words)
        plain = [one.replace("%%", "%").replace("$$", "$") for one in bare]
        assert plain[-1] == word
        assert made.rules.count("\n") == made.rules.count("SUBSYSTEM") * 2
        assert re.search(r'KERNEL=="tty[A-Za-z0-9_.-]+", GROUP="dialout", MODE="0660", ENV', made.rules)
    with pytest.raises(TenutoError, match="expected the name of an account"):
        service_for(profile, ["drive"], python="python3", user=user + "\n" if user.isascii() else user)


def test_held_sticks_do_not_move_the_second_of_two_robots() -> None:
    """The loop enters an emergency stop by `Sink.emergency`; here for a robot over a network."""
    talk, other = Talk(0.0), RobotEnd()
    moved = list[VelocityCommand]()
    for step in range(80):
        state = talk.step(reaches=True)
        talk.driver.hear(state, talk.now)
        command = talk.driver.command(Bench().run(0.1, pad()) if step < 2 else DRIVING, talk.now)
        assert command is not None
        if step > 30:
            other.take(command, talk.now)
            talk.driver.hear(other.state(talk.now), talk.now)
        if step > 34:
            assert "two robots answer here" in talk.driver.emergency(talk.now)
            moved.append(VelocityCommand(command.vx, command.vy, command.vz, command.yaw_rate))
            assert not command.drives
    assert set(moved) == {STANDSTILL}
