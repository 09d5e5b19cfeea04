"""Gamepads and joysticks through SDL, which knows the layout of several hundred pads."""

from __future__ import annotations

import ctypes
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from types import ModuleType
from typing import Any, ClassVar, NamedTuple

from tenuto.basics.errors import SourceError
from tenuto.basics.frame import Frame, with_earlier
from tenuto.basics.layouts import ControlInfo
from tenuto.clock import Timer
from tenuto.kinds.options import option
from tenuto.sources.base import HeldOptions, Source, SourceOptions
from tenuto.sources.sdl import Change, start_sdl, stop_sdl, take_changes

Reader = Callable[[], float]

AXIS_LOW, AXIS_HIGH = -32768.0, 32767.0
_STICK_AXES = ("left_x", "left_y", "right_x", "right_y")
_TRIGGERS = ("left_trigger", "right_trigger")
_BUTTONS = (
    "south", "east", "west", "north", "back", "guide", "start", "left_stick", "right_stick",
    "left_shoulder", "right_shoulder", "dpad_up", "dpad_down", "dpad_left", "dpad_right",
    "misc", "paddle_1", "paddle_2", "paddle_3", "paddle_4", "touchpad",
)  # fmt: skip
_NUMBERED = re.compile(r"(axis|button|hat)_(\d{1,2})(_[xy])?")

_GAMEPAD = (
    # On a pad, right and down are positive; in the frame of the robot, left and forward are.
    *(ControlInfo(name, AXIS_LOW, AXIS_HIGH, 0.0, counts_down=True) for name in _STICK_AXES),
    *(ControlInfo(name, 0.0, AXIS_HIGH, 0.0) for name in _TRIGGERS),
    *(ControlInfo(name, 0.0, 1.0, 0.0) for name in _BUTTONS),
)
GAMEPAD_CONTROLS: tuple[str, ...] = tuple(info.name for info in _GAMEPAD)


class Found(NamedTuple):
    """A gamepad or joystick that is connected.

    Attributes:
        place: SDL's number for it, valid until the next device is plugged in or unplugged.
        instance: SDL's number for it since it was plugged in; never used again.
        identity: the same each time it is plugged in: SDL's identifier of its model, and its serial
            number if it reports one.
        name: as it reports it.
        path: the system's name of the place where it is plugged in; empty if there is none.
    """

    place: int
    instance: int
    identity: str
    name: str
    path: str


def connected_gamepads() -> list[Found]:
    """List the connected gamepads and joysticks. Raises `SourceError` if SDL does not start."""
    sdl = start_sdl()
    try:
        return _connected(sdl)
    finally:
        stop_sdl()


def _connected(sdl: ModuleType) -> list[Found]:
    sdl.SDL_JoystickUpdate()
    return [_found(sdl, index) for index in range(sdl.SDL_NumJoysticks())]


def _found(sdl: ModuleType, index: int) -> Found:
    text = ctypes.create_string_buffer(33)
    sdl.SDL_JoystickGetGUIDString(sdl.SDL_JoystickGetDeviceGUID(index), text, 33)
    joystick = sdl.SDL_JoystickOpen(index)
    serial = (sdl.SDL_JoystickGetSerial(joystick) or b"").decode(errors="replace") if joystick else ""
    if joystick:
        sdl.SDL_JoystickClose(joystick)
    kind = text.value.decode()
    name = (sdl.SDL_JoystickNameForIndex(index) or b"a joystick without a name").decode(errors="replace")
    path = (sdl.SDL_JoystickPathForIndex(index) or b"").decode(errors="replace")
    instance = sdl.SDL_JoystickGetDeviceInstanceID(index)
    return Found(index, instance, f"{kind}-{serial}" if serial else kind, name, path)


