"""The accepted commands of a driver's machine: none that is old, of another session or driver, or invalid."""

import json
import math
from itertools import pairwise
from pathlib import Path

import jsonschema
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

import tenuto
from helpers import MEDLAR, Bench, examples, pad
from tenuto import Frame, Pipeline, State, VelocityCommand
from tenuto.data import shipped
from tenuto.driving.follow import AXES, follow_plan
from tenuto.protocols.brokered import open_command, open_gone, open_state, seal_command, sign_gone, sign_state
from tenuto.protocols.compact import pack_command, unpack_command
from tenuto.protocols.fresh import LET_GO_AFTER, MOST_AGE
from tenuto.protocols.remote import (
    MESSAGES,
    DriverGone,
    FiredAction,
    RemoteAsk,
    RemoteCommand,
    RemoteState,
    read_json,
    read_line,
)
from tenuto.protocols.remote_ends import DriverEnd, RobotEnd
from tenuto.vehicles.velocity import STANDSTILL

SCHEMAS = Path(__file__).parents[1] / "docs/schemas"
DRIVING = Bench().drive(1.0)


def meet(robot: RobotEnd, driver: DriverEnd, now: float, driver_s: float | None = None) -> None:
    """Let a driver's machine ask, and hear the robot's state at once; each by its own clock."""
    ask = driver.ask(now if driver_s is None else driver_s)
    if ask is not None:
        robot.answer(ask, now)
    driver.hear(robot.state(now), now if driver_s is None else driver_s)


@examples(200)
@given(st.lists(st.tuples(st.floats(0.0, 3.0), st.booleans()), min_size=5, max_size=60), st.floats(0.0, 0.6))
def test_whatever_a_queue_does_nothing_old_counts(queued: list[tuple[float, bool]], back: float) -> None:
    """Commands leave every 50 ms, with different delays, and some arrive twice. States are delayed too."""
    robot, driver, robot_clock = RobotEnd(), DriverEnd("shed"), 1000.0
    on_the_way: list[tuple[float, float, RemoteCommand]] = []
    asked: list[tuple[float, RemoteAsk]] = []
    for step, (delay, twice) in enumerate(queued):
        sent = 0.05 * step
        if (ask := driver.ask(sent)) is not None:
            asked.append((sent, ask))
        made = sent - back  # the state that comes now: it answers what had come by then
        for at, ask in asked:
            if at <= made:
                robot.answer(ask, robot_clock + at)
        believed = driver.hear(robot.state(robot_clock + made), sent)
        assert not believed or back <= MOST_AGE
        command = driver.command(DRIVING, sent)
        if command is not None:
            on_the_way += [(sent + delay, sent, command)] * (1 + twice)
    numbers = []
    for comes, sent, command in sorted(on_the_way, key=lambda one: one[:2]):
        if not robot.take(command, robot_clock + comes):
            assert comes - sent + back <= MOST_AGE + 1e-6
            numbers.append(command.number)
    gaps = [b - a for a, b in pairwise(numbers)]
    assert all(gap > 0 for gap in gaps)
    if back + max(delay for delay, _ in queued) < 0.04:
        assert len(numbers) >= len(queued) - 1  # and those in time are accepted


def test_one_driver_has_the_robot_until_it_lets_go_or_is_gone() -> None:
    robot = RobotEnd()
    shed, field = DriverEnd("shed"), DriverEnd("field")

    def sent(driver: DriverEnd, now: float) -> str:
        meet(robot, driver, now)
        command = driver.command(DRIVING, now)
        assert command is not None
        return robot.take(command, now)

    assert sent(shed, 1.0) == ""
    assert sent(field, 1.0 + 0.9 * LET_GO_AFTER) == "another driver has the robot"
    assert sent(field, 1.1 + LET_GO_AFTER) == ""
    now = 1.1 + LET_GO_AFTER
    assert robot.gone(DriverGone(driver="shed", run=shed.run, life=1), now) is False
    assert robot.gone(DriverGone(driver="field", run=shed.run, life=1), now) is False, "of an earlier program"
    assert robot.gone(DriverGone(driver="field", run=field.run, life=1), now) is True
    assert robot.gone(DriverGone(driver="field", run=field.run, life=1), now) is False, "each counts once"
    assert sent(shed, now + 0.1) == "another driver has the robot", "until what field has sent is too old"
    assert sent(shed, now + MOST_AGE + 0.01) == ""
    fresh = RobotEnd()  # the robot's program was restarted
    old = shed.command(DRIVING)
    assert old is not None
    assert fresh.take(old, 2.3) == "it is for an earlier session"


