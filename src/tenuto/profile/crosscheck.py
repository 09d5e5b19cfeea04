"""What no single key can tell: whether the tables of a profile fit each other."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from difflib import get_close_matches

from tenuto.core.errors import Problem
from tenuto.core.layouts import GAMEPAD_CONTROLS, gamepad_control
from tenuto.profile.schema import Profile


def crosscheck(profile: Profile) -> list[Problem]:
    """List what is wrong between the tables of a profile, in the order of the file."""
    return [*_controls(profile), *_style(profile), *_guard(profile), *_loop(profile)]


def _controls(profile: Profile) -> Iterator[Problem]:
    for name, control in profile.controls.items():
        key = f"controls.{name}"
        info = gamepad_control(control.reads)
        if info is None:
            yield _unknown(f"{key}.reads", "a control of a gamepad", control.reads, GAMEPAD_CONTROLS)
            continue
        for end in ("low", "centre", "high"):
            raw = getattr(control, end)
            if raw is not None and not info.low <= raw <= info.high:
                yield Problem(f"{key}.{end}", f"a raw number from {info.low:g} to {info.high:g}", f"{raw:g}")
        try:
            control.travel()
        except ValueError:
            found = f"low {control.low}, centre {control.centre}, high {control.high}"
            yield Problem(key, "low < centre < high", found, "keys left out stand for the device's own range")


def _style(profile: Profile) -> Iterator[Problem]:
    style = profile.style
    for key, name in (("style.forward", style.forward), ("style.turn", style.turn)):
        if name not in profile.controls:
            yield _unknown(key, "the name of a control under [controls]", name, tuple(profile.controls))
    if style.forward == style.turn:
        yield Problem("style.turn", "another control than style.forward", f'"{style.turn}"')


def _guard(profile: Profile) -> Iterator[Problem]:
    hold = profile.guard.hold_to_run
    key = "guard.hold_to_run"
    if hold in (profile.style.forward, profile.style.turn):
        yield Problem(key, "a control that does not drive", f'"{hold}"', "hold one thing, steer with another")
    elif hold not in profile.controls and gamepad_control(hold) is None:
        known = (*profile.controls, *GAMEPAD_CONTROLS)
        yield _unknown(key, "a control of a gamepad or the name of one under [controls]", hold, known)


def _loop(profile: Profile) -> Iterator[Problem]:
    period = 1.0 / profile.loop.rate
    for key, value in (
        ("guard.link_timeout", profile.guard.link_timeout),
        ("loop.stall_timeout", profile.loop.stall_timeout),
    ):
        if value < 2.0 * period:
            yield Problem(
                key,
                f"at least two ticks of the loop ({2.0 * period:g} s)",
                f"{value:g} s",
                "or raise loop.rate",
            )


def _unknown(key: str, expected: str, found: str, known: tuple[str, ...]) -> Problem:
    return Problem(key, expected, f'"{found}"', nearest(found, known))


def nearest(word: str, known: Iterable[str]) -> str:
    """Give "did you mean …?" for the known word most like this one, or nothing."""
    close = get_close_matches(word, list(known), n=1)
    return f'did you mean "{close[0]}"?' if close else ""
