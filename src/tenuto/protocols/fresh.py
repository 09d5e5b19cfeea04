"""Freshness in both directions, sans I/O: each end believes only what repeats a recent message of its own.

A robot's messages repeat the newest message of a driver's program, its challenge: the program's number, random at each
start, and the number of the message. So a driver's machine knows the greatest possible age of what it reads, as the
robot knows that of a command. A recording of an earlier session repeats nothing of this one.
"""

from __future__ import annotations

import math
import secrets
from typing import NamedTuple

# A message that repeats an older one than this does not count, s; the same in both directions.
MOST_AGE = 0.5
# A machine that was silent for this time has let go: another may take its place, s. It is longer than `MOST_AGE`, so
# nothing that the other one sent still counts.
LET_GO_AFTER = 1.0
# The most challenges of proven and of unproven programs that a robot repeats.
MOST_ASKERS = 4
# How long the driver is told of messages that do not count, s.
_TOLD_FOR = 2.0


class Challenge(NamedTuple):
    """A message of a driver's program, by the two numbers that name it: those of the program and of the message."""

    run: str
    number: int


class Bond:
    """A driver's end: which messages of a robot count. Two robots that both answer freshly are told apart.

    Attributes:
        run: the number of this program, 16 hexadecimal digits. number: of its newest message.
    """

    def __init__(self, run: str = "") -> None:
        """Take the number of this program; it is random if none is given."""
        self.run = run or secrets.token_hex(8)
        self.number = 0
        self._sent: dict[int, float] = {}
        self._session: object = None
        # Earlier sessions, and the newest number when each was left.
        self._others: dict[object, int] = {}
        self._heard_at = self._late_at = self._foreign_at = self._double_at = -math.inf
        self._began = math.inf

    def next(self, now: float) -> int:
        """Return the number of the next message, which is sent at ``now``, s."""
        self._began = min(self._began, now)
        self.number += 1
        self._sent[self.number] = now
        while now - self._sent[next(iter(self._sent))] > 2.0 * LET_GO_AFTER:
            del self._sent[next(iter(self._sent))]
        return self.number

    def believes(self, session: object, newer: bool, answers: list[Challenge], now: float) -> bool:
        """Return whether a message of a robot counts.

        Args:
            session: of the robot. newer: the message is newer than the last one of this session that counted.
            answers: what it repeats. now: s.
        """
        own = [one.number for one in answers if one.run == self.run and one.number in self._sent]
        if not own:
            self._foreign_at = now
            return False
        if not 0.0 <= now - self._sent[max(own)] <= MOST_AGE:
            self._late_at = now
            return False
        if session == self._session:
            if not newer:
                return False
        elif not self._binds(session, max(own), now):
            return False
        self._heard_at = now
        return True

    def _binds(self, session: object, answered: int, now: float) -> bool:
        """Take another session of a robot that was restarted; not if the last one then answers too: there are two."""
        if session in self._others:
            if answered <= self._others[session]:
                return False  # it was sent before the other one was heard
            if now - self._heard_at <= LET_GO_AFTER:
                self._double_at = now
                return False
            del self._others[session]
        if self._session is not None:
            self._others[self._session] = self.number
            while len(self._others) > MOST_ASKERS:
                del self._others[next(iter(self._others))]
        self._session = session
        return True

    def double(self, now: float) -> str:
        """Explain that two robots have answered lately, so that the wrong one might be driven; empty if not."""
        if now - self._double_at > LET_GO_AFTER:
            return ""
        return "two robots answer here: give each a name of its own, and a key of its own"

    def problem(self, now: float) -> str:
        """Explain why messages that come do not count; empty if none comes, or they do."""
        if double := self.double(now):
            return double
        if now - max(self._heard_at, self._began) <= LET_GO_AFTER:
            return ""  # an answer needs a moment
        if now - self._late_at <= _TOLD_FOR:
            return f"its answers come more than {MOST_AGE:g} s late, and do not count: the link is too slow to drive"
        if now - self._foreign_at <= _TOLD_FOR:
            return (
                "its messages do not answer this program: they are old, or for another driver, "
                "or it drops what this one sends (is a key missing here, or another one there?)"
            )
        return ""


class Askers:
    """A robot's end: the challenges that its messages repeat. Nobody's recordings displace those of a live program.

    A program is proven to be alive by a message that repeats a recent one of the robot.
    """

    def __init__(self) -> None:
        self._known: dict[bool, dict[tuple[str, str], tuple[int, float]]] = {True: {}, False: {}}

    def note(self, driver: str, challenge: Challenge, now: float, *, proven: bool) -> None:
        """Take the challenge of an authentic message that came at ``now``, s."""
        known, key = self._known[proven], (driver, challenge.run)
        if key in known and now - known[key][1] <= LET_GO_AFTER and challenge.number <= known[key][0]:
            return  # a repetition
        known.pop(key, None)
        known[key] = (challenge.number, now)
        while len(known) > MOST_ASKERS:
            del known[next(iter(known))]

    def newest(self, now: float) -> dict[tuple[str, str], int]:
        """Return the numbers that were heard in the last second, by the names of drivers and the programs' numbers."""
        found: dict[tuple[str, str], int] = {}
        for proven in (False, True):
            for key, (number, at) in self._known[proven].items():
                if 0.0 <= now - at <= LET_GO_AFTER:
                    found[key] = max(number, found.get(key, 0))
        return found