@given(st.lists(st.tuples(st.booleans(), st.booleans(), st.floats(0.0, 0.45) | st.floats(0.55, 0.7)), min_size=1))
def test_somebody_else_stops_a_robot_and_changes_nothing_else(said: list[tuple[bool, bool, float]]) -> None:
    """A driver keeps sending; a teacher requests stops, some of them too late to count."""
    robot, driver, teacher = RobotEnd(), DriverEnd("learner"), DriverEnd("teacher")
    tick, now, expected = Bench().drive(0.5), 1.0, False
    for end in (driver, teacher):
        meet(robot, end, now)
    first = driver.command(tick, now)
    assert first is not None
    assert robot.take(first, now) == ""
    for stops, drives, late in said:
        now += 0.02
        for end in (driver, teacher):
            meet(robot, end, now)
        asked = teacher.emergency_stop(now)
        assert asked is not None
        if stops:
            now += late
            assert robot.take(asked, now) == ("it is too old" if late > MOST_AGE else "another driver has the robot")
            expected = expected or late <= MOST_AGE
        meet(robot, driver, now)
        command = driver.command(tick, now)
        assert command is not None
        assert robot.take(command, now) == ""
        if drives:  # a tick comes
            values = robot.values()
            assert (values["vx"], values["hold_to_run"]) == (command.vx, 1.0)
            assert values["emergency_stop"] == float(expected)
            expected = False
        assert robot.driver == "learner"


def test_after_a_month_a_session_is_renewed() -> None:
    robot, driver = RobotEnd(), DriverEnd("shed")
    first = robot.session
    for now, renewed in ((1.0, False), (2.9e6, False), (3.1e6, True), (5.9e6, True)):
        meet(robot, driver, now)
        command = driver.command(DRIVING, now)
        assert command is not None
        assert robot.take(command, now + 0.02) == ""
        assert unpack_command(pack_command(command), "shed") is not None
        assert (robot.session != first) is renewed


@given(st.one_of(st.binary(max_size=80), st.text(max_size=80).map(str.encode)))
def test_garbled_messages_are_none(data: bytes) -> None:
    assert read_json(RemoteCommand, data) is None
    assert len(data) == 44 or unpack_command(data, "shed") is None


speeds = st.floats(-8.0, 8.0, width=32)


names = st.text(min_size=1, max_size=40)
levels = st.dictionaries(names, st.floats(-1.0, 1.0, width=32), max_size=16)
fired = st.lists(st.builds(FiredAction, name=names, number=st.integers(0, 2**32 - 1)), max_size=16)


@given(speeds, speeds, speeds, speeds, st.booleans(), st.integers(1, 60_000), st.integers(0, 2**32 - 1), levels, fired)
def test_json_keeps_to_its_schema_and_the_compact_form_says_the_same(
    vx: float, vy: float, vz: float, yaw_rate: float, drives: bool, valid_ms: int, number: int,
    outputs: dict[str, float], actions: list[FiredAction],
) -> None:  # fmt: skip
    command = RemoteCommand(
        session="0123456789abcdef", heard=12.345, run="fedcba9876543210", number=number, driver="shed",
        drives=drives, emergency=not drives,
        vx=vx, vy=vy, vz=vz, yaw_rate=yaw_rate, valid_ms=valid_ms, outputs=outputs, actions=actions,
    )  # fmt: skip
    packed = pack_command(command)
    assert unpack_command(packed, "shed") == command
    assert unpack_command(packed[:-1], "shed") is unpack_command(packed + b"x", "shed") is None
    named = [*outputs, *(action.name for action in actions)]
    assert len(packed) == 44 + 2 * bool(named) + sum(5 + len(name.encode()) for name in named)  # as docs/protocols.md
    text = command.model_dump_json()
    assert read_json(RemoteCommand, text.encode()) == command
    jsonschema.validate(json.loads(text), json.loads((SCHEMAS / "command.json").read_text()))
    for key, wrong in (("vx", math.nan), ("vx", "1"), ("format", 1), ("session", "no"), ("more", 1)):
        assert read_json(RemoteCommand, json.dumps(json.loads(text) | {key: wrong}).encode()) is None


