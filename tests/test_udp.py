"""Without the key no packets drive a robot: forged, repeated, cut, reordered, foreign, or a flood."""

import random
import socket
from collections.abc import Iterator
from contextlib import suppress
from functools import partial
from pathlib import Path

import pytest
from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey, X25519PublicKey
from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from brokers import NOT_PRESSED, DatagramRelay, Robot, Station, free_port, wait_for
from helpers import examples, pad, run
from tenuto import SimulatedClock, State
from tenuto.data import shipped
from tenuto.links.key_file import make_key
from tenuto.protocols.fresh import LET_GO_AFTER
from tenuto.protocols.sealed import WINDOW, DriverHandshake, RobotHandshake, Session
from tenuto.sources.udp import UdpSource
from tenuto.vehicles.velocity import STANDSTILL

pytestmark = pytest.mark.port

KEY, OTHER = bytes(range(32)), bytes(range(1, 33))


def a_session(key: bytes = KEY) -> tuple[Session, Session]:
    """The driver's and the robot's end of a session."""
    driver, robot = DriverHandshake(key, "shed"), RobotHandshake(key)
    welcome = robot.hello(driver.hello(), 0.0)
    assert welcome is not None
    session = driver.welcome(welcome)
    assert session is not None
    first = robot.first(session.seal(b""))
    assert first is not None
    return session, first[0].session


@examples(60)
@given(st.randoms(use_true_random=False), st.lists(st.binary(max_size=60), min_size=1, max_size=40))
def test_each_datagram_counts_once_and_only_as_it_was_made(chance: random.Random, messages: list[bytes]) -> None:
    driver, robot = a_session()
    made = [driver.seal(message) for message in messages]
    order = list(range(len(made)))
    chance.shuffle(order)
    opened: dict[int, bytes] = {}
    newest = -1
    for index in order:
        broken = bytearray(made[index])
        broken[chance.randrange(len(broken))] ^= 1 << chance.randrange(8)
        assert robot.open(bytes(broken)) is None
        assert robot.open(made[index][: chance.randrange(len(made[index]))]) is None
        data = robot.open(made[index])
        if newest - index < WINDOW:
            assert data == messages[index]
            opened[index] = data
        assert robot.open(made[index]) is None  # a second time
        assert driver.open(made[index]) is None  # nor is a sent datagram an answer
        newest = max(newest, index)
    assert len(opened) == len(made)


def test_what_is_of_another_session_key_or_time_is_nothing() -> None:
    driver, robot = a_session()
    foreign, _ = a_session()
    unkeyed, _ = a_session(OTHER)
    old = driver.seal(b"old")
    for _ in range(WINDOW):
        assert robot.open(driver.seal(b"new")) == b"new"
    assert [robot.open(one) for one in (old, foreign.seal(b"x"), unkeyed.seal(b"x"), b"", b"T\x13")] == [None] * 5
    asking, welcoming = DriverHandshake(KEY, "shed"), RobotHandshake(KEY)
    hello = asking.hello()
    assert RobotHandshake(OTHER).hello(hello, 0.0) is None
    answers = [welcoming.hello(hello, 0.01 * step) for step in range(100)]  # one hello, replayed
    assert [answer is not None for answer in answers] == [True, *[False] * 99]
    asked = [(asking.hello(), 1.0 + 0.01 * step) for step in range(60)]
    answers = [welcoming.hello(*one) for one in asked]
    assert sum(answer is not None for answer in answers) == 10, "so many new ones a second"
    overheard = [welcoming.hello(one, 60.0 + 0.001 * step) for step, (one, _) in enumerate(asked[:10] * 100)]
    assert set(overheard) == {None}
    answers = [welcoming.hello(asking.hello(), 61.5)]
    assert answers[0] is not None, "whoever repeats what was overheard keeps nobody out"
    stale = asking.welcome(answers[0])
    assert stale is not None
    answers += [welcoming.hello(DriverHandshake(KEY, "shed").hello(), 62.7) for _ in range(4)]
    # No datagram of an old session opens the one that a repeated hello offers.
    assert welcoming.first(driver.seal(b"drive")) is None
    assert asking.welcome(answers[0]) is None  # a welcome counts once
    assert asking.welcome(answers[1] or b"") is None  # and only for the sender of the hello
    assert welcoming.first(stale.seal(b"")) is None  # and only the newest few sessions wait for their first data


