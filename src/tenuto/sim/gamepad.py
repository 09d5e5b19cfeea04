"""A simulated gamepad: SDL's own virtual joystick, seen by a source as any other pad."""

from __future__ import annotations

from types import TracebackType
from typing import Self

from tenuto.core.layouts import GAMEPAD_CONTROLS
from tenuto.sources.sdl import start_sdl, stop_sdl

_AXES, _BUTTONS = GAMEPAD_CONTROLS[:6], GAMEPAD_CONTROLS[6:21]


class VirtualGamepad:
    """A pad that exists in this process only. Attached when made; may be pulled out and put back.

    Any thread may move its controls; the change is seen at the next poll of a source.
    """

    def __init__(self) -> None:
        self._sdl = start_sdl()
        self._index = -1
        self._joystick: object = None
        self.attach()

    def attach(self) -> None:
        """Plug the pad in, with everything at rest."""
        sdl = self._sdl
        self._index = sdl.SDL_JoystickAttachVirtual(
            sdl.SDL_JOYSTICK_TYPE_GAMECONTROLLER, len(_AXES), len(_BUTTONS), 0
        )
        self._joystick = sdl.SDL_JoystickOpen(self._index)

    def detach(self) -> None:
        """Pull the pad out."""
        if self._joystick is not None:
            self._sdl.SDL_JoystickDetachVirtual(self._index)
            self._sdl.SDL_JoystickClose(self._joystick)
            self._joystick = None

    def set(self, name: str, raw: int) -> None:
        """Move a control to a raw number: −32768…32767 for axes, 0 or 1 for buttons."""
        sdl = self._sdl
        if name in _AXES:
            sdl.SDL_JoystickSetVirtualAxis(self._joystick, _AXES.index(name), raw)
        else:
            sdl.SDL_JoystickSetVirtualButton(self._joystick, _BUTTONS.index(name), raw)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.detach()
        stop_sdl()
