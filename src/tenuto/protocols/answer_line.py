"""The line with which a builder's own firmware answers: which command it obeys, why it stands, and what it measures.

One line of ASCII, ended by a newline; whole numbers. See docs/protocols.md::

    A 17 1042 0 11840 W 10900 -10870 D 850 P 4e8835b0 4C51
      │   │   │   │   │              │     │          └ CRC-16 of everything before this space, as in the velocity line
      │   │   │   │   │              │     └ digest of the profile from which its code was made
      │   │   │   │   │              └ distances in mm, up to 4
      │   │   │   │   └ wheel speeds in mrad/s, up to 4
      │   │   │   └ battery in mV, 0 where it is not measured
      │   │   └ 0: it follows; otherwise the reason why it does not, see `WHY`
      │   └ number of good lines received, 0 to 65535, then from 0 again
      └ counter of the newest good line
"""

from __future__ import annotations

import math
import re
from typing import NamedTuple

from tenuto.protocols.velocity_line import checksum, with_checksum

MOST_NUMBERS = 4
# A longer line is not an answer.
LONGEST = 96
FOLLOWS = 0
# What the second number means, as the text of a reason; numbers from 8 on are the builder's own.
WHY = {
    1: "no command has come yet",
    2: "no command came in time: it waits for a standstill command",
    3: "its power is commanded off",
    4: "its battery is low",
    5: "its own stop is on",
    6: "a motor or an encoder is at fault",
    7: "it is not ready",
}
_MOST = 999_999
# The length of a digest, and of the checksum and the newline after it.
_DIGEST = 11 + 6
_HEAD = re.compile(
    rb"A (\d{1,3}) (\d{1,5}) (\d{1,3}) (\d{1,5})(?: W((?: -?\d{1,6}){1,4}))?(?: D((?: \d{1,6}){1,4}))?"
    rb"(?: P ([0-9a-f]{8}))?"
)


class AnswerLine(NamedTuple):
    """One answer.

    Attributes:
        counter: of the newest good line, 0…255. good: number of lines received, modulo 65536.
        why: 0 where it follows, or a key of `WHY`, or a number of the builder's own up to 255.
        voltage: V; NaN where it is not measured. wheels: rad/s. distances: m.
        made_from: the digest of the profile from which its code was made; empty if the answer has none.
    """

    counter: int
    good: int
    why: int = FOLLOWS
    voltage: float = math.nan
    wheels: tuple[float, ...] = ()
    distances: tuple[float, ...] = ()
    made_from: str = ""

    @property
    def reason(self) -> str:
        """The reason why it does not follow, as text; empty if it follows."""
        return "" if self.why == FOLLOWS else WHY.get(self.why, f"reason {self.why} of its own")


def encode_answer(answer: AnswerLine) -> bytes:
    """Write an answer. Surplus numbers are left out, and numbers are limited to six digits."""
    volts = 0 if math.isnan(answer.voltage) else round(1000.0 * min(max(answer.voltage, 0.0), 65.535))
    words = ["A", answer.counter % 256, answer.good % 65536, answer.why, volts]
    for mark, numbers in (("W", answer.wheels), ("D", answer.distances)):
        if numbers:
            whole = [round(min(max(1000.0 * number, -_MOST), _MOST)) for number in numbers[:MOST_NUMBERS]]
            words += [mark, *(max(number, 0) if mark == "D" else number for number in whole)]
    text = " ".join(map(str, words))
    if answer.made_from and len(text) + _DIGEST <= LONGEST:
        text += f" P {answer.made_from}"
    return with_checksum(text.encode())


def read_answer(line: bytes) -> AnswerLine | None:
    """Read one line, without its end; None if it is not a good answer. Never raises."""
    head, _, sum_text = line.removesuffix(b"\r").rpartition(b" ")
    match = _HEAD.fullmatch(head)
    if match is None or len(line) > LONGEST or sum_text != b"%04X" % checksum(head):
        return None
    counter, good, why, volts = (int(word) for word in match.groups()[:4])
    if counter > 255 or good > 65535 or why > 255 or volts > 65535:
        return None
    wheels, distances = (tuple(int(word) / 1000.0 for word in (text or b"").split()) for text in (match[5], match[6]))
    made_from = (match[7] or b"").decode()
    return AnswerLine(counter, good, why, volts / 1000.0 if volts else math.nan, wheels, distances, made_from)