def test_a_driver_written_from_the_docs_is_understood_and_the_key_alone_opens_nothing() -> None:
    """All of docs/protocols.md again, with the package cryptography alone."""

    def cipher(secret: bytes, salt: bytes | None, info: str) -> ChaCha20Poly1305:
        return ChaCha20Poly1305(HKDF(SHA256(), 32, salt, b"tenuto 1 " + info.encode()).derive(secret))

    robot, own, handshake = RobotHandshake(KEY), X25519PrivateKey.generate(), cipher(KEY, None, "handshake")
    public = own.public_key().public_bytes_raw()
    forcing, hello = (
        b"T\x11" + nonce + handshake.encrypt(nonce, one + b"shed", b"T\x11")
        for nonce, one in ((bytes(12), bytes(32)), (b"a new nonce.", public))
    )
    assert robot.hello(forcing, 0.0) is None  # a public key that forces the shared secret
    welcome = robot.hello(hello, 0.0)
    assert welcome is not None
    said = handshake.decrypt(welcome[2:14], welcome[14:], b"T\x12")
    assert (said[:32], len(said)) == (public, 68)
    agreed = own.exchange(X25519PublicKey.from_public_bytes(said[32:64]))
    header = b"T\x13" + said[64:] + bytes(8)
    for secret, opens in ((KEY, False), (KEY + agreed, True)):
        to_robot = cipher(secret, said[:64], "to robot")
        first = robot.first(header + to_robot.encrypt(bytes(12), b"drive", header))
        assert (first is not None) is opens
    assert first is not None
    assert (first[0].driver, first[1]) == ("shed", b"drive")
    answer = first[0].session.seal(b"state")
    assert cipher(KEY + agreed, said[:64], "to driver").decrypt(bytes(12), answer[14:], answer[:14]) == b"state"


@pytest.fixture
def key(tmp_path: Path) -> str:
    make_key(str(tmp_path / "orchard.key"), tenuto.SinkError)
    return str(tmp_path / "orchard.key")


@pytest.fixture
def clock() -> SimulatedClock:
    """Both ends run on it in this process: a datagram arrives before the time advances."""
    return SimulatedClock()


@pytest.fixture
def robot(key: str, clock: SimulatedClock) -> Iterator[Robot]:
    made = Robot(UdpSource("127.0.0.1:0", key=key), clock)
    yield made
    made.close()


def address(robot: Robot) -> tuple[str, int]:
    assert isinstance(robot.source, UdpSource)
    return robot.source.address


def test_an_emergency_stop_is_on_until_a_driver_resets_it_whoever_that_is(
    robot: Robot, key: str, clock: SimulatedClock
) -> None:
    to = f"udp:127.0.0.1:{address(robot)[1]},key={key}"
    wait = partial(wait_for, clock=clock)
    first = Station(tenuto.open_sink(to), clock)
    assert wait(lambda: not first.sink.problem)
    assert first.drives(robot)
    first.hands.values = pad(1.0, held=True) | NOT_PRESSED | {"north": 1.0}
    assert wait(lambda: robot.ticks[-1].guard.state is State.EMERGENCY_STOP, 0.1)
    first.close()
    second = Station(tenuto.open_sink(to), clock)
    assert wait(lambda: second.ticks and second.ticks[-1].guard.state is State.EMERGENCY_STOP)
    assert "it is in an emergency stop" in second.ticks[-1].guard.reasons[0].text
    clock.sleep_until(clock.now() + LET_GO_AFTER + 1.0)
    assert {tick.guard.state for tick in (robot.ticks[-1], second.ticks[-1])} == {State.EMERGENCY_STOP}
    second.hands.values = pad() | NOT_PRESSED | {"south": 1.0}
    assert wait(lambda: robot.ticks[-1].guard.state is State.NOT_ENABLED)
    clock.sleep_until(clock.now() + 0.5)
    assert State.EMERGENCY_STOP not in {tick.guard.state for tick in (robot.ticks[-1], second.ticks[-1])}
    assert second.drives(robot)
    second.close()


@pytest.mark.parametrize("form", ["json", "compact"])
def test_it_drives_and_stops_when_the_line_is_cut(robot: Robot, key: str, clock: SimulatedClock, form: str) -> None:
    to, wait = f"udp:127.0.0.1:{address(robot)[1]},key={key},form={form}", partial(wait_for, clock=clock)
    station = Station(tenuto.open_sink(to), clock)
    assert wait(lambda: not station.sink.problem)
    assert station.drives(robot, -1.0)
    station.sink.close()  # without a message
    # 0.3 s of link timeout, and the ramp from at most 1.2 m/s at 1.5 m/s².
    assert wait(lambda: robot.ticks[-1].command == STANDSTILL, 0.3 + 0.8 + 0.05)
    again = Station(tenuto.open_sink(to), clock)
    assert wait(lambda: not again.sink.problem)  # another program, after the first was silent long enough
    assert again.drives(robot)
    again.close()
    station.over = True


