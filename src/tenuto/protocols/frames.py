"""Short binary frames for radio modules: with a checksum, or signed where others share the radio; docs/protocols.md.

A command is 12 bytes, an answer 12; signed they are 38 and 34. All numbers are big-endian. Frames have no delimiter:
they are found in any bytes by their head and their check (`FrameFinder`).
"""

from __future__ import annotations

import hashlib
import hmac
import math
import struct
from collections.abc import Callable
from typing import NamedTuple

from tenuto.protocols.answer_line import AnswerLine
from tenuto.protocols.velocity_line import checksum
from tenuto.vehicles.velocity import VelocityCommand

COMMAND, ANSWER, SIGNED_COMMAND, SIGNED_ANSWER = 0xA, 0xB, 0xC, 0xD
# How long a command may be valid, ms: a frame holds one of these, rounded down.
VALID_MS = (50, 100, 200, 300, 500, 1000, 2000, 5000)
_POWER, _WHEELS, _DISTANCE = 8, 2, 1
_COMMAND = struct.Struct(">BBhhhh")
_ANSWER = struct.Struct(">BBBBBhhB")
_CHECK = struct.Struct(">H")
# The numbers of `Seal` and of `AnswerSeal`.
_SEAL, _ANSWER_SEAL = struct.Struct(">IIII"), struct.Struct(">IIII")
MAC_BYTES = 12
LENGTHS = {
    COMMAND: _COMMAND.size + _CHECK.size,
    ANSWER: _ANSWER.size + _CHECK.size,
    SIGNED_COMMAND: _COMMAND.size + _SEAL.size + MAC_BYTES,
    SIGNED_ANSWER: _ANSWER.size + _ANSWER_SEAL.size + MAC_BYTES - 4,
}
_UNKNOWN_DISTANCE, _DISTANCE_STEP, _WHEEL_STEP, _VOLT_STEP = 255, 0.02, 0.01, 0.1


class CommandFrame(NamedTuple):
    """A command.

    Attributes:
        counter: 0…255. command: m/s and rad/s, to the thousandth, at most ±32.767.
        valid_for: s, one of `VALID_MS`. power: whether the outputs may have power.
    """

    counter: int
    command: VelocityCommand
    valid_for: float
    power: bool


class Seal(NamedTuple):
    """What a signed command is for, and whose it is; 32 bits each.

    Attributes:
        session: that of the robot; 0 asks for an answer, and moves nothing. run: of the driver's program, random.
        number: increases with every command of it. heard: the robot's time that it repeats, ms.
    """

    session: int
    run: int
    number: int
    heard: int


class AnswerSeal(NamedTuple):
    """What a signed answer holds; 32 bits each.

    Attributes:
        session: of the robot, new at each start, never 0. time: of the robot, ms.
        run, number: those of the driver's command that it answers: of the newest one that counted, or asked.
    """

    session: int
    time: int
    run: int
    number: int


def valid_index(seconds: float) -> int:
    """Return the index in `VALID_MS` of the longest time that is not longer than this. Raises `ValueError` for less."""
    fits = [place for place, ms in enumerate(VALID_MS) if ms <= 1000.0 * seconds + 1e-6]
    if not fits:
        raise ValueError(f"a command of this form is valid for {VALID_MS[0]} ms at least")
    return fits[-1]


def _mac(data: bytes, key: bytes, length: int) -> bytes:
    """Return the keyed BLAKE2s (RFC 7693) of some bytes."""
    return hashlib.blake2s(data, key=key, digest_size=length).digest()


def _body(frame: CommandFrame, head: int) -> bytes:
    numbers = (round(min(max(1000.0 * axis, -32767.0), 32767.0)) for axis in frame.command)
    return _COMMAND.pack(head << 4 | _POWER * frame.power | valid_index(frame.valid_for), frame.counter % 256, *numbers)


def encode_command(frame: CommandFrame) -> bytes:
    """Write a command with its checksum: 12 bytes."""
    body = _body(frame, COMMAND)
    return body + _CHECK.pack(checksum(body))


def sign_command(frame: CommandFrame, seal: Seal, key: bytes) -> bytes:
    """Write a signed command: 38 bytes; the key has 32."""
    data = _body(frame, SIGNED_COMMAND) + _SEAL.pack(*seal)
    return data + _mac(data, key, MAC_BYTES)


