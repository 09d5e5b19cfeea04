"""A simulated robot at the other end of a serial line: it reads velocity lines, and stops by itself on silence."""

from __future__ import annotations

import contextlib
import math
import os
import random
import secrets
import tty
from collections.abc import Iterator

from tenuto.basics.closing import Closing
from tenuto.basics.errors import SinkError
from tenuto.clock import REAL, Clock
from tenuto.driving.plan import Planned
from tenuto.protocols.answer_line import MOST_NUMBERS, AnswerLine, encode_answer
from tenuto.protocols.frames import (
    COMMAND,
    SIGNED_COMMAND,
    AnswerSeal,
    CommandFrame,
    FrameFinder,
    Seal,
    encode_answer_frame,
    sign_answer,
)
from tenuto.protocols.fresh import LET_GO_AFTER, MOST_AGE
from tenuto.protocols.velocity_line import VelocityLine, VelocityLineDecoder
from tenuto.sim.bad_line import BadLine
from tenuto.sim.robots import PathPoint, Physics, simulated_robot
from tenuto.vehicles.base import Quantity
from tenuto.vehicles.velocity import STANDSTILL

STEP = 0.01
# The interval of its answers, s.
_ANSWER_EVERY = 0.1
# A signed command may repeat a time of it that is at most this old, ms; after this silence another program may drive.
_MOST_AGE_MS, _LET_GO_AFTER_MS = int(1000 * MOST_AGE), int(1000 * LET_GO_AFTER)


