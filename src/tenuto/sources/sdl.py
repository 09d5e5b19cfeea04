"""SDL, loaded only when it is used: joysticks only, without a screen, and with our own signal handling."""

from __future__ import annotations

import functools
import warnings
from collections.abc import Collection
from types import ModuleType
from typing import Any, NamedTuple

from tenuto.basics.errors import SourceError

_HINTS = {
    b"SDL_NO_SIGNAL_HANDLERS": b"1",  # Ctrl-C belongs to the loop, which stops the robot first
    b"SDL_JOYSTICK_ALLOW_BACKGROUND_EVENTS": b"1",  # there is no window to have the focus
}
# The number of events that are read at once.
_AT_ONCE = 256


class Change(NamedTuple):
    """A new number of a control: "axis", "button" or "hat", of a known layout or not, its number, and the value."""

    what: str
    known: bool
    number: int
    value: int


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


# SDL has one queue for all devices. The changes that a device's source has not taken yet, by SDL's instance number.
_WAITING: dict[int, list[Change]] = {}


def take_changes(sdl: ModuleType, opened: Collection[int], instance: int) -> list[Change]:
    """Update all devices, and return the changes of one of them since the last call, in their order.

    Args:
        sdl: the module. opened: the devices of all sources; the events of any other one are dropped. instance: it.
    """
    sdl.SDL_JoystickUpdate()
    events = (sdl.SDL_Event * _AT_ONCE)()
    first, last = sdl.SDL_FIRSTEVENT, sdl.SDL_LASTEVENT
    while (count := sdl.SDL_PeepEvents(events, _AT_ONCE, sdl.SDL_GETEVENT, first, last)) > 0:
        for event in events[:count]:
            found = _change(sdl, event)
            if found is not None and found[0] in opened:
                _WAITING.setdefault(found[0], []).append(found[1])
    for gone in [one for one in _WAITING if one not in opened]:
        del _WAITING[gone]
    return _WAITING.pop(instance, [])


def _change(sdl: ModuleType, event: Any) -> tuple[int, Change] | None:
    """Return the device and the change of an event; None for one that changes no control."""
    kind = event.type
    if kind == sdl.SDL_JOYAXISMOTION:
        return event.jaxis.which, Change("axis", False, event.jaxis.axis, event.jaxis.value)
    if kind in (sdl.SDL_JOYBUTTONDOWN, sdl.SDL_JOYBUTTONUP):
        return event.jbutton.which, Change("button", False, event.jbutton.button, event.jbutton.state)
    if kind == sdl.SDL_JOYHATMOTION:
        return event.jhat.which, Change("hat", False, event.jhat.hat, event.jhat.value)
    if kind == sdl.SDL_CONTROLLERAXISMOTION:
        return event.caxis.which, Change("axis", True, event.caxis.axis, event.caxis.value)
    if kind in (sdl.SDL_CONTROLLERBUTTONDOWN, sdl.SDL_CONTROLLERBUTTONUP):
        return event.cbutton.which, Change("button", True, event.cbutton.button, event.cbutton.state)
    return None
