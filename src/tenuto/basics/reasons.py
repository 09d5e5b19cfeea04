"""Reasons: why the robot may not move, or what else the driver should know."""

from __future__ import annotations

from typing import NamedTuple


class Reason(NamedTuple):
    """Why the robot may not move: a code for programs, and a text for people.

    Attributes:
        code: stable, e.g. ``"link_quiet"``.
        text: what is wrong, with numbers and units, and what to do about it.
    """

    code: str
    text: str
