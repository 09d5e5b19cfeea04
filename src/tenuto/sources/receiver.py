"""Radio receivers on a serial port: SBUS, CRSF and iBUS."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from tenuto.basics.frame import Frame, LinkCounts, spread, with_earlier
from tenuto.basics.layouts import LAYOUTS, ControlInfo
from tenuto.protocols import ChannelFrame, CrsfDecoder, Decoder, IbusDecoder, SbusDecoder
from tenuto.sources.base import Source
from tenuto.sources.port import Port

FAILSAFE = "the receiver is in failsafe: its transmitter is off, out of reach, or drowned in noise"


class Protocol(NamedTuple):
    """How a receiver is read: its decoder, and the settings of its line."""

    decoder: Callable[[], Decoder]
    baud: int
    parity: str = "N"
    stop_bits: int = 1


PROTOCOLS = {
    "sbus": Protocol(SbusDecoder, 100_000, "E", 2),
    "crsf": Protocol(CrsfDecoder, 420_000),
    "ibus": Protocol(IbusDecoder, 115_200),
}


class Receiver(Source):
    """A radio receiver on a serial port. A channel's raw number is the pulse it stands for, in µs.

    A frame that the receiver marks as lost is no frame: it repeats an older one, and silence must count as
    silence. While the receiver is in failsafe it goes on sending; its frames then say that the link is not
    good. A port that goes away is tried again.

    Raises:
        SourceError: the port cannot be opened.
    """

    def __init__(self, kind: str, port: str) -> None:
        protocol = PROTOCOLS[kind]
        self.name = f"{kind} receiver on {port}"
        self.identity = f"{kind}:{port}"
        self._kind = kind
        self._decoder = protocol.decoder()
        self._port = Port(port, protocol.baud, protocol.parity, protocol.stop_bits)
        self._polled: float | None = None
        self._values: dict[str, float] = {info.name: info.rest for info in LAYOUTS[kind]}

    def controls(self) -> tuple[ControlInfo, ...]:
        """Describe the channels of this protocol."""
        return LAYOUTS[self._kind]

    def counts(self) -> LinkCounts:
        """Say what the decoder has counted."""
        counts = self._decoder.counts
        return LinkCounts(counts.good, counts.bad, counts.lost)

    def poll(self, now: float) -> Frame | None:
        """Give the newest frame of what has come."""
        since, self._polled = now if self._polled is None else self._polled, now
        frames = self._decoder.feed(self._port.read(now))
        if self._port.problem:
            return Frame(now, self._values, False, self._port.problem, counts=self.counts())
        heard = [frame for frame in frames if not frame.lost or frame.failsafe]
        if not heard:
            return None
        newest = heard[-1]
        if newest.failsafe:
            return Frame(now, self._values, False, FAILSAFE, newest.signal, self.counts())
        self._values = channel_values(newest)
        came = spread([channel_values(frame) for frame in heard if not frame.failsafe], since, now)
        came[-1] = Frame(now, self._values, signal=newest.signal, counts=self.counts())
        return with_earlier(came)

    def close(self) -> None:
        """Close the port."""
        self._port.close()


def channel_values(frame: ChannelFrame) -> dict[str, float]:
    """Name the channels of a frame: ``channel_1`` …, the on/off ones after the others."""
    values = (*frame.channels, *map(float, frame.switches))
    return {f"channel_{number + 1}": value for number, value in enumerate(values)}