def test_the_schemas_in_the_docs_are_those_of_the_messages() -> None:
    for name, kind in MESSAGES.items():
        assert json.loads((SCHEMAS / f"{name}.json").read_text()) == kind.model_json_schema()
    robot = RobotEnd()
    robot.tell(DRIVING)
    state = robot.state(3.0)
    jsonschema.validate(json.loads(state.model_dump_json()), json.loads((SCHEMAS / "state.json").read_text()))


class Pair:
    """A driver's pipeline and a robot's, with messages that arrive at once."""

    def __init__(self, profile: tenuto.Profile) -> None:
        self.bench = Bench(profile)
        self.robot, self.driver = RobotEnd(), DriverEnd("shed")
        self.robot.prepare(profile.plan())
        self.follower = Pipeline(follow_plan(profile.plan(), self.robot.controls))
        self.last = self.follower.step(None, 0.0)

    def step(self, values: dict[str, float], heard: bool = True) -> tenuto.Tick:
        tick = self.bench.step(values)
        self.hear(tick.time)
        command = self.driver.command(tick)
        assert command is not None
        self.take(command if heard else None, tick.time)
        return self.last

    def hear(self, now: float) -> None:
        self.robot.tell(self.last)
        meet(self.robot, self.driver, now)

    def take(self, command: RemoteCommand | None, now: float) -> bool:
        """Let the robot take a step, with a command or without; return whether it was accepted."""
        counts = command is not None and not self.robot.take(command, now)
        self.last = self.follower.step(Frame(now, self.robot.values()) if counts else None, now)
        return counts


@pytest.mark.long
@pytest.mark.parametrize("robot", ["medlar", "quince", "sorrel", "damson"])
def test_every_robot_does_at_the_far_end_what_it_does_at_hand(robot: str) -> None:
    profile = tenuto.load_profile(shipped(f"{robot}.toml"))
    course = {"medlar": "orchard-row", "damson": "damson-flight"}.get(robot, f"{robot}-course")
    near = tenuto.replay(profile, shipped(f"{course}.csv"))
    end, driver = RobotEnd(), DriverEnd("shed")
    end.prepare(profile.plan())
    pipeline = Pipeline(follow_plan(profile.plan(), end.controls))
    moved, fired = 0, []
    for tick in near:
        meet(end, driver, tick.time)
        command = driver.command(tick)
        values = None if command is None or end.take(command, tick.time) else end.values()
        there = pipeline.step(Frame(tick.time, values) if values else None, tick.time)
        fired += [there.actions] if there.actions else []
        if tick.guard.state is State.DRIVING and there.guard.state is State.DRIVING:
            moved += tick.command != STANDSTILL
            assert there.command == pytest.approx(tick.command, abs=0.06)
            for name, value in there.actuators.items():
                assert value == pytest.approx(tick.actuators[name], abs=0.06 * (1 + abs(tick.actuators[name])))
        if tick.command == STANDSTILL:
            assert there.command == pytest.approx(STANDSTILL, abs=0.06)
    assert moved > 200
    assert fired == [tick.actions for tick in near if tick.actions]


