"""Keys in files: 32 secret bytes, as 64 hexadecimal digits, that two machines share."""

from __future__ import annotations

import os
import re
import secrets
import stat

from tenuto.basics.errors import TenutoError
from tenuto.files import UnreadableError, read_text

KEY_BYTES = 32
_MOST = 10_000


def read_key(path: str, error: type[TenutoError]) -> bytes:
    """Read a key. Raises ``error`` if the file is not a key, or if others than its owner may read it."""
    try:
        mode = os.stat(path).st_mode
        text = read_text(path, _MOST).strip()
        key = bytes.fromhex(text)
    except OSError as cause:
        if re.fullmatch(rf"[0-9a-fA-F]{{{2 * KEY_BYTES}}}", path):
            raise error("key: expected the name of a file, found a key itself: write it into a file") from cause
        raise error(f"key file {path}: {cause.strerror or cause}; make one with: tenuto key {path}") from cause
    except UnreadableError as cause:
        raise error(f"key file {path}: {cause}; make one with: tenuto key NAME") from cause
    except ValueError as cause:
        raise error(f"key file {path}: expected {2 * KEY_BYTES} hexadecimal digits; see: tenuto key --help") from cause
    if len(key) != KEY_BYTES:
        raise error(f"key file {path}: expected {2 * KEY_BYTES} hexadecimal digits, found {len(text)} characters")
    if os.name == "posix" and mode & (stat.S_IRWXG | stat.S_IRWXO):
        raise error(f"key file {path}: other users can read it; fix it with: chmod 600 {path}")
    return key


def make_key(path: str, error: type[TenutoError]) -> None:
    """Write a new key that only its owner can read; never over an existing file. Raises ``error``."""
    try:
        number = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(number, "w", encoding="ascii") as file:
            file.write(secrets.token_hex(KEY_BYTES) + "\n")
    except FileExistsError as cause:
        raise error(f"key file {path}: it exists already; use another name, or remove it first") from cause
    except OSError as cause:
        raise error(f"key file {path}: cannot write there: {cause.strerror or cause}") from cause
