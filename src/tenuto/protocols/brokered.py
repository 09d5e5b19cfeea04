"""Commands and states through a broker that is not trusted: sealed and signed end to end; sans I/O.

Each driver has a key of its own, which the robot knows by the driver's name. A command is sealed with it
(ChaCha20-Poly1305, RFC 8439); a state can be read by everybody and is signed for each driver (HMAC-SHA256, RFC 2104).
The keys of both are derived by HKDF with SHA-256 (RFC 5869). What is too old or comes again is dropped by
`tenuto.protocols.remote`, which repeats the robot's clock. See docs/protocols.md. Needs the package cryptography.
"""

from __future__ import annotations

import hashlib
import hmac
import secrets
from collections.abc import Mapping
from functools import lru_cache

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF

from tenuto.protocols.remote import RemoteCommand, RemoteState, read_json

COMMAND = b"T\x14"
_NONCE, _TAG = 12, 16
# The name of a key that any driver may use.
ANYBODY = ""


@lru_cache(maxsize=256)
def _derived(key: bytes, info: bytes) -> bytes:
    return HKDF(SHA256(), 32, b"", b"tenuto 1 broker " + info).derive(key)


def seal_command(command: RemoteCommand, topic: str, key: bytes) -> bytes:
    """Return a sealed command: mark, length and name of the driver, nonce, and what is sealed."""
    name = command.driver.encode()[:255]
    head, nonce = COMMAND + bytes((len(name),)) + name, secrets.token_bytes(_NONCE)
    cipher = ChaCha20Poly1305(_derived(key, b"to robot"))
    return head + nonce + cipher.encrypt(nonce, command.model_dump_json().encode(), head + topic.encode())


def open_command(data: bytes, topic: str, keys: Mapping[str, bytes]) -> RemoteCommand | str:
    """Return the command in a message, or the reason why there is none. Never raises on any bytes.

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
    command = read_json(RemoteCommand, text)
    if command is None or command.driver != name:
        return f"a sealed message of {name} that is not a command"
    return command


def _tag(line: bytes, topic: str, key: bytes) -> str:
    return hmac.new(_derived(key, b"to driver"), topic.encode() + b"\n" + line, hashlib.sha256).hexdigest()[: 2 * _TAG]


def sign_state(state: RemoteState, topic: str, keys: Mapping[str, bytes]) -> bytes:
    """Return a state as a line of JSON, followed by a line for each driver: its name and its signature."""
    line = state.to_json()
    return b"\n".join([line, *(f"{name} {_tag(line, topic, key)}".encode() for name, key in keys.items())])


def open_state(data: bytes, topic: str, driver: str, key: bytes) -> RemoteState | None:
    """Return a state that is signed for a driver, or for anybody; None otherwise. Never raises."""
    line, _, signed = data.partition(b"\n")
    wanted = _tag(line, topic, key)
    lines = [text.decode(errors="replace").rpartition(" ") for text in signed.split(b"\n")]
    tags = [tag for name, _, tag in lines if name in (driver, ANYBODY)]
    good = any(hmac.compare_digest(tag.encode(), wanted.encode()) for tag in tags)
    return read_json(RemoteState, line) if good else None


def plain_state(data: bytes) -> RemoteState | None:
    """Return the state in a message, whoever signed it: for those who only watch."""
    return read_json(RemoteState, data.partition(b"\n")[0])
