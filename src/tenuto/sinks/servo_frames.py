"""Servo frames out, by any radio protocol: a computer instead of a radio receiver."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from tenuto.basics.errors import SinkError
from tenuto.driving.plan import Plan
from tenuto.driving.tick import Tick
from tenuto.kinds.options import option
from tenuto.kinds.quantities import FREQUENCY
from tenuto.links.black_box import BlackBox
from tenuto.protocols.radio.base import RADIOS, RadioProtocol
from tenuto.sinks.base import RatedSinkOptions, Sink
from tenuto.sinks.port import OutPort

NEUTRAL_US = 1500.0
_STOPS, _APART = 5, 0.02
_PULSE = ".pulse"


class ServoFrames(Sink):
    """Sends pulses as channels, a frame per tick, or at a limited rate.

    Only actuators and outputs of the form ``"pulse"`` are sent, after the guard: a stop applies here too.
    Without power a frame has the failsafe flag; in a protocol without this flag no frame is sent.

    Raises:
        SinkError: the port cannot be opened, or disappears; the profile has no pulses, or not those.
    """

    def __init__(self, kind: str, port: str, rate: float | None = None, channels: tuple[str, ...] = ()) -> None:
        """Open a port.

        Args:
            kind: of the radio protocol, such as "sbus". port: its name.
            rate: the greatest number of frames per second; None for one per tick.
            channels: the actuators from channel 1 on; by default all that have pulses, in their order.
        """
        self._radio = radio = RADIOS.all[kind]
        self.name = f"{kind} frames on {port}"
        self.period = 1.0 / rate if rate else 0.0
        self._asked, self._names = channels, channels
        self._port = OutPort(port, radio.baud, radio.parity, radio.stop_bits)

    @property
    def problem(self) -> str:
        """Report that the line is too slow."""
        return f"{self.name}: {self._port.slow}" if self._port.slow else ""

    def record_raw(self, box: BlackBox) -> bool:
        """Send all bytes to a black box from now on."""
        return self._port.record_raw(box)

    def start(self, plan: Plan) -> None:
        """Check that there are pulses for the channels."""
        self._names = pulses_of(self.name, plan, self._asked, self._radio.channels)

    def write(self, tick: Tick) -> None:
        """Send the pulses of a tick."""
        if tick.send and self._port.free(self.clock.now()):
            self._send(tick)

    def stop(self, tick: Tick) -> None:
        """Send the stop several times, unless nothing must be sent at all."""
        for _ in range(_STOPS if tick.send else 0):
            self.wait(self._port.free_in(self.clock.now()))
            self._send(tick)
            self.wait(_APART)

    def _send(self, tick: Tick) -> None:
        if not (tick.power or self._radio.marks_failsafe):
            return
        # Without power an actuator has no pulse, and an output keeps its own.
        pulses = [one or NEUTRAL_US for one in pulses_to_send(tick.wire, self._names)]
        plain = self._radio.plain_channels
        pulses += [NEUTRAL_US] * ((plain if len(pulses) <= plain else self._radio.channels) - len(pulses))
        data = self._radio.encode(pulses, lost=not tick.power, failsafe=not tick.power)
        self._port.write(data, self.clock.now())

    def close(self) -> None:
        """Close the port, and abort a write that hangs."""
        self._port.close()


def pulses_of(sink: str, plan: Plan, asked: tuple[str, ...], most: int) -> tuple[str, ...]:
    """Name the actuators whose pulses are sent, from channel 1 on.

    Args:
        sink: its name, for errors. asked: the wanted actuators; by default all that have pulses.
        most: the number of channels.

    Raises:
        SinkError: the profile has no pulses for them, or there are too many.
    """
    known = tuple(one.name for one in plan.actuators if one.form == "pulse")
    missing = [name for name in asked if name not in known]
    if missing or not known:
        have = ", ".join(known) or 'nothing: give an actuator or an output form = "pulse"'
        raise SinkError(f"{sink}: no pulses for {', '.join(missing) or 'any channel'}; the profile has {have}")
    names = asked or known
    if len(names) > most:
        raise SinkError(f"{sink}: {len(names)} pulses, and there are {most} channels")
    return names


def pulses_to_send(wire: Mapping[str, float], names: tuple[str, ...]) -> list[float]:
    """Return the pulses of some actuators, µs."""
    return [wire[name + _PULSE] for name in names]


@dataclass(frozen=True, kw_only=True)
class ServoFramesOptions(RatedSinkOptions):
    """Servo frames, by a radio protocol."""

    port: str = option("a serial port, such as /dev/ttyUSB0", word="PORT", place=True)
    rate: float | None = option('a frequency, such as "25 Hz"', None, dimension=FREQUENCY, word="HZ")
    channels: tuple[str, ...] = option("a list of actuators, from channel 1 on", (), word="A|B")

    def turns(self, plan: Plan) -> dict[str, bool]:
        """Name the actuators that have a channel."""
        return dict.fromkeys(self.channels or [one.name for one in plan.actuators if one.form == "pulse"], True)

    def open(self) -> Sink:
        """Open the port."""
        return ServoFrames(self.kind, self.port, self.rate, self.channels)


def kinds() -> list[type[ServoFramesOptions]]:
    """Make the options of servo frames by every radio protocol."""
    return [_options(name, radio) for name, radio in RADIOS.all.items()]


def _options(name: str, radio: type[RadioProtocol]) -> type[ServoFramesOptions]:
    said = {"kind": name, "__doc__": f"Servo frames by {radio.__doc__}"}
    return type(f"{name.title()}FramesOptions", (ServoFramesOptions,), said)