@pytest.mark.parametrize(("loss", "delay"), [(0.25, 0.0), (0.0, 0.08), (0.2, 0.05)])
def test_over_a_line_that_loses_and_is_slow_it_is_driven_and_the_driver_knows_the_figures(
    robot: Robot, key: str, clock: SimulatedClock, loss: float, delay: float
) -> None:
    wait, line = partial(wait_for, clock=clock), DatagramRelay(address(robot), loss, delay, clock)
    station = Station(tenuto.open_sink(f"udp:127.0.0.1:{line.front.address[1]},key={key}"), clock)
    assert wait(lambda: not station.sink.problem)
    assert station.drives(robot)
    wait(lambda: False, 3.0)
    said = station.sink.telemetry
    assert said.loss == pytest.approx(loss, abs=0.12)
    assert said.round_trip == pytest.approx(2 * delay, abs=0.06)
    assert station.ticks[-1].state == "driving"
    line.cut = True  # 0.3 s of link timeout, and the ramp
    assert wait(lambda: robot.ticks[-1].command == STANDSTILL, 0.3 + 0.8 + 0.05)
    assert wait(lambda: "nothing heard of it" in station.sink.problem)
    station.close()
    line.close()


def test_over_a_line_that_is_too_slow_nothing_moves(robot: Robot, key: str, clock: SimulatedClock) -> None:
    """A command that repeats the robot's time of a second ago is too old."""
    line = DatagramRelay(address(robot), 0.0, 0.5, clock)
    station = Station(tenuto.open_sink(f"udp:127.0.0.1:{line.front.address[1]},key={key}"), clock)
    wait_for(lambda: not station.sink.problem, clock=clock)
    assert not station.drives(robot)
    assert all(tick.command == STANDSTILL for tick in robot.ticks)
    assert station.sink.problem or station.ticks[-1].state != "driving"
    station.close()
    line.close()


def test_each_driver_has_a_key_and_may_be_shut_out(tmp_path: Path, clock: SimulatedClock) -> None:
    port, wait = free_port(socket.SOCK_DGRAM), partial(wait_for, clock=clock)
    for name in ("shed", "field"):
        assert run("key", "robot.keys", "--driver", name, cwd=tmp_path).returncode == 0
    twice = run("key", "robot.keys", "--driver", "shed", cwd=tmp_path)
    assert (twice.returncode, "shed has a key already" in twice.stderr) == (1, True)
    odd = run("key", "robot.keys", "--driver", "../shed", cwd=tmp_path)
    assert (odd.returncode, "expected a name of up to 64 letters" in odd.stderr) == (1, True)
    robot = Robot(UdpSource(f"127.0.0.1:{port}", key=str(tmp_path / "robot.keys"), clock=clock), clock)
    thief = Station(tenuto.open_sink(f"udp:127.0.0.1:{port},driver=shed,key={tmp_path / 'field.key'}"), clock)
    source = robot.source
    assert isinstance(source, UdpSource)
    assert wait(lambda: "a hello of field in the name of shed" in source.end.state(source.end._alarm[0]).alarm)
    assert thief.sink.problem
    thief.close()
    station = Station(tenuto.open_sink(f"udp:127.0.0.1:{port},driver=shed,key={tmp_path / 'shed.key'}"), clock)
    assert wait(lambda: not station.sink.problem)
    assert station.drives(robot)
    assert run("key", "robot.keys", "--revoke", "shed", cwd=tmp_path).returncode == 0
    assert wait(lambda: robot.ticks[-1].command == STANDSTILL)
    assert not station.drives(robot)
    (tmp_path / "none.keys").write_text("")
    with pytest.raises(tenuto.SourceError, match="it holds no key, so nobody can drive"):
        UdpSource("127.0.0.1:0", key=str(tmp_path / "none.keys"))
    nobody = run("key", "robot.keys", "--revoke", "shed", cwd=tmp_path)
    assert (nobody.returncode, "there is no driver shed; there are field" in nobody.stderr) == (1, True)
    station.close()
    robot.close()


def test_a_robot_that_is_started_again_is_driven_again_but_not_by_itself(key: str, clock: SimulatedClock) -> None:
    port, wait = free_port(socket.SOCK_DGRAM), partial(wait_for, clock=clock)
    robot = Robot(UdpSource(f"127.0.0.1:{port}", key=key), clock)
    with pytest.raises(tenuto.SourceError, match="in use"):
        UdpSource(f"127.0.0.1:{port}", key=key)
    station = Station(tenuto.open_sink(f"udp:127.0.0.1:{port},key={key}"), clock)
    assert wait(lambda: not station.sink.problem)
    assert station.drives(robot)
    robot.close()
    assert wait(lambda: "nothing heard of it" in station.sink.problem)
    fresh = Robot(UdpSource(f"127.0.0.1:{port}", key=key), clock)
    assert wait(lambda: "must be pressed again" in str(station.sink.telemetry.reasons))
    assert all(tick.command == STANDSTILL for tick in fresh.ticks)
    assert station.drives(fresh)
    station.close()
    fresh.close()


