"""Datagrams that only the owner of the key can make, read, or send once; sans I/O. See docs/protocols.md.

Authenticated encryption is ChaCha20-Poly1305 (RFC 8439), keys are derived by HKDF with SHA-256 (RFC 5869) from the
shared key and from keys that each end makes for one handshake and forgets (X25519, RFC 7748), so a key that is
lost later does not open earlier recordings. The replay window is of the kind of RFC 6479, 64 wide. Needs the
package cryptography (``pip install tenuto[udp]``).
"""

from __future__ import annotations

import secrets
import struct
from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import NamedTuple

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey, X25519PublicKey
from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF

HELLO, WELCOME, DATA = b"T\x11", b"T\x12", b"T\x13"
WINDOW = 64
_PUBLIC, _NONCE, _TAG = 32, 12, 16
_HEADER = struct.Struct(">2s4sQ")  # of data: mark, session, counter
_LONGEST_NAME = 64
# The most handshakes that wait for their first data, and the most hellos that a robot answers in a second.
_MOST_PENDING, _MOST_HELLOS = 4, 10
# The most hellos that are remembered: those of seven hours of a driver that gets no answer.
_REMEMBERED = 100_000


def _derive(key: bytes, salt: bytes, info: bytes) -> ChaCha20Poly1305:
    return ChaCha20Poly1305(HKDF(SHA256(), 32, salt, b"tenuto 1 " + info).derive(key))


def _public(own: X25519PrivateKey) -> bytes:
    return own.public_key().public_bytes_raw()


def _agree(own: X25519PrivateKey, theirs: bytes) -> bytes | None:
    """Return the shared secret of the two ends; None for a public key that forces it (RFC 7748, section 6.1)."""
    try:
        return own.exchange(X25519PublicKey.from_public_bytes(theirs))
    except ValueError:
        return None


class ReplayWindow:
    """The counters that have come: each counts once, and none that is `WINDOW` or more behind the newest."""

    def __init__(self) -> None:
        self._newest = -1
        self._seen = 0

    def fresh(self, counter: int) -> bool:
        """Return whether a counter is new, and not too old."""
        behind = self._newest - counter
        return behind < 0 or (behind < WINDOW and not self._seen >> behind & 1)

    def mark(self, counter: int) -> None:
        """Mark a counter as used, once its datagram was found to be genuine."""
        ahead = counter - self._newest
        if ahead > 0:
            self._seen = (self._seen << ahead | 1) & (1 << WINDOW) - 1 if ahead < WINDOW else 1
            self._newest = counter
        else:
            self._seen |= 1 << -ahead


class Session:
    """The session of two ends: a key for each direction, a counter for sending, a window for receiving."""

    def __init__(self, secret: bytes, number: bytes, publics: bytes, *, robot: bool) -> None:
        """Derive the keys.

        Args:
            secret: the shared key, followed by the shared secret of this handshake.
            number: 4 bytes that name the session. publics: the driver's and then the robot's public key.
            robot: this is the robot's end.
        """
        self.number = number
        to_robot, to_driver = _derive(secret, publics, b"to robot"), _derive(secret, publics, b"to driver")
        self._out, self._in = (to_driver, to_robot) if robot else (to_robot, to_driver)
        self._counter = 0
        self._window = ReplayWindow()

    def seal(self, data: bytes) -> bytes:
        """Make the datagram of some data."""
        header = _HEADER.pack(DATA, self.number, self._counter)
        nonce = self._counter.to_bytes(_NONCE)
        self._counter += 1
        return header + self._out.encrypt(nonce, data, header)

    def open(self, datagram: bytes) -> bytes | None:
        """Return the data of a datagram of this session; None if it is of another, not genuine, or a repetition."""
        if len(datagram) < _HEADER.size + _TAG:
            return None
        mark, number, counter = _HEADER.unpack_from(datagram)
        # The cheap checks first: a flood must not cause decryptions.
        if mark != DATA or number != self.number or not self._window.fresh(counter):
            return None
        header, sealed = datagram[: _HEADER.size], datagram[_HEADER.size :]
        try:
            data = self._in.decrypt(counter.to_bytes(_NONCE), sealed, header)
        except InvalidTag:
            return None
        self._window.mark(counter)
        return data


@lru_cache(maxsize=256)
def _seal_of(key: bytes) -> ChaCha20Poly1305:
    """Return the cipher of the handshakes of a key: of the shared key itself."""
    return _derive(key, b"", b"handshake")


