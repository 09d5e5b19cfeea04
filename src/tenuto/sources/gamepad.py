"""Gamepads and joysticks through SDL, which knows the layout of several hundred pads."""

from __future__ import annotations

import ctypes
from collections.abc import Callable
from types import ModuleType
from typing import Any

from tenuto.core.errors import SourceError
from tenuto.core.frame import Frame
from tenuto.core.layouts import GAMEPAD_CONTROLS, ControlInfo, gamepad_control
from tenuto.sources.base import Source
from tenuto.sources.sdl import start_sdl, stop_sdl

Reader = Callable[[], float]


class Gamepad(Source):
    """The first gamepad or joystick that is connected, and the same one again after it was gone.

    A pad with a known layout has the control names of `tenuto.core.layouts.GAMEPAD_CONTROLS`; any other
    device numbers its own: ``axis_0``, ``button_0``, ``hat_0_x``. The raw numbers are SDL's, as the device
    counts: right and down upwards.

    Raises:
        SourceError: nothing is connected, or SDL does not start.
    """

    def __init__(self) -> None:
        self._sdl = start_sdl()
        self._device: _Device | None = None
        self._identity = ""
        self._values: dict[str, float] = {}
        try:
            self._sdl.SDL_JoystickUpdate()
            self._device = self._find()
            if self._device is None:
                raise SourceError(
                    "no gamepad or joystick is connected: plug one in, or drive from a recording"
                )
        except BaseException:
            stop_sdl()
            raise
        self.name = self._device.name
        self._identity = self._device.identity
        self._controls = self._device.controls()
        self._open = True

    def controls(self) -> tuple[ControlInfo, ...]:
        """Describe the controls of the device that was opened."""
        return self._controls

    def poll(self, now: float) -> Frame | None:
        """Read the device as it is now. While it is gone the frame says so, and its link is not good."""
        sdl = self._sdl
        sdl.SDL_JoystickUpdate()
        # Nobody reads SDL's queue of events: left alone it would grow.
        sdl.SDL_FlushEvents(sdl.SDL_FIRSTEVENT, sdl.SDL_LASTEVENT)
        if self._device is not None and not self._device.attached():
            self._device.close()
            self._device = None
        if self._device is None:
            self._device = self._find()
        if self._device is None:
            return Frame(now, self._values, False, f"{self.name} is gone: plug it in again")
        self._values = self._device.read()
        return Frame(now, self._values)

    def _find(self) -> _Device | None:
        """Open the device that was there before, or the first of all when there was none."""
        for index in range(self._sdl.SDL_NumJoysticks()):
            identity = _identity(self._sdl, self._sdl.SDL_JoystickGetDeviceGUID(index))
            if self._identity in ("", identity):
                return _Device(self._sdl, index, identity)
        return None

    def close(self) -> None:
        """Let go of the device."""
        if self._open:
            self._open = False
            if self._device is not None:
                self._device.close()
            stop_sdl()


class _Device:
    """One opened device, read control by control."""

    def __init__(self, sdl: ModuleType, index: int, identity: str) -> None:
        self._sdl = sdl
        self.identity = identity
        self._pad: Any = sdl.SDL_GameControllerOpen(index) if sdl.SDL_IsGameController(index) else None
        if self._pad:
            self._joystick = sdl.SDL_GameControllerGetJoystick(self._pad)
        else:
            self._joystick = sdl.SDL_JoystickOpen(index)
        if not self._joystick:
            raise SourceError(f"device {index} does not open: {sdl.SDL_GetError().decode()}")
        self.name = (sdl.SDL_JoystickName(self._joystick) or b"a joystick without a name").decode()
        self._readers = self._known_layout() if self._pad else self._numbered()

    def _known_layout(self) -> dict[str, Reader]:
        sdl, pad = self._sdl, self._pad
        readers: dict[str, Reader] = {}
        axes, buttons = GAMEPAD_CONTROLS[: sdl.SDL_CONTROLLER_AXIS_MAX], GAMEPAD_CONTROLS[6:]
        for number, name in enumerate(axes):
            if sdl.SDL_GameControllerHasAxis(pad, number):
                readers[name] = _bind(sdl.SDL_GameControllerGetAxis, pad, number)
        for number, name in enumerate(buttons):
            if sdl.SDL_GameControllerHasButton(pad, number):
                readers[name] = _bind(sdl.SDL_GameControllerGetButton, pad, number)
        return readers

    def _numbered(self) -> dict[str, Reader]:
        sdl, stick = self._sdl, self._joystick
        readers: dict[str, Reader] = {}
        for number in range(sdl.SDL_JoystickNumAxes(stick)):
            readers[f"axis_{number}"] = _bind(sdl.SDL_JoystickGetAxis, stick, number)
        for number in range(sdl.SDL_JoystickNumButtons(stick)):
            readers[f"button_{number}"] = _bind(sdl.SDL_JoystickGetButton, stick, number)
        for number in range(sdl.SDL_JoystickNumHats(stick)):
            readers[f"hat_{number}_x"] = _hat(sdl, stick, number, sdl.SDL_HAT_RIGHT, sdl.SDL_HAT_LEFT)
            readers[f"hat_{number}_y"] = _hat(sdl, stick, number, sdl.SDL_HAT_DOWN, sdl.SDL_HAT_UP)
        return readers

    def controls(self) -> tuple[ControlInfo, ...]:
        described = (gamepad_control(name) for name in self._readers)
        return tuple(info for info in described if info is not None)

    def attached(self) -> bool:
        return bool(self._sdl.SDL_JoystickGetAttached(self._joystick))

    def read(self) -> dict[str, float]:
        return {name: reader() for name, reader in self._readers.items()}

    def close(self) -> None:
        if self._pad:
            self._sdl.SDL_GameControllerClose(self._pad)
        else:
            self._sdl.SDL_JoystickClose(self._joystick)


def _bind(read: Callable[[Any, int], int], device: Any, number: int) -> Reader:
    return lambda: float(read(device, number))


def _hat(sdl: ModuleType, stick: Any, number: int, upward: int, downward: int) -> Reader:
    """Read one axis of a hat as −1, 0 or 1, counting as a stick does: right and down upwards."""

    def read() -> float:
        bits = sdl.SDL_JoystickGetHat(stick, number)
        return float(bool(bits & upward)) - float(bool(bits & downward))

    return read


def _identity(sdl: ModuleType, guid: Any) -> str:
    """Give SDL's identifier of a kind of device as 32 hexadecimal digits."""
    text = ctypes.create_string_buffer(33)
    sdl.SDL_JoystickGetGUIDString(guid, text, 33)
    return text.value.decode()