def test_a_link_that_comes_back_moves_nothing_before_somebody_has_let_go() -> None:
    pair, held = Pair(MEDLAR), pad(1.0, held=True)
    for values, steps in ((pad(), 5), (pad(held=True), 5), (held, 60)):
        for _ in range(steps):
            pair.step(values)
    assert pair.last.command.vx == pytest.approx(pair.bench.ticks[-1].command.vx, abs=0.03)
    for _ in range(80):
        pair.step(held, heard=False)
    assert pair.last.command == STANDSTILL
    assert pair.last.guard.reasons[0].code == "link_quiet"
    for _ in range(100):
        assert pair.step(held).command == STANDSTILL
    assert "hold_to_run must be pressed again" in str(pair.driver.telemetry().reasons)
    for values, steps in ((pad(), 60), (pad(held=True), 5), (held, 60)):
        for _ in range(steps):
            pair.step(values)
    assert pair.last.command.vx > 0.5


LIFT = tenuto.load_profile(shipped("medlar-lift.toml"))
LET_GO = {
    one.reads: (one.travel.low if one.travel.centre is None else one.travel.centre) for one in LIFT.plan().controls
}
HELD = LET_GO | {"left_shoulder": 1.0}


def test_outputs_are_switched_at_the_far_end_and_rest_or_stay_as_its_own_profile_says() -> None:
    pair = Pair(LIFT)

    def hands(steps: int, heard: bool = True, **pressed: float) -> dict[str, float]:
        for _ in range(steps):
            pair.step((HELD if pressed.pop("held", 1.0) else LET_GO) | pressed, heard)
        return dict(pair.last.outputs)

    hands(5, held=0.0)
    assert hands(20) == {"lift": 0.06, "gripper": 0.0, "lamp": 0.0, "reversing_beeper": 0.0}
    hands(5, right_shoulder=1.0)
    lifting = hands(5, right_trigger=32767.0)
    assert (lifting["lift"], lifting["gripper"]) == (0.8, 1.0)
    assert hands(50, heard=False, right_trigger=32767.0) == lifting | {"lift": 0.06}  # it only holds
    other = Pair(LIFT)
    other.follower, other.robot = Pipeline(follow_plan(MEDLAR.plan())), RobotEnd()
    for _ in range(10):
        other.step(LET_GO)
    assert "no output or action lift, gripper, lamp, reversing_beeper" in other.driver.problem(other.bench.now)


@pytest.mark.long
@examples(30)
@given(st.lists(st.tuples(st.integers(4, 12), st.integers(0, 25)), min_size=1, max_size=8))
def test_an_action_is_done_once_and_never_late(horns: list[tuple[int, int]]) -> None:
    """The horn is pressed and released, for some steps each; then the line is cut for some steps during a press."""
    pair = Pair(LIFT)
    for _ in range(5):
        pair.step(LET_GO)
    fired, done = list[float](), list[float]()
    for press, cut in horns:
        for step in range(2 * press + cut):
            there = pair.step(LET_GO | {"left_stick": float(step < press)}, heard=step >= cut)
            fired += [pair.bench.now] * len(pair.bench.ticks[-1].actions)
            done += [pair.bench.now] * len(there.actions)
    assert len(fired) == len(horns)
    cuts = [cut for _, cut in horns]
    valid_for, period = LIFT.plan().guard.command_timeout, LIFT.plan().period
    assert all(any(0.0 <= there - here <= valid_for + 2 * period for here in fired) for there in done)
    assert len(done) <= len(fired)
    if max(cuts) * period < valid_for:
        assert len(done) == len(fired)


def test_an_emergency_stop_outlives_the_program_of_the_driver() -> None:
    pair = Pair(LIFT)

    joined = ""

    def hands(steps: int, **pressed: float) -> State:
        nonlocal joined
        for _ in range(steps):
            if pair.driver.emergency(pair.bench.now) and not joined:  # only a new one, as in the loop
                pair.bench.pipeline.emergency_stop(pair.driver.emergency(pair.bench.now))
            joined = pair.driver.emergency(pair.bench.now)
            pair.step(LET_GO | pressed)
        return pair.last.guard.state

    hands(5)
    assert hands(5, east=1.0) is State.EMERGENCY_STOP
    pair.bench, pair.driver, joined = Bench(LIFT), DriverEnd("shed"), ""  # restarted with the same name
    pair.bench.now = 0.3
    pair.hear(0.3)
    assert pair.driver.emergency(0.3) == "it is in an emergency stop"
    assert hands(100) is State.EMERGENCY_STOP
    assert pair.bench.ticks[-1].guard.state is State.EMERGENCY_STOP
    assert hands(20, start=1.0) is State.NOT_ENABLED
    assert (hands(20), pair.driver.emergency(pair.bench.now)) == (State.NOT_ENABLED, "")


