"""SDL, loaded only when it is used: joysticks only, without a screen, and with our own signal handling."""

from __future__ import annotations

import functools
import warnings
from types import ModuleType

from tenuto.basics.errors import SourceError

_HINTS = {
    b"SDL_NO_SIGNAL_HANDLERS": b"1",  # Ctrl-C belongs to the loop, which stops the robot first
    b"SDL_JOYSTICK_ALLOW_BACKGROUND_EVENTS": b"1",  # there is no window to have the focus
}


@functools.cache
def load_sdl() -> ModuleType:
    """Import SDL, and set its hints before it starts.

    Raises:
        SourceError: SDL is missing, or cannot be loaded on this machine.
    """
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # it reports the place of its library
            import sdl2
    except ImportError as error:
        raise SourceError(f"SDL, which reads gamepads, does not load: {error}") from error
    for hint, value in _HINTS.items():
        sdl2.SDL_SetHint(hint, value)
    return sdl2  # type: ignore[no-any-return]


def start_sdl() -> ModuleType:
    """Start SDL's joystick part; each call needs one `stop_sdl`. Raises `SourceError`."""
    sdl = load_sdl()
    if sdl.SDL_InitSubSystem(sdl.SDL_INIT_GAMECONTROLLER) != 0:
        raise SourceError(f"SDL does not start: {sdl.SDL_GetError().decode()}")
    return sdl


def stop_sdl() -> None:
    """Undo one `start_sdl`."""
    sdl = load_sdl()
    sdl.SDL_QuitSubSystem(sdl.SDL_INIT_GAMECONTROLLER)
