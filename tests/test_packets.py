"""Forged, replayed, reordered, cut and foreign packets on every link with a key: none is accepted."""

import random
from collections.abc import Callable
from typing import NamedTuple

import pytest
from hypothesis import settings
from pydantic import BaseModel

from helpers import FRESH, Bench
from tenuto import VelocityCommand
from tenuto.protocols.brokered import open_command, seal_command
from tenuto.protocols.frames import SIGNED_COMMAND, CommandFrame, FrameFinder, Seal, sign_command
from tenuto.protocols.mavlink import MavlinkLink, Member, velocity_setpoint
from tenuto.protocols.page import FromServer, PageFrame
from tenuto.protocols.remote import MESSAGES, RemoteCommand, read_json
from tenuto.protocols.remote_ends import DriverEnd, RobotEnd
from tenuto.protocols.sealed import DriverHandshake, RobotHandshake, Session

KEY, OTHER = bytes(range(32)), bytes(range(1, 33))
TICK = Bench().drive(1.0)


class Link(NamedTuple):
    """One link to a robot: genuine packet number n, the same with another key, and the accepted content of bytes."""

    genuine: Callable[[int], bytes]
    foreign: Callable[[int], bytes]
    takes: Callable[[bytes], bool]


def udp() -> Link:
    def session(key: bytes) -> tuple[Session, Session]:
        driver, robot = DriverHandshake(key, "shed"), RobotHandshake(key)
        welcome = robot.hello(driver.hello(), 0.0)
        assert welcome is not None
        ours = driver.welcome(welcome)
        assert ours is not None
        first = robot.first(ours.seal(b"x"))
        assert first is not None
        return ours, first[0].session

    ours, theirs = session(KEY)
    stranger, _ = session(OTHER)
    return Link(
        lambda n: ours.seal(b"%d" % n), lambda n: stranger.seal(b"%d" % n), lambda data: theirs.open(data) is not None
    )


def brokered() -> Link:
    robot, driver = RobotEnd(), DriverEnd("shed")
    ask = driver.ask(0.0)
    assert ask is not None
    robot.answer(ask, 0.0)
    assert driver.hear(robot.state(0.0), 0.0)

    def sealed(n: int, key: bytes) -> bytes:
        command = driver.command(TICK, 0.0)
        assert command is not None
        return seal_command(command, "medlar", key)

    def takes(data: bytes) -> bool:
        command = open_command(data, "medlar", {"shed": KEY})
        return isinstance(command, RemoteCommand) and not robot.take(command, 0.1)

    return Link(lambda n: sealed(n, KEY), lambda n: sealed(n, OTHER), takes)


def radio() -> Link:
    newest = [0]

    def signed(n: int, key: bytes) -> bytes:
        return sign_command(CommandFrame(n, VelocityCommand(0.4), 0.2, True), Seal(7, 8, n + 1, 100), key)

    def takes(data: bytes) -> bool:
        counted = False
        # Packet by packet: in a stream, two halves of a genuine frame would complete it.
        for _, seal in FrameFinder(SIGNED_COMMAND, KEY).feed(data):
            assert isinstance(seal, Seal)
            counted = counted or seal.number > newest[0]
            newest[0] = max(newest[0], seal.number)
        return counted

    return Link(lambda n: signed(n, KEY), lambda n: signed(n, OTHER), takes)


def autopilot() -> Link:
    ours, stranger, theirs = (MavlinkLink(Member(255, 190), key) for key in (KEY, OTHER, KEY))

    def packed(link: MavlinkLink, n: int) -> bytes:
        return link.pack(velocity_setpoint(Member(1, 1), VelocityCommand(0.4, 0.1, 0.0, 0.2), n))

    return Link(
        lambda n: packed(ours, n), lambda n: packed(stranger, n), lambda data: bool(theirs.feed(data, whole=True))
    )


def attacked(dice: random.Random, packet: bytes, foreign: bytes, sent: list[bytes]) -> bytes:
    """Return an invalid variant of a packet."""
    place = dice.randrange(len(packet))
    return dice.choice((
        packet[:place] + bytes([packet[place] ^ 1 << dice.randrange(8)]) + packet[place + 1 :],
        packet[:place], packet[: place // 2] + packet[place:], dice.randbytes(dice.randrange(200)), foreign,
        dice.choice(sent) if sent else b"",
    ))  # fmt: skip


@pytest.mark.long
@pytest.mark.parametrize("made", [udp, brokered, radio, autopilot])
def test_no_packet_counts_but_a_genuine_one_and_that_once(made: Callable[[], Link]) -> None:
    """Some hundreds in every run; a quarter of a million on each link in make campaign."""
    link, dice = made(), random.Random(made.__name__)
    sent, taken, forged = list[bytes](), 0, 0
    for n in range(250_000 if settings().max_examples >= FRESH else 1000):
        packet = link.genuine(n)
        for _ in range(2):
            attack = attacked(dice, packet, link.foreign(n), sent)
            forged += link.takes(attack) and attack != packet
        taken += link.takes(packet)
        sent = [*sent[-200:], packet]
    assert forged == 0
    assert taken > 0.5 * (n + 1), "what is genuine does count"


@pytest.mark.parametrize("nested", [b"[" * 200_000, b'{"driver":' * 50_000, b"[" * 200_000 + b"]" * 200_000], ids=len)
def test_nested_brackets_are_no_message_of_anybody(nested: bytes) -> None:
    """Whoever may write to a broker could end a robot's program with them, and each restart if they were retained."""
    kinds: list[type[BaseModel]] = [*MESSAGES.values(), PageFrame, FromServer]
    assert all(read_json(kind, nested) is None for kind in kinds)
