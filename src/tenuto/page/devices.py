"""Devices in the network that may use the page: each has shown a code once, and has its own key since."""

from __future__ import annotations

import hashlib
import hmac
import json
import math
import secrets
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from tenuto.basics.text import readable
from tenuto.calibration.store import write_atomically

# Wrong codes after which another one is made, and the validity of a code, s.
_TRIES, _CODE_GOOD_FOR = 5, 600.0
# The pause after a wrong code, s; and the number of wrong ones after which nobody is admitted.
_BETWEEN_TRIES, _MOST_WRONG = 1.0, 50
# How often the file is read again, s.
_LOOK_EVERY = 1.0
_CODE_DIGITS = 8


@dataclass(frozen=True)
class Device:
    """A device that may use the page.

    Attributes:
        name: given by its user. digest: of its key. since: the day on which it was admitted.
    """

    name: str
    digest: str
    since: str


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
            found = json.loads(self.path.read_text(encoding="utf-8"))
            return {str(identity): Device(**one) for identity, one in found.items()}
        return {}

    def _write(self) -> None:
        text = json.dumps({identity: vars(one) for identity, one in self.all.items()}, indent=2)
        self.path.parent.mkdir(parents=True, exist_ok=True)
        write_atomically(self.path, text + "\n", private=True)
        self.path.chmod(0o600)


def _digest(key: str) -> str:
    return hashlib.sha256(key.encode()).hexdigest()


class Code:
    """The code for a new device: valid once, for some minutes, and for a few tries.

    Guessing is limited to a try a second, and to 50 in all, of a hundred million codes.

    Attributes:
        text: eight digits; empty once too many were wrong, and no device is admitted any more.
    """

    def __init__(self, now: float) -> None:
        """Make one; ``now`` in s."""
        self._wrong, self._next_try = 0, -math.inf
        self._renew(now)

    def _renew(self, now: float) -> None:
        closed = self._wrong >= _MOST_WRONG
        self.text = "" if closed else f"{secrets.randbelow(10**_CODE_DIGITS):0{_CODE_DIGITS}d}"
        self._made, self._tries = now, 0

    def why_not(self, text: str, now: float) -> str:
        """Explain why this is not the code, or return nothing if it is; the right one is used up."""
        if not self.text:
            return "Too many wrong codes: no device is admitted until the page is started again."
        if now < self._next_try:
            return "Wait a second, and try again."
        self._tries += 1
        fresh = now - self._made <= _CODE_GOOD_FOR
        right = fresh and hmac.compare_digest(self.text.encode(), text.strip().encode())
        if not right:
            self._wrong += 1
            self._next_try = now + _BETWEEN_TRIES
        if right or not fresh or self._tries >= _TRIES or self._wrong >= _MOST_WRONG:
            self._renew(now)
        return "" if right else "This is not the code. Look at the robot's terminal."
