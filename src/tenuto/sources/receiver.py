"""Radio receivers on a serial port, of every protocol in `tenuto.protocols.radio`."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import ClassVar

from tenuto.basics.frame import Frame, LinkCounts, with_earlier
from tenuto.basics.layouts import ControlInfo
from tenuto.clock import REAL, Aligned, Timer
from tenuto.kinds.options import option
from tenuto.protocols.diagnosis import Diagnosis
from tenuto.protocols.radio.base import RADIOS, RadioProtocol, channel_values
from tenuto.protocols.radio.decoder import ChannelFrame
from tenuto.protocols.uart import LineSettings
from tenuto.sources.base import HeldOptions, Source
from tenuto.sources.port import Piece, PortSource, open_port

# The shortest pause between two frames, and before telemetry, s; within a frame there is none.
_PAUSE = 0.0015
# After this number of bytes without a frame, the sender is not the expected one.
_STRANGE_BYTES = 1000
STRANGE = "bytes arrive, but no valid frame"
FAILSAFE = "the receiver is in failsafe: its transmitter is off, out of reach, or lost in noise"


class Receiver(PortSource):
    """A radio receiver on a serial port. The raw number of a channel is its pulse, µs.

    A frame that the receiver marks as lost is not used: it repeats an older one, and silence must count as
    silence. In failsafe the receiver still sends frames, with the report that the link is not
    good. A port that disappears is opened again.

    Raises:
        SourceError: the port cannot be opened.
    """

    def __init__(self, kind: str, port: str, clock: Timer = REAL) -> None:
        protocol = RADIOS.all[kind]
        self.name = f"{kind} receiver on {port}"
        self.identity = f"{kind}:{port}"
        self._layout, self._aligned = protocol.layout(), Aligned(clock.now)
        self._decoder = protocol.decoder()
        self._port = open_port(port, protocol.baud, protocol.parity, protocol.stop_bits, clock)
        self._fed, self._heard, self._newest = 0, False, -math.inf
        line = LineSettings(protocol.baud, protocol.parity, protocol.stop_bits)
        self._diagnosis = Diagnosis(kind, line, self._port.line)
        self._values: dict[str, float] = {info.name: info.rest for info in self._layout}

    def controls(self) -> tuple[ControlInfo, ...]:
        """Describe the channels of this protocol."""
        return self._layout

    def counts(self) -> LinkCounts:
        """Describe the counts of the decoder."""
        counts = self._decoder.counts
        return LinkCounts(counts.good, counts.bad, counts.lost)

    def poll(self, now: float) -> Frame | None:
        """Return the newest frame; its time is that of its last byte."""
        heard = [frame for piece in self._port.pieces(now) for frame in self._decoded(piece, now)]
        came = [self._framed(at, frame) for at, frame in heard]
        if heard:
            self._heard, self._values = True, channel_values(heard[-1][1])
        if self._port.problem:
            came.append(Frame(now, self._values, False, self._port.problem, counts=self.counts()))
        elif not self._heard and self._fed >= _STRANGE_BYTES:
            note = f"{STRANGE}: tenuto watch {self.identity} says why"
            came.append(Frame(now, self._values, False, note, counts=self.counts()))
        return with_earlier(came)

    def _framed(self, at: float, heard: ChannelFrame) -> Frame:
        """Return a frame of the receiver; what it sends in failsafe are not the sticks of a driver."""
        good, note = not heard.failsafe, FAILSAFE if heard.failsafe else ""
        return Frame(at, channel_values(heard), good, note, heard.signal, self.counts())

    def _decoded(self, piece: Piece, now: float) -> list[tuple[float, ChannelFrame]]:
        """Return the valid frames that a piece completes, with their times on the clock of ``now``."""
        found = self._decoder.feed(piece.data, pause=piece.pause > _PAUSE, damaged=piece.damaged)
        self._diagnosis.take(piece.data, piece.damaged, found)
        self._fed += len(piece.data)
        dated: list[tuple[float, ChannelFrame]] = []
        for frame in found:
            if not frame.lost or frame.failsafe:
                # Bytes that waited in a buffer came faster than the line: no frame is older than the one before.
                self._newest = max(self._newest, piece.at - self._port.byte_time * (self._fed - frame.end))
                dated.append((self._aligned.at(self._newest, now), frame))
        return dated

    def about_line(self) -> list[str]:
        """Describe the faults that the bytes show."""
        return self._diagnosis.findings(self._decoder)


@dataclass(frozen=True, kw_only=True)
class ReceiverOptions(HeldOptions):
    """A radio receiver on a serial port."""

    on_serial_port: ClassVar[bool] = True
    port: str = option("a serial port, such as /dev/ttyAMA0", word="PORT", place=True)

    def open(self, clock: Timer) -> Source:
        """Open the port."""
        return Receiver(self.kind, self.port, clock)


def kinds() -> list[type[ReceiverOptions]]:
    """Make the options of a receiver of every radio protocol."""
    return [_options(name, radio) for name, radio in RADIOS.all.items()]


def _options(name: str, radio: type[RadioProtocol]) -> type[ReceiverOptions]:
    said = {
        "kind": name,
        "layout": radio.layout(),
        "frames": 1.0 / radio.period,
        "__doc__": f"A receiver that speaks {radio.__doc__}",
    }
    return type(f"{name.title()}Options", (ReceiverOptions,), said)
