"""A simulated robot at the other end of a serial line: it reads velocity lines, and stops by itself on silence."""

from __future__ import annotations

import contextlib
import math
import os
import tty
from collections.abc import Iterator

from tenuto.basics.closing import Closing
from tenuto.clock import REAL, Clock
from tenuto.driving.plan import Planned
from tenuto.protocols.answer_line import MOST_NUMBERS, AnswerLine, encode_answer
from tenuto.protocols.velocity_line import VelocityLine, VelocityLineDecoder
from tenuto.sim.robots import PathPoint, Physics, simulated_robot
from tenuto.vehicles.base import Quantity
from tenuto.vehicles.velocity import STANDSTILL

STEP = 0.01
# How often a good line is answered, s.
_ANSWER_EVERY = 0.1


class FarEnd(Closing):
    """What stands in for a robot's firmware, motors and wheels, on a pseudo-terminal.

    Attributes:
        port: the name of the port that a sink opens.
        robot: the simulated robot. decoder: with its counts. outputs: their levels, as they came.
        voltage: what it says of its battery, V. why: a reason of its own for which it stands, see `AnswerLine`.
    """

    def __init__(self, profile: Planned, physics: Physics | None = None, link: str | None = None) -> None:
        """Place the robot at the origin.

        Args:
            profile: its chassis is that of the robot. physics: how far it is from ideal.
            link: a path under which the port can also be opened.
        """
        self._chassis = profile.plan().chassis
        self.robot = simulated_robot(self._chassis, physics)
        self.decoder = VelocityLineDecoder()
        self._actuators = self._chassis.actuators(STANDSTILL)
        self._master, self._slave = os.openpty()  # both stay open: the line is there before and after a sink is
        tty.setraw(self._slave)
        os.set_blocking(self._master, False)
        self.port, self._link = os.ttyname(self._slave), link
        if link is not None:
            with contextlib.suppress(FileNotFoundError):
                os.unlink(link)
            os.symlink(self.port, link)
        self._wheels = [name for name, one in self._chassis.bounds().items() if one.quantity is Quantity.WHEEL_SPEED][
            :MOST_NUMBERS
        ]
        self.outputs: tuple[float, ...] = ()
        self.voltage, self.why = math.nan, 0
        self._answered = 0.0
        self._commanded = 0.0

    def run(self, clock: Clock = REAL) -> Iterator[PathPoint]:
        """Live by a clock, and yield where the robot is, a hundred times a second."""
        before = clock.now()
        while True:
            clock.sleep_until(before + STEP)
            now = clock.now()
            self.robot.advance(now - before)
            before = now
            self.hear()
            yield self.robot.now

    def hear(self) -> None:
        """Follow the newest good line of what has come."""
        try:
            data = os.read(self._master, 4096)
        except BlockingIOError:
            return
        lines = self.decoder.feed(data)
        if lines:
            self._follow(lines[-1])

    def _follow(self, line: VelocityLine) -> None:
        now = self.robot.now.time
        command, _ = self._chassis.within_reach(line.command)
        self._actuators = self._chassis.actuators(command, self._actuators, now - self._commanded)
        self._commanded, self.outputs = now, line.outputs
        self.robot.command(self._actuators, line.valid_for, line.power and not self.why)
        if now - self._answered >= _ANSWER_EVERY:
            self._answered = now
            with contextlib.suppress(BlockingIOError):
                os.write(self._master, encode_answer(self._answer(line)))

    def _answer(self, line: VelocityLine) -> AnswerLine:
        why = self.why or (0 if self.robot.obeys else 2) or (0 if line.power else 3)
        wheels = tuple(self.robot.actuators[name] for name in self._wheels)
        return AnswerLine(line.counter, self.decoder.counts.good, why, self.voltage, wheels)

    def summary(self) -> str:
        """Say what came, in plain words."""
        counts = self.decoder.counts
        levels = "".join(f" {level:+.2f}" for level in self.outputs)
        return f"{counts.good} good lines, {counts.bad} bad" + (f", outputs{levels}" if levels else "")

    def close(self) -> None:
        """Take the line away."""
        if self._master >= 0:
            os.close(self._master)
            os.close(self._slave)
            self._master = -1
            if self._link is not None:
                with contextlib.suppress(FileNotFoundError):
                    os.unlink(self._link)
