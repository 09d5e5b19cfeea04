"""The forms of commands and answers on a serial line: text, short frames, or signed frames."""

from __future__ import annotations

import secrets
from abc import ABC, abstractmethod
from collections.abc import Callable

from tenuto.driving.tick import Tick
from tenuto.protocols.answer_line import LONGEST, AnswerLine, read_answer
from tenuto.protocols.frames import (
    ANSWER,
    SIGNED_ANSWER,
    AnswerSeal,
    CommandFrame,
    FrameFinder,
    Seal,
    encode_command,
    sign_command,
)
from tenuto.protocols.fresh import Bond, Challenge
from tenuto.vehicles.velocity import STANDSTILL


class LineForm(ABC):
    """The form of commands and answers.

    Attributes:
        modulo: the number at which the far end's count of good commands starts again.
    """

    modulo = 65536

    @abstractmethod
    def command(self, tick: Tick, counter: int) -> bytes:
        """Return the bytes of a command."""

    @abstractmethod
    def answers(self, data: bytes) -> list[AnswerLine]:
        """Take the bytes that arrived, and return the answers in them."""

    @property
    def problem(self) -> str:
        """Explain why nothing is followed yet; empty if it can be."""
        return ""

    @property
    def emergency(self) -> str:
        """Explain why an emergency stop is due; empty if none is."""
        return ""


class AnswerLines:
    """Reads lines of text."""

    def __init__(self) -> None:
        self._rest = b""

    def answers(self, data: bytes) -> list[AnswerLine]:
        """Take the bytes that arrived, and return the answers in them."""
        *lines, rest = (self._rest + data).split(b"\n")
        self._rest = rest[-LONGEST:]
        return [answer for line in lines if (answer := read_answer(line)) is not None]


def _frame(tick: Tick, counter: int) -> CommandFrame:
    return CommandFrame(counter, tick.command, tick.valid_for, tick.power)


class Frames(LineForm):
    """Short frames with a checksum."""

    modulo = 256

    def __init__(self) -> None:
        self._finder = FrameFinder(ANSWER)

    def command(self, tick: Tick, counter: int) -> bytes:
        """Return 12 bytes."""
        return encode_command(_frame(tick, counter))

    def answers(self, data: bytes) -> list[AnswerLine]:
        """Take the bytes that arrived, and return the answers in them."""
        return [answer for answer, _ in self._finder.feed(data) if isinstance(answer, AnswerLine)]


class SignedFrames(LineForm):
    """Signed frames: a command repeats the robot's session and its time, an answer repeats a command of this program.

    Before the first answer, and while nothing is to be sent, commands ask for one; they move nothing.
    """

    modulo = 256

    def __init__(self, key: bytes, clock: Callable[[], float]) -> None:
        """Take the key, and the clock of the sink, s."""
        self._finder, self._key, self._clock = FrameFinder(SIGNED_ANSWER, key), key, clock
        self._robot: AnswerSeal | None = None
        self._bond = Bond(secrets.token_hex(4))
        self._run = int(self._bond.run, 16)

    @property
    def problem(self) -> str:
        """Report that the robot has sent nothing that counts."""
        if why := self._bond.problem(self._clock()):
            return why
        return "" if self._robot is not None else "nothing was heard from it with this key yet: it is asked"

    @property
    def emergency(self) -> str:
        """Report that two robots have this key."""
        return self._bond.double(self._clock())

    def command(self, tick: Tick, counter: int) -> bytes:
        """Return 38 bytes."""
        now = self._clock()
        number, robot = self._bond.next(now), self._robot
        if robot is None:
            return self._signed(_frame(_still(tick), counter), Seal(0, self._run, number, 0))
        tick = _still(tick) if self._bond.double(now) else tick
        return self._signed(_frame(tick, counter), Seal(robot.session, self._run, number, robot.time))

    def _signed(self, frame: CommandFrame, seal: Seal) -> bytes:
        return sign_command(frame, seal, self._key)

    def answers(self, data: bytes) -> list[AnswerLine]:
        """Take the bytes that arrived, and return the new answers in them that answer this program."""
        found = []
        for answer, seal in self._finder.feed(data):
            if isinstance(answer, AnswerLine) and isinstance(seal, AnswerSeal) and self._counts(seal):
                self._robot = seal
                found.append(answer)
        return found

    def _counts(self, seal: AnswerSeal) -> bool:
        newer = self._robot is None or 0 < (seal.time - self._robot.time) % 2**32 < 2**31
        said = [Challenge(f"{seal.run:08x}", seal.number)]
        return self._bond.believes(seal.session, newer, said, self._clock())


def _still(tick: Tick) -> Tick:
    return tick._replace(command=STANDSTILL, power=False)