def _pack(key: bytes, mark: bytes, data: bytes) -> bytes:
    nonce = secrets.token_bytes(_NONCE)
    return mark + nonce + _seal_of(key).encrypt(nonce, data, mark)


def _unpack(key: bytes, mark: bytes, datagram: bytes) -> bytes | None:
    if not datagram.startswith(mark) or len(datagram) < len(mark) + _NONCE + _TAG:
        return None
    nonce, sealed = datagram[2 : 2 + _NONCE], datagram[2 + _NONCE :]
    try:
        return _seal_of(key).decrypt(nonce, sealed, mark)
    except InvalidTag:
        return None


class DriverHandshake:
    """The driver's end: it sends a hello, and the welcome to it begins a session."""

    def __init__(self, key: bytes, name: str) -> None:
        self._key = key
        self._name = name.encode()[:_LONGEST_NAME]
        self._own: X25519PrivateKey | None = None

    def hello(self) -> bytes:
        """Make a hello; a welcome to an earlier one does not count any more."""
        self._own = X25519PrivateKey.generate()
        return _pack(self._key, HELLO, _public(self._own) + self._name)

    def welcome(self, datagram: bytes) -> Session | None:
        """Return the session that a welcome begins; None if it does not answer the newest hello."""
        data, own = _unpack(self._key, WELCOME, datagram), self._own
        if data is None or own is None or len(data) != 2 * _PUBLIC + 4 or data[:_PUBLIC] != _public(own):
            return None
        publics, number = data[: 2 * _PUBLIC], data[2 * _PUBLIC :]
        agreed = _agree(own, publics[_PUBLIC:])
        if agreed is None:
            return None
        self._own = None
        return Session(self._key + agreed, number, publics, robot=False)


class Pending(NamedTuple):
    """A session that was offered, and is not used yet."""

    session: Session
    driver: str
    key: bytes


class RobotHandshake:
    """The robot's end: it answers hellos. A session counts once data came in it; a repeated hello cannot cause that.

    Attributes:
        forged: the newest attempt under the name of another driver; empty for none.
    """

    def __init__(self, keys: bytes | Callable[[], Mapping[str, bytes]]) -> None:
        """Take a key that is valid for every driver, or a function from a driver's name to a key."""
        self._keys = keys if callable(keys) else lambda: {"": keys}
        self.forged = ""
        self._pending: list[Pending] = []
        self._hellos: list[float] = []
        self._known: dict[bytes, None] = {}

    def hello(self, datagram: bytes, now: float) -> bytes | None:
        """Return the welcome to a hello; None if it is not genuine, was received before, or there are too many.

        A repeated recording is recognised by its nonce: it costs nothing, and locks nobody out.
        """
        nonce = datagram[2 : 2 + _NONCE]
        if not datagram.startswith(HELLO) or nonce in self._known:
            return None
        self._hellos = [at for at in self._hellos if now - at < 1.0]
        if len(self._hellos) >= _MOST_HELLOS:
            return None
        owner, key, data = self._opened(datagram)
        if data is None or not _PUBLIC < len(data) <= _PUBLIC + _LONGEST_NAME:
            return None
        self._hellos.append(now)
        self._known[nonce] = None
        if len(self._known) > _REMEMBERED:
            del self._known[next(iter(self._known))]
        theirs, driver, own = data[:_PUBLIC], data[_PUBLIC:].decode(errors="replace"), X25519PrivateKey.generate()
        if owner and driver != owner:
            self.forged = f"a hello of {owner} in the name of {driver}"
            return None
        agreed = _agree(own, theirs)
        if agreed is None:
            return None
        publics, number = theirs + _public(own), secrets.token_bytes(4)
        session = Session(key + agreed, number, publics, robot=True)
        self._pending = [*self._pending[1 - _MOST_PENDING :], Pending(session, driver, key)]
        return _pack(key, WELCOME, publics + number)

    def _opened(self, datagram: bytes) -> tuple[str, bytes, bytes | None]:
        """Return the owner of the key that opens a hello, the key, and the content; None for none."""
        for owner, key in self._keys().items():
            data = _unpack(key, HELLO, datagram)
            if data is not None:
                return owner, key, data
        return "", b"", None

    def first(self, datagram: bytes) -> tuple[Pending, bytes] | None:
        """Return the pending session whose first datagram this is, and its data; the session is pending no more."""
        for pending in self._pending:
            data = pending.session.open(datagram)
            if data is not None:
                self._pending.remove(pending)
                return pending, data
        return None
