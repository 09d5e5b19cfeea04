"""Commands and states through a broker that is not trusted: sealed and signed end to end; sans I/O.

Each driver has a key of its own, which the robot knows by the driver's name. A command is sealed with it
(ChaCha20-Poly1305, RFC 8439); a state can be read by everybody and is signed for each driver that asks (HMAC-SHA256,
RFC 2104), and so is the last will of either machine. The keys are derived by HKDF with SHA-256 (RFC 5869). What is too
old or comes again is dropped by `tenuto.protocols.remote_ends`. See docs/protocols.md. Needs the package cryptography.
"""

from __future__ import annotations

import hashlib
import hmac
import secrets
from collections.abc import Iterable, Mapping
from functools import lru_cache

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF

from tenuto.protocols.remote import (
    GONE,
    LONGEST_STATE,
    MOST_DRIVERS,
    DriverGone,
    RemoteAsk,
    RemoteCommand,
    RemoteState,
    other_form,
    read_from_driver,
    read_json,
    read_line,
)

COMMAND = b"T\x14"
_NONCE, _TAG = 12, 16
# The name of a key that any driver may use.
ANYBODY = ""


@lru_cache(maxsize=4 * MOST_DRIVERS)
def _derived(key: bytes, info: bytes) -> bytes:
    return HKDF(SHA256(), 32, b"", b"tenuto 1 broker " + info).derive(key)


def seal_command(command: RemoteCommand | RemoteAsk, topic: str, key: bytes) -> bytes:
    """Return a sealed command or request: mark, length and name of the driver, nonce, and what is sealed."""
    name = command.driver.encode()[:255]
    head, nonce = COMMAND + bytes((len(name),)) + name, secrets.token_bytes(_NONCE)
    cipher = ChaCha20Poly1305(_derived(key, b"to robot"))
    return head + nonce + cipher.encrypt(nonce, command.model_dump_json().encode(), head + topic.encode())


def open_command(data: bytes, topic: str, keys: Mapping[str, bytes]) -> RemoteCommand | RemoteAsk | str:
    """Return the command or the request in a message, or the reason why there is none. Never raises on any bytes.

    Args:
        data: as received. topic: on which. keys: driver → key; that of `ANYBODY` is valid for every name.
    """
    length = data[2] if len(data) > 2 else 0
    head, nonce, sealed = data[: 3 + length], data[3 + length : 3 + length + _NONCE], data[3 + length + _NONCE :]
    if not data.startswith(COMMAND) or len(sealed) < _TAG:
        return "a command that is not sealed"
    name = head[3:].decode(errors="replace")
    key = keys.get(name, keys.get(ANYBODY))
    if key is None:
        return f"a command of {name}, who has no key here"
    try:
        text = ChaCha20Poly1305(_derived(key, b"to robot")).decrypt(nonce, sealed, head + topic.encode())
    except InvalidTag:
        return f"a command in the name of {name}, made without that key"
    command = read_from_driver(text)
    if command is None or command.driver != name:
        return other_form(text) or f"a sealed message of {name} that is not a command"
    return command


def _tag(line: bytes, topic: str, key: bytes, info: bytes) -> str:
    return hmac.new(_derived(key, info), topic.encode() + b"\n" + line, hashlib.sha256).hexdigest()[: 2 * _TAG]


def _signed(line: bytes, topic: str, keys: Iterable[tuple[str, bytes]], info: bytes) -> bytes:
    """Return a line, followed by a line for each name and its key: the name and the signature."""
    return b"\n".join([line, *(f"{name} {_tag(line, topic, key, info)}".encode() for name, key in keys)])


def _opened(data: bytes, topic: str, names: tuple[str, ...], key: bytes, info: bytes) -> bytes | None:
    """Return the line that is signed for one of these names; None if there is no such signature."""
    line, _, signed = data.partition(b"\n")
    wanted = _tag(line, topic, key, info)
    lines = [text.decode(errors="replace").rpartition(" ") for text in signed.split(b"\n", MOST_DRIVERS)]
    good = any(hmac.compare_digest(tag.encode(), wanted.encode()) for name, _, tag in lines if name in names)
    return line if good else None


def sign_state(state: RemoteState, topic: str, keys: Mapping[str, bytes]) -> bytes:
    """Return a state as a line of JSON, signed for the drivers that it answers; a last will for all of them."""
    asked = {one.driver if one.driver in keys else ANYBODY for one in state.answers}
    named = [(name, key) for name, key in keys.items() if name in asked or state.state == GONE]
    return _signed(state.to_json(LONGEST_STATE), topic, named, b"to driver")


def open_state(data: bytes, topic: str, driver: str, key: bytes) -> RemoteState | None:
    """Return a state that is signed for a driver, or for anybody; None otherwise. Never raises."""
    line = _opened(data, topic, (driver, ANYBODY), key, b"to driver")
    return read_json(RemoteState, line) if line is not None else None


def sign_gone(will: DriverGone, topic: str, keys: Iterable[bytes]) -> bytes:
    """Return the last will of a driver's machine, signed with each key that it has: one for each robot, perhaps."""
    return _signed(will.model_dump_json().encode(), topic, ((will.driver, key) for key in keys), b"gone")


def open_gone(data: bytes, topic: str, keys: Mapping[str, bytes]) -> DriverGone | None:
    """Return the last will of a driver's machine; None if it is not signed with its key. Never raises."""
    will = read_line(DriverGone, data)
    key = keys.get(will.driver, keys.get(ANYBODY)) if will is not None else None
    signed = will is not None and key is not None and _opened(data, topic, (will.driver,), key, b"gone") is not None
    return will if signed else None
