"""Diagnosis of a serial line: what the received bytes show about the line, if they are not what was expected.

For each possible sender, `tenuto.protocols.uart` computes the bytes that this port would read from it. The sender whose
bytes match best is named, if it matches much better than the expected one.
"""

from __future__ import annotations

import math
import random
from collections import Counter, deque
from collections.abc import Iterator, Mapping, Sequence
from functools import lru_cache
from itertools import pairwise
from typing import NamedTuple

from tenuto.protocols.radio.base import RADIOS, RadioProtocol
from tenuto.protocols.radio.decoder import ChannelFrame, Decoder
from tenuto.protocols.uart import LineSettings, levels_of, read_levels

# At most this many bytes are compared, and at least this many are needed for a result.
_KEPT, _ENOUGH = 4000, 300
# Frames that are computed for two senders, and how far apart their channels are, µs.
_FRAMES, _APART, _ALIKE = 40, 150.0, 25.0
# From this share on, damaged bytes are reported.
_DAMAGED = 0.005
# By how much each byte must be more likely, as a logarithm, than from the expected sender.
_MUCH = 0.35
# A sender that is nearly as likely as the likeliest is named too.
_CLEAR = 0.15
_SIMULATED_FRAMES = 60
_TEXT_BAUDS = (9_600, 57_600, 115_200)

# A byte, and whether it was damaged.
Symbol = tuple[int, bool]


class Sender(NamedTuple):
    """What could be at the other end.

    Attributes:
        name: such as "sbus". line: its settings.
    """

    name: str
    line: LineSettings

    def in_words(self) -> str:
        """Describe what it is: ``sbus at 100000 baud, inverted``."""
        return f"{self.name} at {self.line.baud} baud" + (", inverted" if self.line.inverted else "")


class Diagnosis:
    """Examines what a port reads while a decoder works on it."""

    def __init__(self, expected: str, line: LineSettings, port: LineSettings | None = None) -> None:
        """Set what to look for.

        Args:
            expected: the radio protocol, or "lines". line: on which it is sent. port: how the port is set; as the line.
        """
        self._expected, self._port = Sender(expected, line), port or line
        self._bytes: deque[int] = deque(maxlen=_KEPT)
        self._damaged: deque[bool] = deque(maxlen=_KEPT)
        self._frames: deque[tuple[float, ...]] = deque(maxlen=_FRAMES)

    def take(self, data: bytes, damaged: Sequence[int], frames: Sequence[ChannelFrame] = ()) -> None:
        """Take the next bytes, the positions of the damaged ones, and the frames that they completed."""
        self._bytes.extend(data)
        marks = [False] * len(data)
        for place in damaged:
            marks[place] = True
        self._damaged.extend(marks)
        self._frames.extend(frame.channels for frame in frames if not frame.lost)

    def findings(self, decoder: Decoder | None = None, good: int = 0) -> list[str]:
        """Describe what is wrong with the line, a sentence each; nothing if all is well.

        Args:
            decoder: which has worked on the same bytes. good: number of good frames or lines, if there is no decoder.
        """
        found = list(self._about_bytes())
        good = decoder.counts.good if decoder is not None else good
        if len(self._bytes) >= _ENOUGH and good * 50 < len(self._bytes):
            found += self._about_sender()
        if decoder is not None:
            found += [f"ignored: {what}, {count} times" for what, count in sorted(decoder.passed_over.items())]
        if self._two_senders():
            found.append("two senders on one line: every other frame has other channels")
        return found

    def _about_bytes(self) -> Iterator[str]:
        bad = sum(self._damaged)
        if self._damaged and bad >= _DAMAGED * len(self._damaged) and bad > 1:
            share = 100.0 * bad / len(self._damaged)
            what = "parity or stop bit" if self._port.parity != "N" else "stop bit"
            yield f"{share:.1f} % of the bytes have a wrong {what}: noise, a bad ground, or another speed"

    def _about_sender(self) -> Iterator[str]:
        """Describe the likely sender, if it is not the expected one."""
        seen = Counter(zip(self._bytes, self._damaged, strict=True))
        # Some ports, and most adapters, do not report which bytes are damaged: then only the bytes are compared.
        marked = any(self._damaged)

        def likelihood(sender: Sender) -> float:
            read = _read_by(self._port, sender)
            return _likelihood(seen, read if marked else _unmarked(read))

        expected = likelihood(self._expected)
        likely = {one: likelihood(one) for one in _others(self._expected)}
        best = max(likely, key=lambda one: likely[one])
        if likely[best] < expected + _MUCH:
            known = self._expected.in_words()
            yield f"this may be {known}, but almost no frame is complete: move a stick; otherwise it is noise"
            return
        alike = [one for one in likely if likely[one] > likely[best] - _CLEAR]
        if alike == [_turned(self._expected)]:
            yield "this looks inverted: add an inverter to the line, or remove the present one"
        else:
            said = " or ".join(one.in_words() for one in alike)
            yield f"this looks like {said}; expected {self._expected.in_words()}"

    def _two_senders(self) -> bool:
        frames = list(self._frames)
        if len(frames) < _FRAMES:
            return False
        apart = sum(_distance(*pair) > _APART for pair in pairwise(frames))
        alike = sum(_distance(*pair) < _ALIKE for pair in zip(frames, frames[2:], strict=False))
        return apart > 0.8 * len(frames) and alike > 0.8 * len(frames)


