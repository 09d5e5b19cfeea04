"""Simulated sources as short texts, for those who have no device at hand: ``simulated:…``."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, fields
from typing import ClassVar

from tenuto.basics.errors import SourceError
from tenuto.basics.frame import Frame
from tenuto.basics.layouts import ControlInfo
from tenuto.clock import REAL, Timer
from tenuto.kinds.options import option
from tenuto.protocols.radio.base import RADIOS
from tenuto.sim.gamepad import VirtualGamepad
from tenuto.sim.gpio import SimulatedPulses
from tenuto.sim.receiver import LinkFaults, SimulatedReceiver, wandering_channels
from tenuto.sources.base import Source, SourceOptions
from tenuto.sources.gamepad import AXIS_HIGH, Gamepad, GamepadOptions
from tenuto.sources.gpio import GpioPulses
from tenuto.sources.lines import Lines
from tenuto.sources.receiver import Receiver
from tenuto.sources.recording import Recording


class SimulatedSticks(Source):
    """The layout of a gamepad without a device, moved by a formula: always the same at the same time."""

    name = "simulated sticks"
    identity = "simulated:sticks"

    def controls(self) -> tuple[ControlInfo, ...]:
        """Describe the controls of a gamepad."""
        return GamepadOptions.layout

    def poll(self, now: float) -> Frame | None:
        """Return the present raw numbers."""
        return Frame(now, stick_numbers(now))


def stick_numbers(seconds: float) -> dict[str, float]:
    """Move a pad's sticks and triggers one after the other, as a person does who identifies them."""
    values = {info.name: 0.0 for info in GamepadOptions.layout}
    names = ("left_x", "left_y", "right_x", "right_y", "left_trigger", "right_trigger")
    turn, phase = divmod(seconds, 2.0)
    name = names[int(turn) % len(names)]
    swing = math.sin(math.pi * phase)
    values[name] = float(round(AXIS_HIGH * (abs(swing) if name.endswith("trigger") else swing)))
    values["south"] = float(seconds % 3.0 < 0.4)
    values["left_shoulder"] = float(seconds % 12.0 > 1.0)
    return values


class SimulatedGamepad(Gamepad):
    """A virtual gamepad that moves by itself, and is read through SDL as any other."""

    def __init__(self, recording: str | None = None, clock: Timer = REAL) -> None:
        """Attach a pad that is moved as in a recording of one, or by a formula."""
        self._recording = Recording(recording) if recording is not None else None
        self._pad = VirtualGamepad()
        super().__init__()
        self._end: Callable[[], None] | None = clock.every(0.01, self._move, "simulated gamepad")

    def _move(self, seconds: float) -> None:
        for name, value in self._numbers(seconds).items():
            if not name.startswith(("misc", "paddle", "touchpad")):
                self._pad.set(name, int(value))

    def _numbers(self, now: float) -> Mapping[str, float]:
        if self._recording is None:
            return stick_numbers(now)
        frame = self._recording.poll(now)
        return frame.values if frame is not None else {}

    def close(self) -> None:
        """Detach the pad."""
        if self._end is not None:
            self._end()
            self._end = None
            super().close()
            self._pad.close()


class SimulatedRadio(Receiver):
    """A simulated receiver, read through its pseudo-terminal as any other."""

    def __init__(self, kind: str, faults: LinkFaults, clock: Timer = REAL) -> None:
        self.device = SimulatedReceiver(kind, faults=faults, motion=wandering_channels, clock=clock)
        super().__init__(kind, self.device.port, clock)
        self.name = f"simulated {kind} receiver"

    def close(self) -> None:
        """Close the port, and remove the receiver."""
        super().close()
        self.device.unplug()


class SimulatedLines(Lines):
    """A simulated microcontroller that prints lines of numbers, read through its pseudo-terminal."""

    def __init__(self, faults: LinkFaults, clock: Timer = REAL) -> None:
        self.device = SimulatedReceiver("lines", faults=faults, motion=wandering_channels, clock=clock)
        super().__init__(self.device.port, clock=clock)
        self.name = "simulated lines"

    def close(self) -> None:
        """Close the port, and remove the board."""
        super().close()
        self.device.unplug()


@dataclass(frozen=True, kw_only=True)
class SimulatedOptions(SourceOptions):
    """A simulated device, read as a real one; or sticks without a device."""

    kind: ClassVar[str] = "simulated"
    in_profiles: ClassVar[bool] = False
    layout: ClassVar[tuple[ControlInfo, ...]] = ()
    device: str = option(
        "sticks, gamepad, lines, ppm, pwm, or a radio protocol", word="sticks|gamepad|lines|sbus|…", place=True
    )
    recording: str | None = option("a recording that moves a gamepad", None, word="FILE")
    drop: float = option("a share of frames from 0 to 1", 0.0, low=0.0, high=1.0, word="P")
    flip: float = option("a share of bytes from 0 to 1", 0.0, low=0.0, high=1.0, word="P")
    lost: float = option("a share of frames from 0 to 1", 0.0, low=0.0, high=1.0, word="P")
    burst: int = option("a whole number of frames that come at once", 1, low=1, word="N")
    baud: int | None = option("a whole number of baud", None, above=0, word="N")

    def open(self, clock: Timer) -> Source:
        """Plug it in, and open it.

        Raises:
            SourceError: there is no such device.
        """
        faults = LinkFaults(drop=self.drop, flip=self.flip, lost=self.lost, burst=self.burst, baud=self.baud)
        devices: dict[str, Callable[[], Source]] = {
            "sticks": SimulatedSticks,
            "gamepad": lambda: SimulatedGamepad(self.recording, clock),
            "lines": lambda: SimulatedLines(faults, clock),
            **dict.fromkeys(("ppm", "pwm"), lambda: self._pulses(clock)),
            **dict.fromkeys(RADIOS.all, lambda: SimulatedRadio(self.device, faults, clock)),
        }
        if self.device not in devices:
            raise SourceError(f'simulated: expected {", ".join(devices)}; found "{self.device}"')
        self._fits()
        return devices[self.device]()

    def _pulses(self, clock: Timer) -> Source:
        lines = SimulatedPulses(self.device, wandering_channels, drop=self.drop, clock=clock)
        return GpioPulses(self.device, "simulated lines", lines, lines.numbers, clock.now)

    def _fits(self) -> None:
        """Refuse options that have no effect for the device."""
        plain = SimulatedOptions(device=self.device)
        said = [one.name for one in fields(self) if getattr(self, one.name) != getattr(plain, one.name)]
        of_some = {"sticks": (), "gamepad": ("recording",), "ppm": ("drop",), "pwm": ("drop",)}
        known = of_some.get(self.device, ("drop", "flip", "lost", "burst", "baud"))
        wrong = [name for name in said if name not in known]
        if wrong:
            raise SourceError(
                f'simulated:{self.device}: unknown option "{wrong[0]}"; known: {", ".join(known) or "none"}'
            )
