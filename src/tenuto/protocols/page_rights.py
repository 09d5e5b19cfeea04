"""Who may send what to a page, and when: one table, which the server follows and docs/page.md shows.

Everything that is not in it is refused. A device is one that was admitted, or any page on the robot's own computer;
the driver is the device that has the driver's seat. A watcher has shown no code (``--watchers``).
"""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import NamedTuple


class Role(StrEnum):
    """Whose message it is."""

    WATCHER = "watcher"
    DEVICE = "device"
    DRIVER = "driver"


class Shown(StrEnum):
    """What a page shows."""

    SEAT = "a robot that is driven from here"
    DRIVE = "a robot that is driven elsewhere"
    LOG = "a log"
    CLASS = "a class"


class Right(NamedTuple):
    """The right to send one type of message.

    Attributes:
        roles: who may send it. shown: on which pages. standing: only while the robot stands.
    """

    roles: frozenset[Role]
    shown: frozenset[Shown]
    standing: bool = False


_ANYBODY, _DEVICES = frozenset(Role), frozenset((Role.DEVICE, Role.DRIVER))
_DRIVER = frozenset((Role.DRIVER,))
_SEAT, _ROBOTS = frozenset((Shown.SEAT,)), frozenset((Shown.SEAT, Shown.DRIVE))
RIGHTS: Mapping[str, Right] = {
    "frame": Right(_DRIVER, _SEAT),
    "take": Right(_DEVICES, _SEAT),
    "let_go": Right(_DRIVER, _SEAT),
    "give": Right(_DRIVER, _SEAT),
    "emergency": Right(_DEVICES, frozenset((Shown.SEAT, Shown.DRIVE, Shown.CLASS))),
    "reset": Right(_DRIVER, _ROBOTS),
    "mark": Right(_DEVICES, _ROBOTS),
    "choice": Right(_DEVICES, _ROBOTS),
    "name": Right(_DEVICES, frozenset(Shown)),
    "curve": Right(_DEVICES, _ROBOTS),
    "save": Right(_DEVICES, _ROBOTS, standing=True),
    "at": Right(_ANYBODY, frozenset((Shown.LOG,))),
}


def why_not(message: str, role: Role, shown: Shown, *, moves: bool) -> str:
    """Return why a message is refused; empty if it is admitted.

    Args:
        message: its type. role: of its sender. shown: on the page. moves: the robot is driven, or is stopping.
    """
    right = RIGHTS.get(message)
    if right is None or shown not in right.shown:
        return "this page has nothing to do with that"
    # Where nobody can have the seat, each device may do what the driver may.
    if role not in right.roles and not (role is Role.DEVICE and shown is not Shown.SEAT and Role.DRIVER in right.roles):
        return "this page may only watch" if role is Role.WATCHER else "only the driver may do that"
    if right.standing and moves:
        return "not saved: the robot is being driven; release first"
    return ""