def test_an_emergency_stop_is_one_at_the_robot_too_and_far_too_fast_is_a_fault() -> None:
    text = shipped("medlar.toml").read_text().replace("[guard]", '[guard]\nemergency_stop = "north"\nreset = "south"')
    pair, off = Pair(tenuto.parse_profile(text)), {"north": 0.0, "south": 0.0}
    for values, steps in ((pad(), 5), (pad(held=True), 5), (pad(1.0, held=True), 60)):
        for _ in range(steps):
            pair.step(values | off)
    stopped = pair.step(pad(1.0, held=True) | off | {"north": 1.0})
    assert (stopped.guard.state, stopped.power, stopped.command) == (State.EMERGENCY_STOP, False, STANDSTILL)
    for values, steps in ((off, 5), (off | {"south": 1.0}, 5), (off, 5)):
        for _ in range(steps):
            pair.step(pad() | values)
    assert pair.last.guard.state is State.NOT_ENABLED
    for values, steps in ((pad(held=True), 5), (pad(1.0, held=True), 60)):
        for _ in range(steps):
            pair.step(values | off)
    assert pair.last.command.vx > 0.5
    command = pair.driver.command(pair.bench.ticks[-1])
    assert command is not None
    now = pair.bench.now + 0.02
    wild = pair.follower.step(Frame(now, pair.robot.values() | {"vx": 9.0}), now)
    assert wild.guard.state is State.STOPPING


@given(st.builds(VelocityCommand, speeds, speeds, speeds, speeds))
def test_what_is_too_fast_for_the_robot_keeps_its_arc(velocity: VelocityCommand) -> None:
    plan = follow_plan(MEDLAR.plan())
    style, speeds = plan.style, plan.speeds
    positions = {axis: getattr(velocity, axis) / style.ends[axis] for axis in AXES}  # type: ignore[attr-defined]
    found = style.demand(style.intent(positions), speeds, plan.selection, positions)  # type: ignore[arg-type]
    assert all(abs(axis) <= most + 1e-9 for axis, most in zip(found, speeds.along(found), strict=True))
    if velocity != STANDSTILL:
        share = max(map(abs, found)) / max(map(abs, velocity))
        assert tuple(found) == pytest.approx(tuple(share * axis for axis in velocity), abs=1e-6)


# The state of the link for some steps of 20 ms: all messages arrive; none does; they are queued; they stay queued while
# the driver's machine is silent; the queued ones arrive at once, and no others.
WAYS = st.lists(
    st.tuples(st.sampled_from(["open", "cut", "queue", "hold", "late"]), st.integers(5, 60)), min_size=2, max_size=8
)
HOLDS = st.lists(st.tuples(st.booleans(), st.integers(10, 80)), min_size=2, max_size=8)


