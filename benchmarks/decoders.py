"""Decoders over 50 MB of each protocol: good frames, frames with flipped bits, frames cut short, and noise.

It prints the rate over that mixture, the rate over good frames alone, and the share of one core that the
protocol needs at its full rate. A decoder that raises ends the run; one that finds no frame fails it.
"""

from __future__ import annotations

import random
import time

from tenuto.protocols import CrsfDecoder, Decoder, IbusDecoder, SbusDecoder
from tenuto.sim.receiver import SimulatedReceiver, wandering_channels

MEGABYTES = 50
PIECE = 4096
# The greatest number of bytes per second: frames without pauses.
FULL_RATE = {"sbus": 25 / 0.007, "crsf": 26 * 500.0, "ibus": 32 / 0.007}
KINDS: dict[str, type[Decoder]] = {"sbus": SbusDecoder, "crsf": CrsfDecoder, "ibus": IbusDecoder}


def frames(kind: str, number: int) -> list[bytes]:
    device = SimulatedReceiver(kind)
    device.unplug()
    result = []
    for step in range(number):
        device.channels = wandering_channels(step * 0.01)
        result += device.next_bytes(step * 0.01)
    return result


def mixture(good: list[bytes], dice: random.Random, size: int) -> bytes:
    """About a quarter noise, a few broken frames, the rest good ones."""
    stream = bytearray()
    while len(stream) < size:
        run = dice.choices(good, k=dice.randrange(1, 30))
        broken = bytearray(dice.choice(good))
        broken[dice.randrange(len(broken))] ^= 1 << dice.randrange(8)
        cut = dice.choice(good)[: dice.randrange(25)]
        stream += b"".join(run) + broken + cut + dice.randbytes(dice.randrange(200))
    return bytes(stream)


def rate(decoder: Decoder, data: bytes, times: int) -> float:
    """Return megabytes per second, in pieces like those of a port."""
    pieces = [data[at : at + PIECE] for at in range(0, len(data), PIECE)]
    began = time.perf_counter()
    for _ in range(times):
        for piece in pieces:
            decoder.feed(piece)
    return len(data) * times / 1e6 / (time.perf_counter() - began)


def main() -> None:
    dice = random.Random(3)
    for kind, make in KINDS.items():
        good = frames(kind, 500)
        fuzzed, clean = make(), make()
        mixed = rate(fuzzed, mixture(good, dice, 2_000_000), MEGABYTES // 2)
        straight = rate(clean, b"".join(good), 60)
        if not fuzzed.counts.good or clean.counts.bad:
            raise SystemExit(f"{kind}: {fuzzed.counts} in the mixture, {clean.counts} of good frames")
        share = FULL_RATE[kind] / 1e6 / straight
        print(f"{kind}: {MEGABYTES} MB of a mixture at {mixed:.1f} MB/s", end=" ")
        print(f"({fuzzed.counts.good} good, {fuzzed.counts.bad} bad), good frames at {straight:.1f} MB/s:", end=" ")
        print(f"{100 * share:.2f} % of one core at the protocol's full rate")


if __name__ == "__main__":
    main()
