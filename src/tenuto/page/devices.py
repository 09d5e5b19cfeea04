"""Devices in the network that may use the page: each has shown a code once, and has its own key since."""

from __future__ import annotations

import hashlib
import hmac
import ipaddress
import json
import math
import secrets
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

from tenuto.basics.json_in import read_json
from tenuto.basics.text import readable
from tenuto.files import MOST_TOML, read_text, write_atomically

# The validity of a code, s.
_CODE_GOOD_FOR = 600.0
# Of one address: the pause after a wrong code, s, and the number of wrong ones after which it waits for the next code.
_BETWEEN_TRIES, _TRIES = 1.0, 5
# Of all addresses: the number of wrong codes after which nobody is admitted until somebody at the robot permits it.
_MOST_WRONG = 50
# The most addresses that are remembered.
_MOST_ADDRESSES = 1000
# How often the file is read again, s.
_LOOK_EVERY = 1.0
_CODE_DIGITS = 8


@dataclass(frozen=True)
class Device:
    """A device that may use the page.

    Attributes:
        name: given by its user. digest: of its key. since: the day on which it was admitted.
        address: from which it came last (`share_of`); it has a reserved place there.
    """

    name: str
    digest: str
    since: str
    address: str = ""


def permit_file() -> Path:
    """Return the file whose change permits the next device: ``tenuto page --permit`` writes it."""
    return devices_file().with_name("page-permit")


def devices_file() -> Path:
    """Return the file of the devices; it holds digests of the keys, not the keys."""
    from platformdirs import user_data_path

    return user_data_path("tenuto") / "page-devices.json"


class Devices:
    """The devices in a file, which another program may change: a removed device is shut out within a second."""

    def __init__(self, path: Path | None = None) -> None:
        """Read them."""
        self.path = path or devices_file()
        self._looked_at = -_LOOK_EVERY
        self.all: dict[str, Device] = self._read()

    def look(self, now: float) -> None:
        """Read the file again, once a second; ``now`` in s."""
        if now - self._looked_at >= _LOOK_EVERY:
            self._looked_at = now
            self.all = self._read()

    def add(self, name: str, day: str) -> str:
        """Admit a device, and return its key."""
        identity, key = secrets.token_hex(8), secrets.token_urlsafe(32)
        self.all = {**self._read(), identity: Device(readable(name)[:40] or "a device", _digest(key), day)}
        self._write()
        return f"{identity}.{key}"

    def forget(self, name: str) -> int:
        """Shut out all devices with a name; return their number."""
        found = self._read()
        self.all = {identity: one for identity, one in found.items() if one.name != name}
        if len(self.all) != len(found):
            self._write()
        return len(found) - len(self.all)

    def came_from(self, key: str, address: str) -> None:
        """Keep the address of an admitted device."""
        identity, share = key.partition(".")[0], share_of(address)
        if identity in self.all and self.all[identity].address != share:
            self.all = {**self._read(), identity: replace(self.all[identity], address=share)}
            with suppress(OSError):  # then it has no reserved place after a restart
                self._write()

    def take_back(self, key: str) -> None:
        """Shut out the device with a key."""
        self.all = self._read()
        if self.all.pop(key.partition(".")[0], None) is not None:
            self._write()

    def known(self, key: str) -> Device | None:
        """Return the device with a key, or None."""
        identity, _, secret = key.partition(".")
        one = self.all.get(identity)
        return one if one is not None and hmac.compare_digest(one.digest, _digest(secret)) else None

    def _read(self) -> dict[str, Device]:
        with suppress(OSError, ValueError, TypeError, AttributeError):
            found = read_json(read_text(self.path, MOST_TOML))
            return {str(identity): Device(**one) for identity, one in found.items()}
        return {}

    def _write(self) -> None:
        text = json.dumps({identity: vars(one) for identity, one in self.all.items()}, indent=2)
        self.path.parent.mkdir(parents=True, exist_ok=True)
        write_atomically(self.path, text + "\n", private=True)
        self.path.chmod(0o600)


def _digest(key: str) -> str:
    return hashlib.sha256(key.encode()).hexdigest()


def share_of(address: str) -> str:
    """Return whose share an address is: an IPv4 address, or the first 64 bits of an IPv6 one, which one network has."""
    try:
        found = ipaddress.ip_address(address)
    except ValueError:
        return address
    if found.version == 4:
        return str(found)
    return str(found.ipv4_mapped or ipaddress.ip_network((found, 64), strict=False))


class Code:
    """The code for a new device: valid once, for some minutes, and for a few tries of each address.

    Guessing is limited to five tries of each address, and to 50 in all, of a hundred million codes. Wrong codes of one
    address delay no other. After the 50, `permit` makes a new code: somebody at the robot has asked for it.

    Attributes:
        text: eight digits; empty once too many were wrong, and no device is admitted any more.
    """

    def __init__(self, now: float) -> None:
        """Make one; ``now`` in s."""
        self._wrong = 0
        self._renew(now)

    def _renew(self, now: float) -> None:
        self.text = f"{secrets.randbelow(10**_CODE_DIGITS):0{_CODE_DIGITS}d}"
        self._made = now
        # Address → its wrong codes, and the time of its next try, s.
        self._tried: dict[str, tuple[int, float]] = {}

    def permit(self, now: float) -> None:
        """Make a new code for the next device, whatever was tried before."""
        self._wrong = 0
        self._renew(now)

    def why_not(self, text: str, now: float, address: str = "") -> str:
        """Explain why this is not the code, or return nothing if it is; the right one is used up.

        Args:
            text: the code. now: s. address: of the device.
        """
        if not self.text:
            return "Too many wrong codes: run tenuto page --permit on the robot to let the next device in."
        if now - self._made > _CODE_GOOD_FOR:
            self._renew(now)
            return "This code was too old. Look at the robot's terminal."
        whose = share_of(address)
        wrong, next_try = self._tried.get(whose, (0, -math.inf))
        if wrong >= _TRIES:
            return "Too many wrong codes from here: wait for the next code."
        if now < next_try:
            return "Wait a second, and try again."
        if hmac.compare_digest(self.text.encode(), text.strip().encode()):
            self._renew(now)
            return ""
        if len(self._tried) < _MOST_ADDRESSES:
            self._tried[whose] = (wrong + 1, now + _BETWEEN_TRIES)
        self._wrong += 1
        if self._wrong >= _MOST_WRONG:
            self.text = ""
        return "This is not the code. Look at the robot's terminal."