@pytest.mark.long
@examples(35)
@example([("open", 15), ("cut", 10), ("open", 9)], [(False, 25), (True, 10)])  # released and held again, not received
@example([("queue", 90), ("hold", 50), ("late", 5)], [(False, 40), (True, 80)])  # a complete start, a second late
@given(WAYS, HOLDS)
def test_whatever_the_network_does_the_robot_moves_only_by_a_hand_that_was_there_a_moment_ago(
    ways: list[tuple[str, int]], holds: list[tuple[bool, int]]
) -> None:
    """The driver holds, and pushes the stick a moment later, or releases. The test begins with a good drive."""
    pair = Pair(MEDLAR)
    way = ["open"] * 60 + [kind for kind, steps in ways for _ in range(steps)]
    hold = [False] * 10 + [True] * 50 + [held for held, steps in holds for _ in range(steps)]
    queue: list[RemoteCommand | None] = []
    pushed_at = stopped_at = let_go_at = 0.0
    for step, kind in enumerate(way):
        held, before_that = (hold[min(max(step - back, 0), len(hold) - 1)] for back in (0, 8))
        tick = pair.bench.step(pad(1.0 if held and before_that else 0.0, held=held))
        now = tick.time
        if kind == "open":  # the robot's own state needs the link too
            pair.hear(now)
        command = pair.driver.command(tick)
        queue += [command] if command is not None and kind in ("open", "queue") else []
        pushed_at = now if tick.command != STANDSTILL and kind in ("open", "queue") else pushed_at
        came: list[RemoteCommand | None] = queue if kind in ("open", "late") else []
        queue = queue if kind in ("queue", "hold") else []
        before = pair.last
        for one in came or [None]:
            now += 1e-6
            counts = pair.take(one, now)
            let_go_at = now if counts and one is not None and not one.drives else let_go_at
        if before.guard.state is State.DRIVING and pair.last.guard.state is not State.DRIVING:
            stopped_at = now
        if before.command == STANDSTILL and pair.last.command != STANDSTILL:
            assert let_go_at >= stopped_at  # after each stop of its guard a release comes before it moves again
        if pair.last.guard.state is State.DRIVING and pair.last.command != STANDSTILL:
            assert now - pushed_at <= MOST_AGE + MEDLAR.guard.link_timeout + 0.021
        if step == 59:
            assert pair.last.command.vx > 0.2


@examples(100)
@given(st.data(), st.binary(max_size=60))
def test_nothing_that_a_broker_makes_of_a_command_or_a_state_counts(data: st.DataObject, noise: bytes) -> None:
    keys, driver = {"shed": bytes(range(32)), "field": bytes(range(1, 33))}, DriverEnd("shed")
    end = RobotEnd()
    ask = driver.ask(1.0)
    assert ask is not None
    end.answer(ask, 1.0)
    state = end.state(1.0)
    gone = DriverGone(driver="shed", run=driver.run, life=1)
    will = sign_gone(gone, "here", [keys["shed"]])
    assert open_gone(will, "here", keys) == gone
    signed = sign_state(state, "here", keys)
    assert open_state(signed, "here", "shed", keys["shed"]) == read_line(RemoteState, signed) == state
    assert driver.hear(state, 1.0)
    command = driver.command(DRIVING, 1.0)
    assert command is not None
    sealed = seal_command(command, "here", keys["shed"])
    assert open_command(sealed, "here", keys) == command

    def dropped(changed: bytes) -> bool:
        opened = open_state(changed, "here", "shed", keys["shed"])
        no_will = open_gone(changed, "here", keys) in (None, gone)
        return isinstance(open_command(changed, "here", keys), str) and opened in (None, state) and no_will

    for whole in (sealed, signed, will):
        place, bit = data.draw(st.integers(0, len(whole) - 1)), data.draw(st.integers(0, 7))
        assert dropped(whole[:place] + bytes([whole[place] ^ 1 << bit]) + whole[place + 1 :])
        assert dropped(whole[: data.draw(st.integers(0, len(whole) - 1))])
    assert dropped(noise)
    assert isinstance(open_command(sealed, "there", keys), str), "it is for another robot"
    assert isinstance(open_command(seal_command(command, "here", keys["field"]), "here", keys), str)
    assert open_command(sealed, "here", {}) == "a command of shed, who has no key here"
    assert open_state(signed, "here", "shed", keys["field"]) is None
    assert open_gone(will, "there", keys) is open_gone(will, "here", {"shed": keys["field"]}) is None
    assert open_gone(gone.model_dump_json().encode(), "here", keys) is None, "it has no signature"
    assert sign_state(state, "here", dict(keys, **{f"d{n}": bytes(32) for n in range(62)})).count(b"\n") == 1


def test_a_last_will_reads_nothing_that_changes_meanwhile() -> None:
    """The thread of the connection makes it, while the loop takes commands."""
    end = RobotEnd()
    end._askers = end._lacks = end._newest = end.tick = None  # type: ignore[assignment]
    assert (end.last_will(3).session, end.last_will(3).state, end.last_will(3).life) == (end.session, "gone", 3)
