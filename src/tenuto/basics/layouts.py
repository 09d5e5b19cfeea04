"""What each kind of source calls its controls, what numbers they send, and which way they count.

The raw numbers of a source stay as the device sends them. What turns them into "forward, left and up
are positive" is the direction kept here, so that a recording of a pad and the pad itself are one thing
to a profile.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

AXIS_LOW, AXIS_HIGH = -32768.0, 32767.0
# The usual ends of a radio channel, and the shortest and longest pulse that any sender makes, µs.
CHANNEL_LOW, CHANNEL_CENTRE, CHANNEL_HIGH = 988.0, 1500.0, 2012.0
PULSE_LOW, PULSE_HIGH = 700.0, 2300.0
# How far a hand tilts before its command is full, rad.
TILT = math.radians(35.0)


@dataclass(frozen=True, slots=True)
class ControlInfo:
    """One control of a device.

    Attributes:
        name: what the device calls it.
        low, high: the lowest and highest raw number that the device can send; infinite where unknown.
        rest: the raw number where it rests; equal to ``low`` for triggers and buttons.
        counts_down: True when the raw number falls as the control goes forward, left or up.
        ends: what it usually reaches, where that is not what it can send at most.
    """

    name: str
    low: float
    high: float
    rest: float
    counts_down: bool = False
    ends: tuple[float, float] | None = None

    @property
    def kind(self) -> str:
        """One word for it: "button", "lever" (rests at its end) or "stick" (rests in its middle)."""
        if (self.low, self.high, self.rest) == (0.0, 1.0, 0.0):
            return "button"
        return "stick" if self.low < self.rest < self.high else "lever"

    @property
    def travel(self) -> tuple[float, float] | None:
        """The usual ends of its travel, or None where nothing is known before it is measured."""
        if self.ends is not None or math.isfinite(self.low):
            return self.ends or (self.low, self.high)
        return None


_STICK_AXES = ("left_x", "left_y", "right_x", "right_y")
_TRIGGERS = ("left_trigger", "right_trigger")
_BUTTONS = (
    "south", "east", "west", "north", "back", "guide", "start", "left_stick", "right_stick",
    "left_shoulder", "right_shoulder", "dpad_up", "dpad_down", "dpad_left", "dpad_right",
    "misc", "paddle_1", "paddle_2", "paddle_3", "paddle_4", "touchpad",
)  # fmt: skip
_NUMBERED = re.compile(r"(axis|button|hat)_(\d{1,2})(_[xy])?")

_GAMEPAD = (
    # A pad counts right and down upwards; the frame of the robot counts left and forward upwards.
    *(ControlInfo(name, AXIS_LOW, AXIS_HIGH, 0.0, counts_down=True) for name in _STICK_AXES),
    *(ControlInfo(name, 0.0, AXIS_HIGH, 0.0) for name in _TRIGGERS),
    *(ControlInfo(name, 0.0, 1.0, 0.0) for name in _BUTTONS),
)
_CHANNELS = tuple(
    ControlInfo(f"channel_{n}", PULSE_LOW, PULSE_HIGH, CHANNEL_CENTRE, ends=(CHANNEL_LOW, CHANNEL_HIGH))
    for n in range(1, 17)
)
_SBUS_SWITCHES = tuple(ControlInfo(f"channel_{n}", 0.0, 1.0, 0.0) for n in (17, 18))
_KEYBOARD = (
    ControlInfo("forward", -1.0, 1.0, 0.0),
    ControlInfo("turn", -1.0, 1.0, 0.0),
    ControlInfo("enable", 0.0, 1.0, 0.0),
    ControlInfo("emergency", 0.0, 1.0, 0.0),
    ControlInfo("reset", 0.0, 1.0, 0.0),
)
_TILT = (
    # Rolling is right-handed about x: positive to the right. Pitching is positive to the front.
    ControlInfo("roll", -math.pi, math.pi, 0.0, counts_down=True, ends=(-TILT, TILT)),
    ControlInfo("pitch", -math.pi, math.pi, 0.0, ends=(-TILT, TILT)),
)

LAYOUTS: dict[str, tuple[ControlInfo, ...]] = {
    "gamepad": _GAMEPAD,
    "sbus": (*_CHANNELS, *_SBUS_SWITCHES),
    "crsf": _CHANNELS,
    "ibus": _CHANNELS[:14],
    "ppm": _CHANNELS[:12],
    "pwm": _CHANNELS[:12],
    "keyboard": _KEYBOARD,
    "tilt": _TILT,
    "lines": (),
}
GAMEPAD_CONTROLS: tuple[str, ...] = tuple(info.name for info in _GAMEPAD)
# Kinds whose columns the builder names.
_OPEN = ("lines", "tilt")


def control_info(kind: str, name: str) -> ControlInfo | None:
    """Describe a control of a kind of source, or give None where it has none of that name.

    A pad with a known layout has the names of ``LAYOUTS["gamepad"]``; any other device numbers its own:
    ``axis_0``, ``button_3``, ``hat_0_x``, ``hat_0_y``. Lines have whatever columns the builder names.
    """
    for info in LAYOUTS[kind]:
        if info.name == name:
            return info
    if kind in _OPEN:
        return ControlInfo(name, -math.inf, math.inf, 0.0)
    return _numbered_control(name) if kind == "gamepad" else None


def _numbered_control(name: str) -> ControlInfo | None:
    match = _NUMBERED.fullmatch(name)
    if match is None or (match[1] == "hat") != (match[3] is not None):
        return None
    if match[1] == "axis":
        return ControlInfo(name, AXIS_LOW, AXIS_HIGH, 0.0)
    if match[1] == "hat":
        return ControlInfo(name, -1.0, 1.0, 0.0)
    return ControlInfo(name, 0.0, 1.0, 0.0)
