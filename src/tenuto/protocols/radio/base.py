"""The base class of the protocols of radio receivers."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import ClassVar

from tenuto.basics.frame import Signal
from tenuto.basics.layouts import ControlInfo
from tenuto.kinds.registry import Kinds
from tenuto.protocols.radio.decoder import ChannelFrame, Decoder

# The usual ends of a radio channel, and the shortest and longest pulse of any sender, µs.
CHANNEL_LOW, CHANNEL_CENTRE, CHANNEL_HIGH = 988.0, 1500.0, 2012.0
PULSE_LOW, PULSE_HIGH = 700.0, 2300.0


class RadioProtocol(ABC):
    """The protocol of a receiver. Nothing here opens a port, reads a clock or raises on bytes.

    Attributes:
        kind: its name in profiles and short texts.
        channels, switches: the greatest number of proportional channels of a frame, and of on/off ones after them.
        plain_channels: the number where no more are needed; 0 where that is all of them.
        baud, parity, stop_bits: of its line; parity "N", "E" or "O".
        period: between two frames, s, as receivers send them.
        marks_failsafe: a frame can report that the receiver has lost its transmitter; otherwise the receiver falls
            silent, or reports it in its link statistics.
    """

    kind: ClassVar[str]
    channels: ClassVar[int]
    plain_channels: ClassVar[int] = 0
    switches: ClassVar[int] = 0
    baud: ClassVar[int]
    parity: ClassVar[str] = "N"
    stop_bits: ClassVar[int] = 1
    period: ClassVar[float]
    marks_failsafe: ClassVar[bool] = False

    @staticmethod
    @abstractmethod
    def decoder() -> Decoder:
        """Return a decoder that has seen nothing yet."""

    @staticmethod
    @abstractmethod
    def encode(channels: Sequence[float], *, lost: bool = False, failsafe: bool = False) -> bytes:
        """Write a frame; values that the protocol cannot hold are left out.

        Args:
            channels: one pulse for each channel, or for each plain one, µs. lost, failsafe: see `ChannelFrame`.
        """

    @staticmethod
    def encode_link(signal: Signal) -> bytes:
        """Write the receiver's link statistics; nothing if the protocol has no such frame."""
        return b""

    @classmethod
    def layout(cls) -> tuple[ControlInfo, ...]:
        """Describe the channels of a frame as controls."""
        switches = range(cls.channels + 1, cls.channels + cls.switches + 1)
        return (*channel_layout(cls.channels), *(ControlInfo(f"channel_{n}", 0.0, 1.0, 0.0) for n in switches))


RADIOS: Kinds[RadioProtocol] = Kinds("a radio protocol", "tenuto.protocols.radio", RadioProtocol)


def channel_layout(count: int) -> tuple[ControlInfo, ...]:
    """Describe proportional channels as controls: ``channel_1`` …; their raw numbers are pulses, µs."""
    return tuple(
        ControlInfo(f"channel_{n}", PULSE_LOW, PULSE_HIGH, CHANNEL_CENTRE, ends=(CHANNEL_LOW, CHANNEL_HIGH))
        for n in range(1, count + 1)
    )


def channel_values(frame: ChannelFrame) -> dict[str, float]:
    """Name the channels of a frame: ``channel_1`` …, then the on/off ones."""
    values = (*frame.channels, *map(float, frame.switches))
    return {f"channel_{number + 1}": value for number, value in enumerate(values) if not math.isnan(value)}
