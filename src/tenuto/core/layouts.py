"""What each kind of source calls its controls, and which way their numbers count.

The raw numbers of a source stay as the device sends them. What turns them into "forward, left and up
are positive" is the direction kept here, so that a recording of a pad and the pad itself are one thing
to a profile.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

AXIS_LOW, AXIS_HIGH = -32768.0, 32767.0


@dataclass(frozen=True, slots=True)
class ControlInfo:
    """One control of a device.

    Attributes:
        name: what the device calls it.
        low, high: the lowest and highest raw number that the device can send.
        rest: the raw number where it rests; equal to ``low`` for triggers and buttons.
        counts_down: True when the raw number falls as the control goes forward, left or up.
    """

    name: str
    low: float
    high: float
    rest: float
    counts_down: bool = False


_STICK_AXES = ("left_x", "left_y", "right_x", "right_y")
_TRIGGERS = ("left_trigger", "right_trigger")
_BUTTONS = (
    "south", "east", "west", "north", "back", "guide", "start", "left_stick", "right_stick",
    "left_shoulder", "right_shoulder", "dpad_up", "dpad_down", "dpad_left", "dpad_right",
    "misc", "paddle_1", "paddle_2", "paddle_3", "paddle_4", "touchpad",
)  # fmt: skip

_GAMEPAD: dict[str, ControlInfo] = {
    # A pad counts right and down upwards; the frame of the robot counts left and forward upwards.
    **{name: ControlInfo(name, AXIS_LOW, AXIS_HIGH, 0.0, counts_down=True) for name in _STICK_AXES},
    **{name: ControlInfo(name, 0.0, AXIS_HIGH, 0.0) for name in _TRIGGERS},
    **{name: ControlInfo(name, 0.0, 1.0, 0.0) for name in _BUTTONS},
}
_NUMBERED = re.compile(r"(axis|button|hat)_(\d{1,2})(_[xy])?")

GAMEPAD_CONTROLS: tuple[str, ...] = tuple(_GAMEPAD)


def gamepad_control(name: str) -> ControlInfo | None:
    """Describe a control of a gamepad or joystick, or give None where there is none of that name.

    A pad with a known layout has the names in `GAMEPAD_CONTROLS`; any other device numbers its own:
    ``axis_0``, ``button_3``, ``hat_0_x``, ``hat_0_y``.
    """
    if name in _GAMEPAD:
        return _GAMEPAD[name]
    match = _NUMBERED.fullmatch(name)
    if match is None or (match[1] == "hat") != (match[3] is not None):
        return None
    if match[1] == "axis":
        return ControlInfo(name, AXIS_LOW, AXIS_HIGH, 0.0)
    if match[1] == "hat":
        return ControlInfo(name, -1.0, 1.0, 0.0)
    return ControlInfo(name, 0.0, 1.0, 0.0)