def test_a_flood_of_forged_and_repeated_packets_delays_no_good_one_beyond_the_link_timeout(
    robot: Robot, key: str, clock: SimulatedClock
) -> None:
    station = Station(tenuto.open_sink(f"udp:127.0.0.1:{address(robot)[1]},key={key}"), clock)
    assert wait_for(lambda: not station.sink.problem, clock=clock)
    assert station.drives(robot)
    hello = DriverHandshake(bytes.fromhex(Path(key).read_text()), "spy").hello()  # like an intercepted one
    before, chance, sent = len(robot.ticks), random.Random(1), []
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as spy:

        def flood(_: float) -> None:
            for junk in (hello, b"T\x13" + chance.randbytes(90), chance.randbytes(60), b"T\x11" + chance.randbytes(80)):
                sent.append(spy.sendto(junk, address(robot)))

        end = clock.every(0.0002, flood)  # 20,000 packets a second
        clock.sleep_until(clock.now() + 1.0)
        end()
    assert len(sent) >= 20_000
    # 0.3 s without a good frame would have stopped it.
    assert len(robot.ticks) - before >= 49
    assert all(tick.command.vx > 0.4 for tick in robot.ticks[before:])
    assert robot.source.counts().bad > 100
    station.close()


def test_a_spy_who_repeats_all_that_was_sent_moves_nothing(key: str, clock: SimulatedClock) -> None:
    """A relay between them stores everything, and sends all of it again after the driver has left."""
    robot = Robot(UdpSource("127.0.0.1:0", key=key), clock)
    kept: list[bytes] = []
    driver: tuple[str, int] | None = None
    with (
        socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as relay,
        socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as outside,
    ):
        relay.bind(("127.0.0.1", 0))
        for one in (relay, outside):
            one.setblocking(False)

        def pass_on(_: float) -> None:
            nonlocal driver
            with suppress(BlockingIOError):
                while True:
                    data, driver = relay.recvfrom(2000)
                    kept.append(data)
                    outside.sendto(data, address(robot))
            with suppress(BlockingIOError):
                while driver is not None:
                    relay.sendto(outside.recv(2000), driver)

        end = clock.every(0.002, pass_on)
        station = Station(tenuto.open_sink(f"udp:127.0.0.1:{relay.getsockname()[1]},key={key}"), clock)
        assert wait_for(lambda: not station.sink.problem, clock=clock)
        assert station.drives(robot)
        end()
        assert len(kept) > 20
        station.close()
        assert wait_for(lambda: robot.ticks[-1].command == STANDSTILL, 4.0, clock)
        clock.sleep_until(clock.now() + 1.2)  # by now another driver could take it
        before = len(robot.ticks)
        for data in kept:
            outside.sendto(data, address(robot))
            clock.sleep_until(clock.now() + 0.005)
        clock.sleep_until(clock.now() + 0.3)
        assert len(robot.ticks) > before + 20
        assert all(tick.command == STANDSTILL for tick in robot.ticks[before:])
    robot.close()


def test_settings_that_let_anyone_drive_are_refused(key: str) -> None:
    for opens, text, said in (
        (tenuto.open_sink, "udp:127.0.0.1:14600", "key: expected a key file, required so that nobody else"),
        (tenuto.open_source, "udp::14600", "key: expected a key file, required so that nobody else"),
        (tenuto.open_sink, f"udp:127.0.0.1:14600,key={key},form=xml", '"json" or "compact", found "xml"'),
        (tenuto.open_sink, "udp:127.0.0.1:14600,key=none.key", "make one with: tenuto key none.key"),
        (tenuto.open_sink, f"udp:127.0.0.1,key={key}", "expected an address like"),
    ):
        with pytest.raises(tenuto.TenutoError, match=said):
            opens(text)
    profile = tenuto.parse_profile(
        shipped("medlar.toml").read_text() + f'\n[sinks.cart]\nkind = "udp"\naddress = "127.0.0.1:9"\nkey = "{key}"\n'
    )
    with tenuto.open_sinks(profile)[0] as sink:
        assert wait_for(lambda: "no answer yet" in sink.problem)
