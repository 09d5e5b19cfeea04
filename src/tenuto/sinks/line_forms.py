"""The forms of commands and answers on a serial line: text, short frames, or signed frames."""

from __future__ import annotations

from abc import ABC, abstractmethod

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


class LineForm(ABC):
    """The form of commands and answers.

    Attributes:
        modulo: the number at which the far end's count of good commands starts again.
    """

    modulo = 65536

    @abstractmethod
    def command(self, tick: Tick, counter: int) -> bytes | None:
        """Return the bytes of a command; None if none can be sent yet."""

    @abstractmethod
    def answers(self, data: bytes) -> list[AnswerLine]:
        """Take the bytes that arrived, and return the answers in them."""

    @property
    def problem(self) -> str:
        """Explain why nothing can be sent yet; empty if it can."""
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
    """Signed frames: the robot sends first, and a command repeats its session and its time.

    An answer of an earlier session, or one that is not newer than the last in this session, is a replay: it is
    dropped.
    """

    modulo = 256

    def __init__(self, key: bytes) -> None:
        self._finder, self._key = FrameFinder(SIGNED_ANSWER, key), key
        self._robot: AnswerSeal | None = None
        self._over: set[int] = set()
        self._number = 0

    @property
    def problem(self) -> str:
        """Report that the robot has sent nothing."""
        return "" if self._robot is not None else "nothing was heard from it with this key yet: nothing is sent"

    def command(self, tick: Tick, counter: int) -> bytes | None:
        """Return 34 bytes; None before the robot has sent its first answer."""
        if self._robot is None:
            return None
        self._number += 1
        return sign_command(_frame(tick, counter), Seal(self._robot.session, self._number, self._robot.time), self._key)

    def answers(self, data: bytes) -> list[AnswerLine]:
        """Take the bytes that arrived, and return the new answers in them."""
        found = []
        for answer, seal in self._finder.feed(data):
            if isinstance(answer, AnswerLine) and isinstance(seal, AnswerSeal) and self._is_new(seal):
                self._robot = seal
                found.append(answer)
        return found

    def _is_new(self, seal: AnswerSeal) -> bool:
        robot = self._robot
        if robot is None or seal.session == robot.session:
            return robot is None or 0 < (seal.time - robot.time) % 2**32 < 2**31
        if seal.session in self._over:
            return False
        self._over.add(robot.session)
        return True