class Gamepad(Source):
    """A gamepad or joystick; after it was unplugged, the same one again.

    A pad with a known layout has the control names of `GAMEPAD_CONTROLS`; any other
    device has numbered ones: ``axis_0``, ``button_0``, ``hat_0_x``. The raw numbers are SDL's, in the signs of the
    device: right and down are positive.

    Of two equal pads without serial numbers, the one that stays plugged in is never taken for the one that
    was unplugged: only a newly plugged device can be the lost one.

    Raises:
        SourceError: no matching device is connected, or SDL does not start.
    """

    def __init__(self, device: str | None = None) -> None:
        """Open a device.

        Args:
            device: its identity, as ``tenuto devices`` shows it, or the place where it is plugged in; by default the
                first that no other source has opened.
        """
        self._sdl = start_sdl()
        self._device: _Device | None = None
        self._values: dict[str, float] = {}
        try:
            found = self._choose(device)
            self._device = _Device(self._sdl, found)
        except BaseException:
            stop_sdl()
            raise
        _OPENED.add(found.instance)
        self.name, self.identity = found.name, found.identity
        self._controls = self._device.controls()
        self._others = set(self._instances())
        self._note = ""
        self._open = True

    def _choose(self, device: str | None) -> Found:
        found = _connected(self._sdl)
        for candidate in found:
            if candidate.instance not in _OPENED and device in (None, candidate.identity, candidate.path):
                return candidate
        if device is None:
            raise SourceError("no gamepad or joystick is connected: plug one in, or drive from a recording")
        there = ", ".join(f"{one.name} ({one.identity})" for one in found) or "none"
        raise SourceError(f"no gamepad has the identity {device}; connected: {there}")

    def controls(self) -> tuple[ControlInfo, ...]:
        """Describe the controls of the device that was opened."""
        return self._controls

    def poll(self, now: float) -> Frame | None:
        """Read the present state of the device, and what happened since. While it is unplugged, the link is bad."""
        instance = self._device.found.instance if self._device is not None else -1
        changes = take_changes(self._sdl, _OPENED, instance)
        came = []
        if self._device is not None:
            came = [Frame(now, values) for values in between(self._values, self._device.named(changes))]
            if not self._device.attached():
                self._lose()
        if self._device is None:
            self._find_again()
        if self._device is None:
            return with_earlier([*came, Frame(now, self._values, False, self._note)])
        self._others = set(self._instances())
        self._values = self._device.read()
        return with_earlier([*came, Frame(now, self._values)])

    def _instances(self) -> list[int]:
        """Return SDL's instance numbers of all connected devices, in the order of its list."""
        sdl = self._sdl
        return [sdl.SDL_JoystickGetDeviceInstanceID(index) for index in range(sdl.SDL_NumJoysticks())]

    def _lose(self) -> None:
        assert self._device is not None
        _OPENED.discard(self._device.found.instance)
        self._device.close()
        self._device = None
        self._note = f"{self.name} is disconnected: plug it in again"

    def _find_again(self) -> None:
        """Open the lost device if it is connected again; report another one in its place."""
        for index, instance in enumerate(self._instances()):
            if instance in self._others or instance in _OPENED:
                continue
            self._others.add(instance)
            found = _found(self._sdl, index)
            device = _Device(self._sdl, found)
            if found.identity == self.identity and device.controls() == self._controls:
                self._device = device
                _OPENED.add(instance)
                return
            self._note = self._difference(found, device.controls())
            device.close()

    def _difference(self, found: Found, controls: tuple[ControlInfo, ...]) -> str:
        """Describe how a new device differs from the lost one."""
        before, after = ({info.name for info in infos} for infos in (self._controls, controls))
        parts = [f"{self.name} is disconnected, and {found.name} is in its place"]
        if found.identity != self.identity:
            parts.append(f"with another identity ({found.identity}, not {self.identity})")
        if before != after:
            gone, new = (", ".join(sorted(names)) or "nothing" for names in (before - after, after - before))
            parts.append(f"with other controls (without {gone}; with {new})")
        return " ".join(parts) + ": if it is the same pad, set its mode switch back and plug it in again"

    def rumble(self, strength: float, seconds: float) -> bool:
        """Rumble; False if the pad has no motors or is unplugged."""
        if self._device is None:
            return False
        level = round(min(max(strength, 0.0), 1.0) * 0xFFFF)
        result = self._sdl.SDL_JoystickRumble(self._device.joystick, level, level, round(seconds * 1000))
        return bool(result == 0)

    def close(self) -> None:
        """Release the device."""
        if self._open:
            self._open = False
            if self._device is not None:
                _OPENED.discard(self._device.found.instance)
                self._device.close()
            stop_sdl()


def between(values: Mapping[str, float], changes: Iterable[tuple[str, float]]) -> list[dict[str, float]]:
    """Return the states of a device between two readings: one each time that a control turns back.

    A button that was pressed and released in between is pressed in one of them. A stick that moves in one direction
    adds none: whatever it passed lies between the two readings.

    Args:
        values: control → number at the first reading. changes: each new number since, in order.
    """
    state, states, ways = dict(values), list[dict[str, float]](), dict[str, bool]()
    for name, value in changes:
        before = state.get(name, value)
        if value == before:
            continue
        if ways.get(name, value > before) is not (value > before):
            states.append(state.copy())
            ways.clear()
        ways[name] = value > before
        state[name] = value
    return states


