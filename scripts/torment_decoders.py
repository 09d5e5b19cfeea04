"""Feeds every decoder random and mutated bytes, and prints the results. Part of ``make campaign``.

    python scripts/torment_decoders.py 1000     (megabytes for each decoder)

A frame from random bytes is a false one. A flip is one bit of one frame in a stream of good ones; a wrong frame is one
that was not sent.
"""

from __future__ import annotations

import random
import resource
import sys
import time
from collections.abc import Callable, Iterable, Sequence
from itertools import count
from typing import Any

from tenuto.protocols import LineDecoder
from tenuto.protocols.frames import COMMAND, CommandFrame, FrameFinder, encode_command
from tenuto.protocols.radio.base import RADIOS, RadioProtocol
from tenuto.protocols.velocity_line import VelocityLine, VelocityLineDecoder, encode_velocity_line, with_checksum
from tenuto.vehicles.velocity import VelocityCommand

_CHUNK = 65_536
_FLIPS = 100_000
_counter = count()
Feed = Callable[[bytes], Sequence[Any]]


def _radio(radio: type[RadioProtocol], dice: random.Random) -> bytes:
    channels = radio.plain_channels or radio.channels
    return radio.encode([dice.uniform(988.0, 2012.0) for _ in range(channels)])


def _line(dice: random.Random) -> bytes:
    return with_checksum(b",".join(b"%d" % dice.randrange(1024) for _ in range(4)))


def _command(dice: random.Random) -> VelocityCommand:
    return VelocityCommand(round(dice.uniform(-1, 1), 3), 0.0, 0.0, round(dice.uniform(-1, 1), 3))


def _velocity(dice: random.Random) -> bytes:
    return encode_velocity_line(VelocityLine(next(_counter) % 256, _command(dice), 0.2, True))


def _frame(dice: random.Random) -> bytes:
    return encode_command(CommandFrame(next(_counter) % 256, _command(dice), 0.2, True))


def _makers() -> dict[str, tuple[Callable[[], Feed], Callable[[random.Random], bytes]]]:
    """Name each decoder, its constructor, and the function that makes a good frame for it."""
    found: dict[str, tuple[Callable[[], Feed], Callable[[random.Random], bytes]]] = {
        name: (lambda radio=radio: radio.decoder().feed, lambda dice, radio=radio: _radio(radio, dice))  # type: ignore[misc]
        for name, radio in RADIOS.all.items()
    }
    found["lines"] = (lambda: LineDecoder(["a", "b", "c", "d"], checksum=True).feed, _line)
    found["velocity line"] = (lambda: VelocityLineDecoder().feed, _velocity)
    found["short frame"] = (lambda: FrameFinder(COMMAND).feed, _frame)
    return found


def _streams(good: Callable[[random.Random], bytes], dice: random.Random, total: int) -> Iterable[tuple[bytes, bool]]:
    """Return random bytes and mutated good ones alternately, and whether they are random."""
    done = 0
    while done < total:
        yield dice.randbytes(_CHUNK), True
        data = bytearray(b"".join(good(dice) for _ in range(500)))
        for _ in range(300):
            place = dice.randrange(len(data))
            what = dice.random()
            if what < 0.5:
                data[place] = dice.randrange(256)
            elif what < 0.75:
                del data[place : place + dice.randrange(40)]
            else:
                data[place:place] = dice.randbytes(dice.randrange(40))
        yield bytes(data), False
        done += _CHUNK + len(data)


def _torment(name: str, make: Callable[[], Feed], good: Callable[[random.Random], bytes], total: int) -> None:
    dice, feed = random.Random(1), make()
    false, fed, spent = 0, 0, 0.0
    before = 0
    for number, (data, is_random) in enumerate(_streams(good, dice, total)):
        if is_random:
            feed(bytes(300))  # flush good frames that wait in the decoder
        start = time.perf_counter()
        frames = feed(data)
        spent += time.perf_counter() - start
        fed += len(data)
        false += len(frames) if is_random else 0
        if number == 20:
            before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    grown = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before
    rate, per_gb = fed / spent / 1e6, 2.0 * false / fed * 1e9
    print(
        f"{name:14} {fed / 1e6:7.0f} MB {rate:5.1f} MB/s {per_gb:8.0f} false frames per GB of random bytes, "
        f"{grown} kB more memory, 0 exceptions",
        flush=True,
    )


def _flips(name: str, make: Callable[[], Feed], good: Callable[[random.Random], bytes], parity: bool) -> None:
    """Flip one bit in every tenth frame; count the decoded frames that were not sent."""
    dice = random.Random(2)
    wrong = 0
    for _ in range(_FLIPS // 100):
        frames = [good(dice) for _ in range(1000)]
        sent = _numbers(make()(b"".join(frames)))
        damaged = []
        for number in range(0, 1000, 10):
            frame = bytearray(frames[number])
            place, bit = dice.randrange(len(frame)), dice.randrange(8)
            frame[place] ^= 1 << bit
            damaged.append(sum(map(len, frames[:number])) + place)
            frames[number] = bytes(frame)
        feed: Any = make()
        data = b"".join(frames)
        wrong += len(_numbers(feed(data, damaged=damaged) if parity else feed(data)) - sent)
    print(
        f"{name:14} {'with parity' if parity else '':12} {wrong / _FLIPS * 1e6:9.0f} wrong frames per million flips",
        flush=True,
    )


def _numbers(frames: Sequence[Any]) -> set[str]:
    return {repr(getattr(one, "channels", one)) for one in frames}


def main() -> None:
    """Torment all of them."""
    total = int(float(sys.argv[1]) * 1e6) if len(sys.argv) > 1 else 1_000_000_000
    for name, (make, good) in _makers().items():
        _torment(name, make, good, total)
    for name, (make, good) in _makers().items():
        _flips(name, make, good, False)
        if name in RADIOS.all and RADIOS.all[name].parity != "N":
            _flips(name, make, good, True)


if __name__ == "__main__":
    main()
