"""The options of a kind of thing, as fields of a plain dataclass: each says what it is, its unit and its role.

The schema of a profile, the short texts, what ``tenuto begin`` asks, the checks of names and the docs are made from
these.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import MISSING, Field, field, fields
from enum import StrEnum
from typing import Any, NamedTuple

from tenuto.kinds.quantities import Dimension


class Role(StrEnum):
    """What the name that an option holds is the name of."""

    DRIVES = "a control of the device, or the name of one under [controls], that"
    READS = "the name of a control under [controls]"
    SENSES = "a control of the device, or the name of one under [controls]"
    PRESSED = "a switch, or a control that is pressed"


class Ask(NamedTuple):
    """What ``tenuto begin`` asks for a control that drives.

    Attributes:
        name: what the control is called in a new profile.
        way: what the stick should do when it is pushed, such as "turn LEFT". other: the other way.
        speed: the key of ``[speeds]`` without which a new profile's vehicle does not go that way; empty where all do.
    """

    name: str
    way: str
    other: str
    speed: str = ""


STEER = Ask("steer", "turn LEFT", "turn RIGHT")
DRIVE = Ask("drive", "drive FORWARD", "drive BACKWARD")


class About(NamedTuple):
    """What is known of an option.

    Attributes:
        what: what is expected, as an error says it; after a role that ends in "that", what the control does.
        dimension: of a quantity; None for what has no unit. signed: it may be below 0.
        low, high: the least and the largest value allowed. above: it must be more than this.
        fewest: the fewest entries of a list or a table.
        role: what a name is the name of. ask: what ``tenuto begin`` asks for it.
        word: what stands for it in the form of a short text, such as "PORT"; empty for what no short text can say.
        place: it is what follows the colon of a short text. nan: what is no number may stand there.
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
        """What is expected, in words."""
        if self.role is None:
            return self.what
        return f"{self.role} {self.what}" if self.role.endswith("that") else f"{self.role}{self.what}"


def option(what: str = "", default: Any = MISSING, **about: Any) -> Any:
    """Make a field of options; arguments as `About`. Without a default it must be given."""
    return field(default=default, metadata={"about": About(what, **about)})


def about(one: Field[Any]) -> About:
    """Return what is known of a field that `option` made."""
    found = one.metadata.get("about")
    return found if isinstance(found, About) else About("")


def expected(options: Any, key: str) -> str:
    """Return what is expected of one of the options, in words."""
    return next(about(one).expected for one in fields(options) if one.name == key)


def named(options: Any, *roles: Role) -> Iterator[tuple[str, str]]:
    """List the names that options hold in some roles: key and name. The entries of a table are ``key.entry``."""
    for one in fields(options):
        if about(one).role not in roles:
            continue
        value = getattr(options, one.name)
        if isinstance(value, dict):
            yield from ((f"{one.name}.{entry}", name) for entry, name in value.items())
        elif value is not None:
            yield one.name, value