# The devices that sources of this process have opened, by SDL's instance number; a process has only one SDL.
_OPENED: set[int] = set()


class _Device:
    """One opened device, read control by control."""

    def __init__(self, sdl: ModuleType, found: Found) -> None:
        self._sdl = sdl
        self.found = found
        index = found.place
        self._pad: Any = sdl.SDL_GameControllerOpen(index) if sdl.SDL_IsGameController(index) else None
        self.joystick = sdl.SDL_GameControllerGetJoystick(self._pad) if self._pad else sdl.SDL_JoystickOpen(index)
        if not self.joystick:
            raise SourceError(f"{found.name} cannot be opened: {sdl.SDL_GetError().decode()}")
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
        sdl, stick = self._sdl, self.joystick
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
        described = (GamepadOptions.control(name) for name in self._readers)
        return tuple(info for info in described if info is not None)

    def attached(self) -> bool:
        return bool(self._sdl.SDL_JoystickGetAttached(self.joystick))

    def read(self) -> dict[str, float]:
        return {name: reader() for name, reader in self._readers.items()}

    def named(self, changes: Iterable[Change]) -> Iterator[tuple[str, float]]:
        """Return the changed controls by name; a device with a known layout has other events too."""
        for what, known, number, value in changes:
            if known is not bool(self._pad):
                continue
            if what == "hat":
                yield f"hat_{number}_x", _hat_axis(value, self._sdl.SDL_HAT_RIGHT, self._sdl.SDL_HAT_LEFT)
                yield f"hat_{number}_y", _hat_axis(value, self._sdl.SDL_HAT_DOWN, self._sdl.SDL_HAT_UP)
            elif known:
                names = GAMEPAD_CONTROLS[:6] if what == "axis" else GAMEPAD_CONTROLS[6:]
                if number < len(names):
                    yield names[number], float(value)
            else:
                yield f"{what}_{number}", float(value)

    def close(self) -> None:
        if self._pad:
            self._sdl.SDL_GameControllerClose(self._pad)
        else:
            self._sdl.SDL_JoystickClose(self.joystick)


def _bind(read: Callable[[Any, int], int], device: Any, number: int) -> Reader:
    return lambda: float(read(device, number))


def _hat(sdl: ModuleType, stick: Any, number: int, upward: int, downward: int) -> Reader:
    """Read one axis of a hat as −1, 0 or 1, with the signs of a stick: right and down are positive."""

    return lambda: _hat_axis(sdl.SDL_JoystickGetHat(stick, number), upward, downward)


def _hat_axis(bits: int, upward: int, downward: int) -> float:
    return float(bool(bits & upward)) - float(bool(bits & downward))


def _numbered_control(name: str) -> ControlInfo | None:
    match = _NUMBERED.fullmatch(name)
    if match is None or (match[1] == "hat") != (match[3] is not None):
        return None
    if match[1] == "axis":
        return ControlInfo(name, AXIS_LOW, AXIS_HIGH, 0.0)
    if match[1] == "hat":
        return ControlInfo(name, -1.0, 1.0, 0.0)
    return ControlInfo(name, 0.0, 1.0, 0.0)


@dataclass(frozen=True, kw_only=True)
class GamepadOptions(HeldOptions):
    """A gamepad or joystick.

    One with a known layout has the names of ``layout``; any other device has numbered ones: ``axis_0``, ``button_3``,
    ``hat_0_x``, ``hat_0_y``.
    """

    kind: ClassVar[str] = "gamepad"
    layout: ClassVar[tuple[ControlInfo, ...]] = _GAMEPAD
    steps: ClassVar[int] = 256
    device: str | None = option("the identity of a gamepad, from tenuto devices", None, word="IDENTITY", place=True)

    @classmethod
    def control(cls, name: str) -> ControlInfo | None:
        """Describe a control of a pad, or of a device with numbered controls."""
        return super().control(name) or _numbered_control(name)

    def another(self) -> SourceOptions:
        """Return the same settings without the identity: another driver has another pad."""
        return replace(self, device=None)

    def open(self, clock: Timer) -> Source:
        """Open the pad; by default the first that no other source has opened."""
        return Gamepad(self.device)
