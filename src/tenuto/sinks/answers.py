"""Answers over a serial line."""

from __future__ import annotations

import math

from tenuto.driving.telemetry import Telemetry
from tenuto.protocols.answer_line import AnswerLine
from tenuto.protocols.way import Way


class Answers:
    """What comes back over a line: answer lines, or anything, which says at least that somebody is there.

    Attributes:
        made_from: the digest of the profile that its code was made from, where it says so.
        telemetry: what the newest of it says. says: what it can say. way: to the far end and back.
    """

    says = frozenset(("follows", "state", "reasons", "voltage", "wheels", "distances", "round_trip", "loss", "waiting"))

    def __init__(self, wheels: tuple[str, ...], distances: tuple[str, ...], modulo: int) -> None:
        """Give names to the numbers of an answer; ``modulo``: see `tenuto.sinks.line_forms.LineForm`."""
        self._wheels, self._distances, self._modulo = wheels, distances, modulo
        self.way = Way()
        self._answered = False
        self.made_from = ""
        unheard = dict.fromkeys(wheels, math.nan), dict.fromkeys(distances, math.nan)
        self.telemetry = Telemetry(wheels=unheard[0], distances=unheard[1])

    def take(self, answers: list[AnswerLine], heard: bool, now: float, waiting: float) -> None:
        """Take the answers that have come, at ``now``, s.

        Args:
            answers: oldest first. heard: anything counts as heard. now: s.
            waiting: what our own port still has to send, s.
        """
        said = self.telemetry._replace(waiting=waiting)
        # Once it has answered, other bytes are no news of what it measures.
        self._answered = self._answered or bool(answers)
        if answers or (heard and not self._answered):
            said = said._replace(time=now)
        for answer in answers:
            self.way.answered(answer.counter, answer.good, now, modulo=self._modulo)
            said = self._said(said, answer)
            self.made_from = answer.made_from
        self.telemetry = said

    def _said(self, before: Telemetry, answer: AnswerLine) -> Telemetry:
        reason = answer.reason
        return before._replace(
            follows=not reason, state="stands" if reason else "follows", reasons=(reason,) if reason else (),
            voltage=answer.voltage, wheels=_named(self._wheels, answer.wheels),
            distances=_named(self._distances, answer.distances), round_trip=self.way.round_trip,
            loss=self.way.loss,
        )  # fmt: skip


def _named(names: tuple[str, ...], numbers: tuple[float, ...]) -> dict[str, float]:
    """Return a number for each name; NaN where there are fewer numbers."""
    return {name: numbers[place] if place < len(numbers) else math.nan for place, name in enumerate(names)}
