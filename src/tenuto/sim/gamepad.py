"""A simulated gamepad: SDL's own virtual joystick, which a source sees as any other pad."""

from __future__ import annotations

import ctypes

from tenuto.basics.closing import Closing
from tenuto.sources.gamepad import GAMEPAD_CONTROLS
from tenuto.sources.sdl import start_sdl, stop_sdl

_TRIGGERS = ("left_trigger", "right_trigger")
_AXES, _BUTTONS = GAMEPAD_CONTROLS[:6], GAMEPAD_CONTROLS[6:21]


class VirtualGamepad(Closing):
    """A pad that exists in this process only. Attached when made; may be unplugged and plugged in again.

    Any thread may move its controls; the change is seen at the next poll of a source.

    Attributes:
        rumbles: every rumble strength, 0…1.
    """

    def __init__(self, *, numbered: bool = False, name: str = "Virtual gamepad") -> None:
        """Attach a pad.

        Args:
            numbered: without a known layout, as a home-made joystick: controls are ``axis_0``, ``button_0``.
            name: of the pad; pads of one name have one identity.
        """
        self._sdl = start_sdl()
        self._open = True
        self.numbered = numbered
        self.name = name
        self.rumbles: list[float] = []
        self._index = -1
        self._joystick: object = None
        self.attach()

    def attach(self) -> None:
        """Plug the pad in, with everything at rest."""
        sdl = self._sdl
        kind = sdl.SDL_JOYSTICK_TYPE_UNKNOWN if self.numbered else sdl.SDL_JOYSTICK_TYPE_GAMECONTROLLER
        desc = sdl.SDL_VirtualJoystickDesc(
            version=1,
            type=kind,
            naxes=len(_AXES),
            nbuttons=len(_BUTTONS),
            nhats=1 if self.numbered else 0,
            name=self.name.encode(),
        )
        self._feel = type(desc.Rumble)(self._shaken)  # a reference is kept: SDL calls it from C
        desc.Rumble = self._feel
        self._index = sdl.SDL_JoystickAttachVirtualEx(ctypes.byref(desc))
        self._joystick = sdl.SDL_JoystickOpen(self._index)
        if not self.numbered:
            for name in _TRIGGERS:
                self.set(name, 0)

    def _shaken(self, _: object, low: int, high: int) -> int:
        self.rumbles.append(max(low, high) / 0xFFFF)
        return 0

    def detach(self) -> None:
        """Unplug the pad."""
        if self._joystick is not None:
            sdl, instance = self._sdl, self._sdl.SDL_JoystickInstanceID(self._joystick)
            for index in range(sdl.SDL_NumJoysticks()):
                if sdl.SDL_JoystickGetDeviceInstanceID(index) == instance:
                    sdl.SDL_JoystickDetachVirtual(index)
                    break
            sdl.SDL_JoystickClose(self._joystick)
            self._joystick = None

    def set(self, name: str, raw: int) -> None:
        """Move a control to a raw number: −32768…32767 for axes, 0…32767 for triggers, 0 or 1 for buttons."""
        sdl = self._sdl
        if name in _TRIGGERS:
            raw = min(2 * raw - 32768, 32767)  # beneath the layout, a trigger is an axis that rests at its low end
        kind, _, number = name.rpartition("_")
        if name in _AXES or kind == "axis":
            axis = int(number) if kind == "axis" else _AXES.index(name)
            sdl.SDL_JoystickSetVirtualAxis(self._joystick, axis, raw)
        else:
            button = int(number) if kind == "button" else _BUTTONS.index(name)
            sdl.SDL_JoystickSetVirtualButton(self._joystick, button, raw)

    def close(self) -> None:
        """Unplug the pad, and release SDL."""
        self.detach()
        if self._open:
            self._open = False
            stop_sdl()