class FarEnd(Closing):
    """The stand-in for a robot's firmware, motors and wheels, on a pseudo-terminal.

    Attributes:
        port: the name of the port that a sink opens.
        robot: the simulated robot. decoder: with its counts. outputs: their levels, as received.
        voltage: of its battery, V. why: its own reason for a stop, see `AnswerLine`.
        distances: measured ones, m. made_from: the digest of the profile of its code, if it sends one.
    """

    def __init__(
        self,
        profile: Planned,
        physics: Physics | None = None,
        link: str | None = None,
        *,
        form: str = "text",
        key: bytes | None = None,
        loss: float = 0.0,
        delay: float = 0.0,
    ) -> None:
        """Place the robot at the origin.

        Args:
            profile: the robot has its chassis. physics: its deviation from the ideal.
            link: a path under which the port can also be opened.
            form: of the commands: "text", "binary" or "signed". key: of signed ones.
            loss: the share of lost commands, and of lost answers, 0…1; the same ones in every run.
            delay: of a command or an answer, s.
        """
        self._loss, self._dice = loss, random.Random(1)
        self._to_it = BadLine[bytes](0.0, delay)  # bytes arrive complete; only whole commands are lost
        self._from_it = BadLine[bytes](loss, delay, 2)
        self._frames = FrameFinder(COMMAND if key is None else SIGNED_COMMAND, key) if form != "text" else None
        self._key, self._session = key, secrets.randbits(32) or 1
        # The newest signed command that counted, and when, ms; and what the answers repeat.
        self._newest, self._newest_at, self._asked = (0, 0), -_LET_GO_AFTER_MS, (0, 0)
        self._good = self._counter = 0
        self._chassis = profile.plan().chassis
        self.robot = simulated_robot(self._chassis, physics)
        self.decoder = VelocityLineDecoder()
        self._actuators = self._chassis.actuators(STANDSTILL)
        self._master, self._slave = os.openpty()  # both stay open: the line exists before and after a sink uses it
        tty.setraw(self._slave)
        os.set_blocking(self._master, False)
        self.port, self._link = os.ttyname(self._slave), link
        if link is not None:
            try:
                if os.path.islink(link):  # left by a robot that was killed; a file that is not a link is never removed
                    os.unlink(link)
                os.symlink(self.port, link)
            except OSError as error:
                raise SinkError(f"{link}: cannot give the port this name: {error.strerror or error}") from error
        self._wheels = [name for name, one in self._chassis.bounds().items() if one.quantity is Quantity.WHEEL_SPEED][
            :MOST_NUMBERS
        ]
        self.outputs: tuple[float, ...] = ()
        self.voltage, self.why, self.made_from = math.nan, 0, ""
        self.distances: tuple[float, ...] = ()
        self._answered = 0.0
        self._commanded = 0.0

    def run(self, clock: Clock = REAL) -> Iterator[PathPoint]:
        """Run by a clock, and yield the robot's position a hundred times a second."""
        before = clock.now()
        while True:
            clock.sleep_until(before + STEP)
            now = clock.now()
            self.robot.advance(now - before)
            before = now
            self.hear()
            yield self.robot.now

    def hear(self) -> None:
        """Follow the newest good line received."""
        if self._key is not None and self.robot.now.time - self._answered >= _ANSWER_EVERY:
            self._answer_now(self._counter, True)  # signed commands repeat its time: so it sends first
        now = self.robot.now.time
        self._to_it.put(self._read(), now)
        if lines := self._lines(b"".join(self._to_it.take(now))):
            self._good += len(lines)
            self._follow(lines[-1])
        for data in self._from_it.take(now):
            with contextlib.suppress(BlockingIOError):
                os.write(self._master, data)

    def _read(self) -> bytes:
        try:
            return os.read(self._master, 4096)
        except BlockingIOError:
            return b""

    def _lines(self, data: bytes) -> list[VelocityLine]:
        """Return the good commands in some bytes, in any form."""
        if self._frames is None:
            return [line for line in self.decoder.feed(data) if self._arrives()]
        found = []
        for frame, seal in self._frames.feed(data):
            if isinstance(frame, CommandFrame) and self._arrives() and self._is_new(frame, seal):
                self._counter = frame.counter
                found.append(VelocityLine(*frame))
        return found

    def _arrives(self) -> bool:
        return self._dice.random() >= self._loss

    def _is_new(self, frame: CommandFrame, seal: Seal | AnswerSeal | None) -> bool:
        if not isinstance(seal, Seal):
            return frame.counter != self._counter or not self._good
        now, said = self._milliseconds, (seal.run, seal.number)
        free = now - self._newest_at >= _LET_GO_AFTER_MS
        in_turn = seal.number > self._newest[1] if seal.run == self._newest[0] else free
        counts = seal.session == self._session and 0 <= now - seal.heard <= _MOST_AGE_MS and in_turn
        if counts:
            self._newest, self._newest_at = said, now
        # A program that drives is answered; else whoever asks.
        self._asked = said if counts or free else self._asked
        return counts

    @property
    def _milliseconds(self) -> int:
        return int(1000.0 * self.robot.now.time)

    def _follow(self, line: VelocityLine) -> None:
        now = self.robot.now.time
        command, _ = self._chassis.within_reach(line.command)
        self._actuators = self._chassis.actuators(command, self._actuators, now - self._commanded)
        self._commanded, self.outputs = now, line.outputs
        self.robot.command(self._actuators, line.valid_for, line.power and not self.why)
        if now - self._answered >= _ANSWER_EVERY:
            self._answer_now(line.counter, line.power)

    def _answer_now(self, counter: int, power: bool) -> None:
        """Send an answer."""
        self._answered = self.robot.now.time
        why = self.why or (0 if self._good else 1) or (0 if self.robot.obeys else 2) or (0 if power else 3)
        wheels = tuple(self.robot.actuators[name] for name in self._wheels)
        answer = AnswerLine(counter, self._good, why, self.voltage, wheels, self.distances, self.made_from)
        if self._key is not None:
            data = sign_answer(answer, AnswerSeal(self._session, self._milliseconds, *self._asked), self._key)
        else:
            data = encode_answer(answer) if self._frames is None else encode_answer_frame(answer)
        self._from_it.put(data, self._answered)

    def summary(self) -> str:
        """Describe the commands that came, as text."""
        counts, frames = self.decoder.counts, self._frames
        if frames is not None:
            return f"{self._good} good commands, {frames.bad} bytes that are none"
        levels = "".join(f" {level:+z.2f}" for level in self.outputs)
        return f"{counts.good} good lines, {counts.bad} bad" + (f", outputs{levels}" if levels else "")

    def close(self) -> None:
        """Close the line."""
        if self._master >= 0:
            os.close(self._master)
            os.close(self._slave)
            self._master = -1
            if self._link is not None:
                with contextlib.suppress(FileNotFoundError):
                    os.unlink(self._link)
