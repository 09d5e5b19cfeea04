"""A simulated radio receiver on a pseudo-terminal, with faults on demand."""

from __future__ import annotations

import math
import random
from collections.abc import Callable
from dataclasses import dataclass

from tenuto.basics.frame import Signal
from tenuto.clock import REAL, Timer
from tenuto.protocols.radio.base import CHANNEL_CENTRE, RADIOS
from tenuto.sim.device import SerialDevice

# Lines a second of a microcontroller.
_LINES_RATE = 50.0
_LINK_EVERY = 15  # number of channel frames between two frames of link statistics


@dataclass(slots=True)
class LinkFaults:
    """The present faults of a simulated link; set the fields at any time.

    Attributes:
        drop: share of frames that are not sent.
        flip: share of bytes of which one bit is flipped.
        lost: share of frames that the receiver marks as lost (SBUS); they repeat the previous one.
        silent: nothing is sent.
        frozen: the channels keep their values.
        failsafe: the receiver has lost its transmitter and reports it; a protocol that cannot falls silent.
        burst: this number of frames is held back, and sent at once.
        baud: bytes come at the speed of such a line; None for at once.
    """

    drop: float = 0.0
    flip: float = 0.0
    lost: float = 0.0
    silent: bool = False
    frozen: bool = False
    failsafe: bool = False
    burst: int = 1
    baud: int | None = None


class SimulatedReceiver(SerialDevice):
    """Speaks one of the receiver protocols, or prints lines of numbers as a microcontroller does.

    Attributes:
        channels: pulses in µs; set them at any time.
        faults: of the link.
        motion: if set, moves the channels: seconds → 16 pulses in µs.
    """

    def __init__(
        self,
        protocol: str,
        *,
        faults: LinkFaults | None = None,
        motion: Callable[[float], list[float]] | None = None,
        seed: int = 1,
        link: str | None = None,
        clock: Timer = REAL,
    ) -> None:
        """Plug a receiver in.

        Args:
            protocol: one of `tenuto.protocols.radio`, or "lines".
            faults: from the start.
            motion: moves the channels.
            seed: of the random faults.
            link, clock: see `SerialDevice`.
        """
        self.protocol = protocol
        self.channels = [CHANNEL_CENTRE] * 16
        self.faults = faults or LinkFaults()
        self.motion = motion
        self._sent = list(self.channels)
        self._dice = random.Random(seed)
        self._held_back: list[bytes] = []
        self._number = 0
        self._radio = RADIOS.all.get(protocol)
        super().__init__(_LINES_RATE if self._radio is None else 1.0 / self._radio.period, link, clock)

    def next_bytes(self, seconds: float) -> list[bytes]:
        """Return the next frame, with the present faults."""
        faults = self.faults
        if self.motion is not None and not faults.frozen:
            self.channels = self.motion(seconds)
        lost = self._dice.random() < faults.lost
        if not faults.frozen and not lost:
            self._sent = list(self.channels)
        self._number += 1
        if faults.silent or (faults.failsafe and not self._says_failsafe()):
            return []
        if self._dice.random() < faults.drop:
            return []
        self._held_back.append(self._flip(self._encode(lost)))
        if len(self._held_back) < faults.burst:
            return []
        pieces, self._held_back = self._held_back, []
        return self._slowly(pieces) if faults.baud else pieces

    def _says_failsafe(self) -> bool:
        """Return whether the receiver can report failsafe, in its frames or between them."""
        return self._radio is not None and (
            self._radio.marks_failsafe or bool(self._radio.encode_link(Signal(0.0, 0.0, 0.0)))
        )

    def _encode(self, lost: bool) -> bytes:
        faults, radio = self.faults, self._radio
        if radio is None:
            return ",".join(f"{(pulse - 988) / 1024 * 1023:.0f}" for pulse in self._sent[:4]).encode() + b"\r\n"
        frame = radio.encode(self._sent[: radio.plain_channels or radio.channels], lost=lost, failsafe=faults.failsafe)
        if self._number % _LINK_EVERY == 1:
            quality = 0.0 if faults.failsafe else 100.0 * (1.0 - faults.drop)
            return radio.encode_link(Signal(quality, -62.0 - 45.0 * faults.drop, 9.0 - 12.0 * faults.drop)) + frame
        return frame

    def _flip(self, data: bytes) -> bytes:
        if not self.faults.flip:
            return data
        dice = self._dice
        return bytes(b ^ (1 << dice.randrange(8)) if dice.random() < self.faults.flip else b for b in data)

    def _slowly(self, pieces: list[bytes]) -> list[bytes]:
        assert self.faults.baud is not None
        for byte in b"".join(pieces):
            self.write(bytes((byte,)))
            self._clock.sleep_until(self._clock.now() + 10.0 / self.faults.baud)
        return []


def wandering_channels(seconds: float) -> list[float]:
    """Move four sticks to their ends one after another; a switch on channel 5, the rest still."""
    sticks = [1500.0 + 480.0 * math.sin(seconds * speed) * math.sin(seconds * 0.37) for speed in (1.3, 0.9, 1.7, 0.6)]
    return [*sticks, 988.0 if seconds % 8 < 4 else 2012.0, *([1500.0] * 11)]
