"""The options of a kind, as fields of a plain dataclass: each has a description, a unit and a role.

The schema of a profile, the short texts, the questions of ``tenuto begin``, the checks of names and the docs come
from these.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import MISSING, Field, field, fields
from enum import StrEnum
from typing import Any, NamedTuple

from tenuto.kinds.quantities import Dimension


class Role(StrEnum):
    """What the name in an option refers to."""

    DRIVES = "a control of the device, or the name of one under [controls], that"
    READS = "the name of a control under [controls]"
    SENSES = "a control of the device, or the name of one under [controls]"
    PRESSED = "a switch, or a control that is pressed"


class Ask(NamedTuple):
    """The question of ``tenuto begin`` for a control that drives.

    Attributes:
        name: of the control in a new profile.
        way: what the stick should do when it is pushed, such as "turn LEFT". other: the opposite.
        speed: the key of ``[speeds]`` that a new profile needs for this axis; empty if it needs none.
    """

    name: str
    way: str
    other: str
    speed: str = ""


STEER = Ask("steer", "turn LEFT", "turn RIGHT")
DRIVE = Ask("drive", "drive FORWARD", "drive BACKWARD")


class About(NamedTuple):
    """The description of an option.

    Attributes:
        what: what is expected, as in an error; after a role that ends in "that", what the control does.
        dimension: of a quantity; None without a unit. signed: it may be below 0.
        low, high: the smallest and the largest permitted value. above: it must be more than this.
        fewest: the least number of entries of a list or a table.
        role: what a name refers to. ask: the question of ``tenuto begin``.
        word: its placeholder in the form of a short text, such as "PORT"; empty if short texts cannot hold it.
        place: it follows the colon of a short text. nan: NaN is permitted.
    """

    what: str
    dimension: Dimension | None = None
    signed: bool = False
    low: float | None = None
    high: float | None = None
    above: float | None = None
    fewest: int | None = None
    role: Role | None = None
    ask: Ask | None = None
    word: str = ""
    place: bool = False
    nan: bool = False

    @property
    def expected(self) -> str:
        """What is expected, as text."""
        if self.role is None:
            return self.what
        return f"{self.role} {self.what}" if self.role.endswith("that") else f"{self.role}{self.what}"


def option(what: str = "", default: Any = MISSING, **about: Any) -> Any:
    """Make a field of options; arguments as in `About`. Without a default it is required."""
    return field(default=default, metadata={"about": About(what, **about)})


def about(one: Field[Any]) -> About:
    """Return the description of a field that `option` made."""
    found = one.metadata.get("about")
    return found if isinstance(found, About) else About("")


def expected(options: Any, key: str) -> str:
    """Return what is expected of one of the options, as text."""
    return next(about(one).expected for one in fields(options) if one.name == key)


def named(options: Any, *roles: Role) -> Iterator[tuple[str, str]]:
    """List the names in options with certain roles: key and name. The entries of a table are ``key.entry``."""
    for one in fields(options):
        if about(one).role not in roles:
            continue
        value = getattr(options, one.name)
        if isinstance(value, dict):
            yield from ((f"{one.name}.{entry}", name) for entry, name in value.items())
        elif value is not None:
            yield one.name, value