def _distance(one: Sequence[float], other: Sequence[float]) -> float:
    return max((abs(a - b) for a, b in zip(one, other, strict=False)), default=0.0)


def _line_of(radio: type[RadioProtocol]) -> LineSettings:
    return LineSettings(radio.baud, radio.parity, radio.stop_bits)


def _others(expected: Sender) -> list[Sender]:
    """List the other possible senders."""
    upright = [Sender(name, _line_of(radio)) for name, radio in RADIOS.all.items()]
    upright += [Sender("lines", LineSettings(baud)) for baud in _TEXT_BAUDS]
    return [one for one in (*upright, *map(_turned, upright)) if one != expected]


def _turned(sender: Sender) -> Sender:
    return sender._replace(line=sender.line._replace(inverted=not sender.line.inverted))


@lru_cache(maxsize=100)
def _read_by(port: LineSettings, sender: Sender) -> Mapping[Symbol, int]:
    """Count the bytes that a port reads of a sender whose sticks rest, move, and are at their ends."""
    dice, now, bursts = random.Random(1), 0.0, []
    radio = RADIOS.all.get(sender.name)
    sticks = [1500.0] * 16
    for _ in range(_SIMULATED_FRAMES):
        for number in range(len(sticks)):
            if dice.random() < 0.05:
                sticks[number] = dice.choice((1500.0, 988.0, 2012.0, dice.uniform(988.0, 2012.0)))
        if radio is None:
            data = ",".join(f"{(stick - 988) / 1024 * 1023:.0f}" for stick in sticks[:4]).encode() + b"\r\n"
        else:
            count = radio.plain_channels or radio.channels
            data = radio.encode((sticks * 2)[:count])
        bursts.append((now, data))
        now += len(data) * sender.line.byte_time + 0.004
    data, damaged = read_levels(levels_of(bursts, sender.line), port)
    bad = set(damaged)
    return Counter((byte, place in bad) for place, byte in enumerate(data))


def _unmarked(read: Mapping[Symbol, int]) -> Mapping[Symbol, int]:
    """Count bytes as if none were damaged."""
    found: Counter[Symbol] = Counter()
    for (byte, _), count in read.items():
        found[byte, False] += count
    return found


def _likelihood(seen: Mapping[Symbol, int], expected: Mapping[Symbol, int]) -> float:
    """Return the mean logarithm of the likelihood of each byte; one never simulated is rare, not impossible."""
    total = sum(expected.values()) + 512 * 0.25
    count = sum(seen.values())
    return sum(times * math.log((expected.get(symbol, 0) + 0.25) / total) for symbol, times in seen.items()) / count