def _command_of(data: bytes) -> CommandFrame:
    head, counter, *numbers = _COMMAND.unpack_from(data)
    command = VelocityCommand(*(number / 1000.0 for number in numbers))
    return CommandFrame(counter, command, VALID_MS[head & 7] / 1000.0, bool(head & _POWER))


def _answer_body(answer: AnswerLine, head: int) -> bytes:
    wheels = [round(min(max(speed / _WHEEL_STEP, -32767.0), 32767.0)) for speed in answer.wheels[:2]]
    distance = _UNKNOWN_DISTANCE
    if answer.distances:
        distance = round(min(max(answer.distances[0] / _DISTANCE_STEP, 0.0), _UNKNOWN_DISTANCE - 1.0))
    volts = 0 if math.isnan(answer.voltage) else round(min(max(answer.voltage / _VOLT_STEP, 1.0), 255.0))
    flags = _WHEELS * (len(wheels) == 2) | _DISTANCE * bool(answer.distances)
    left, right = wheels if len(wheels) == 2 else (0, 0)
    return _ANSWER.pack(
        head << 4 | flags, answer.counter % 256, answer.good % 256, answer.why, volts, left, right, distance
    )


def encode_answer_frame(answer: AnswerLine) -> bytes:
    """Write an answer with its checksum: 12 bytes. It holds two wheels and one distance, in coarser steps."""
    body = _answer_body(answer, ANSWER)
    return body + _CHECK.pack(checksum(body))


def sign_answer(answer: AnswerLine, seal: AnswerSeal, key: bytes) -> bytes:
    """Write a signed answer: 34 bytes."""
    data = _answer_body(answer, SIGNED_ANSWER) + _ANSWER_SEAL.pack(*seal)
    return data + _mac(data, key, MAC_BYTES - 4)


def _answer_of(data: bytes) -> AnswerLine:
    head, counter, good, why, volts, left, right, distance = _ANSWER.unpack_from(data)
    return AnswerLine(
        counter, good, why, volts * _VOLT_STEP if volts else math.nan,
        (left * _WHEEL_STEP, right * _WHEEL_STEP) if head & _WHEELS else (),
        (distance * _DISTANCE_STEP,) if head & _DISTANCE else (),
    )  # fmt: skip


Found = tuple[CommandFrame, Seal | None] | tuple[AnswerLine, AnswerSeal | None]


class FrameFinder:
    """Finds good frames of one kind in any bytes; never raises on them.

    Attributes:
        bad: number of bytes that were skipped.
    """

    def __init__(self, head: int, key: bytes | None = None) -> None:
        """Search for one of `COMMAND`, `ANSWER`, or with a key `SIGNED_COMMAND`, `SIGNED_ANSWER`."""
        self._head, self._length, self._key = head, LENGTHS[head], key
        self._read = _READERS[head]
        self._buffer = bytearray()
        self.bad = 0

    def feed(self, data: bytes) -> list[Found]:
        """Take the next bytes, and return the frames that they complete."""
        self._buffer += data
        found, at, length = list[Found](), 0, self._length
        while len(self._buffer) - at >= length:
            piece = bytes(self._buffer[at : at + length])
            if piece[0] >> 4 == self._head and self._is_good(piece):
                found.append(self._read(piece))
                at += length
            else:
                self.bad += 1
                at += 1
        del self._buffer[:at]
        return found

    def _is_good(self, piece: bytes) -> bool:
        if self._key is None:
            return piece[-_CHECK.size :] == _CHECK.pack(checksum(piece[: -_CHECK.size]))
        length = MAC_BYTES if self._head == SIGNED_COMMAND else MAC_BYTES - 4
        return hmac.compare_digest(piece[-length:], _mac(piece[:-length], self._key, length))


_READERS: dict[int, Callable[[bytes], Found]] = {
    COMMAND: lambda data: (_command_of(data), None),
    ANSWER: lambda data: (_answer_of(data), None),
    SIGNED_COMMAND: lambda data: (_command_of(data), Seal(*_SEAL.unpack_from(data, _COMMAND.size))),
    SIGNED_ANSWER: lambda data: (_answer_of(data), AnswerSeal(*_ANSWER_SEAL.unpack_from(data, _ANSWER.size))),
}
