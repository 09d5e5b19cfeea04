"""Answers over a serial line."""

from __future__ import annotations

import math

from tenuto.driving.telemetry import Telemetry
from tenuto.protocols.answer_line import AnswerLine
from tenuto.protocols.way import Way


class Answers:
    """The answers over a line: answer lines, or any bytes, which show at least that the far end is alive.

    Attributes:
        made_from: the digest of the profile of the board's code, if the board sends it.
        telemetry: the newest values. says: the values that it can report. way: the link there and back.
    """

    says = frozenset(("follows", "state", "reasons", "voltage", "wheels", "distances", "round_trip", "loss", "waiting"))

    def __init__(self, wheels: tuple[str, ...], distances: tuple[str, ...], modulo: int) -> None:
        """Set the names of the numbers of an answer; ``modulo``: see `tenuto.sinks.line_forms.LineForm`."""
        self._wheels, self._distances, self._modulo = wheels, distances, modulo
        self.way = Way()
        self._answered = False
        self.made_from = ""
        unheard = dict.fromkeys(wheels, math.nan), dict.fromkeys(distances, math.nan)
        self.telemetry = Telemetry(wheels=unheard[0], distances=unheard[1])

    def take(self, answers: list[AnswerLine], heard: bool, now: float, waiting: float) -> None:
        """Take the answers that arrived, at ``now``, s.

        Args:
            answers: oldest first. heard: bytes of any kind arrived. now: s.
            waiting: the time that our own port still needs to send its bytes, s.
        """
        said = self.telemetry._replace(waiting=waiting)
        # After the first answer, other bytes do not count as an answer.
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
    """Return a number for each name; NaN if there are fewer numbers."""
    return {name: numbers[place] if place < len(numbers) else math.nan for place, name in enumerate(names)}
