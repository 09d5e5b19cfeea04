"""The settings and messages of a broker."""

from __future__ import annotations

import re
from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass, fields
from typing import Any, NamedTuple

from tenuto.basics.errors import TenutoError
from tenuto.kinds.options import option

_NAME = re.compile(r"[A-Za-z0-9_-]{1,64}")


@dataclass(frozen=True)
class BrokerSettings:
    """The address and the user of a broker.

    Attributes:
        host, port: its address; port None for 1883, or 8883 with TLS.
        user: a user name. password_file: a file with the password only.
        ca: a file with the certificates to trust; it turns TLS on. "system" trusts those of the system.
        certificate, private_key: files with the identity of this machine.
        plain_password: the password may be sent without TLS.
    """

    host: str
    port: int | None = None
    user: str | None = None
    password_file: str | None = None
    ca: str | None = None
    certificate: str | None = None
    private_key: str | None = None
    plain_password: bool = False


class Message(NamedTuple):
    """A message from the broker; ``kept``: it was retained there, and may be old."""

    topic: str
    data: bytes
    kept: bool = False


def unread(inbox: deque[Message]) -> Iterator[Message]:
    """Return what waits in an inbox now; what comes meanwhile waits for the next time, so that a flood ends."""
    for _ in range(len(inbox)):
        yield inbox.popleft()


def is_robot_name(text: str) -> bool:
    """Return whether a text is the name of a robot: letters, digits, - and _, 64 at most."""
    return _NAME.fullmatch(text) is not None


def split_place(place: str, error: type[TenutoError]) -> tuple[str, int | None, str]:
    """Read ``HOST[:PORT]/ROBOT``. Raises ``error``."""
    if "@" in place:
        raise error("mqtt: an address has no user and no password: set user=NAME and password_file=FILE")
    where, slash, robot = place.partition("/")
    host, _, port = where.partition(":")
    if not (host and slash and is_robot_name(robot) and (port.isdecimal() or not port)):
        raise error(f'mqtt: expected HOST/ROBOT or HOST:PORT/ROBOT, ROBOT of letters, digits, - and _; found "{place}"')
    return host, int(port) if port else None, robot


@dataclass(frozen=True, kw_only=True)
class BrokerOptions:
    """The settings of a broker in a profile or a short text; the same for a source and a sink."""

    address: str = option("an address, such as 192.168.1.20:1883/medlar", word="HOST[:PORT]/ROBOT", place=True)
    user: str | None = option("a user name at the broker", None, word="NAME")
    password_file: str | None = option("a file that holds the password", None, word="FILE")
    ca: str | None = option('a file of certificates to trust, or "system"', None, word="FILE")
    certificate: str | None = option("a file with this machine's certificate", None, word="FILE")
    private_key: str | None = option("a file with its private key", None, word="FILE")
    key: str | None = option("a key file: commands are encrypted and states signed, end to end", None, word="FILE")
    plain_password: bool = option("true or false: permit a password without TLS", False, word="true|false")

    def settings(self, error: type[TenutoError]) -> tuple[BrokerSettings, str]:
        """Return the settings of the broker, and the name of the robot. Raises ``error``."""
        host, port, robot = split_place(self.address, error)
        keys = [one.name for one in fields(BrokerSettings) if one.name not in ("host", "port")]
        said: dict[str, Any] = {key: getattr(self, key) for key in keys}
        return BrokerSettings(host, port, **said), robot
