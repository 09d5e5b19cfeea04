"""The words for what enables the robot, by how it is operated: held, pressed once, switched, or set by a key."""

from __future__ import annotations

from typing import NamedTuple

from tenuto.basics.layouts import Keys
from tenuto.basics.reasons import Code, Reason


class Wording(NamedTuple):
    """Why it is not enabled (never pressed; held since the last stop), and why a drive has ended (released)."""

    not_pressed: Reason
    not_released: Reason
    released: Reason


def wording(
    enables: str, *, pressed_once: bool = False, with_enable: str | None = None, asked: str = "", stays: bool = False,
    keys: Keys | None = None,
) -> Wording:  # fmt: skip
    """Return the words of a robot.

    Args:
        enables: what must be held or pressed to drive.
        pressed_once: it is a switch that enables when it is pressed, not a control that is held.
        with_enable: the switch that must be pressed in addition; None for none.
        asked: how to switch it on, if not by a press. stays: it stays where it is put, as a lever.
        keys: those that set it, if it is not held.
    """
    again = f"{enables} must be pressed again: release it, centre the sticks, press it"
    if pressed_once:
        does = f"switch {enables} on" if stays else f"press {enables}"
        text = f"centre the sticks, {does} to drive"
        text = f"{enables} is not switched on: {asked}, then release the sticks" if asked else text
        done = "done again" if asked else "switched off" if stays else "pressed again"
        return Wording(
            Reason(Code.NOT_ENABLED, text),
            Reason(Code.HOLD_NOT_RELEASED, again),
            Reason(Code.SWITCHED_OFF, f"{enables} was {done}"),
        )
    text, ended = f"{enables} is not held: hold it to drive", f"{enables} was released"
    if with_enable is not None:
        then = asked or "press the other"
        text = (
            f"{enables} is not held, or {with_enable} is not switched on: hold the one, {then}; "
            "after a stop, both must be off first"
        )
        ended = f"{enables} was released, or {with_enable} was switched off"
    elif keys is not None:
        text, ended = f"{enables} is off: press {keys.on} to drive", f"{enables} was switched off ({keys.ends})"
        again = f"{enables} must be switched on again: press {keys.off}, then {keys.on}"
    return Wording(
        Reason(Code.HOLD_NOT_PRESSED, text), Reason(Code.HOLD_NOT_RELEASED, again), Reason(Code.HOLD_RELEASED, ended)
    )
