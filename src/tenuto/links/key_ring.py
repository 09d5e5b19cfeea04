"""The keys of several drivers in one file at the robot, by their names; removing a key excludes its driver."""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Mapping
from pathlib import Path

from tenuto.basics.errors import TenutoError
from tenuto.clock import REAL, Timer
from tenuto.files import MOST_TOML, UnreadableError, read_text, write_atomically
from tenuto.links.key_file import KEY_BYTES, make_key, read_key
from tenuto.protocols.remote import MOST_DRIVERS

_LINE = re.compile(rf"(\S{{1,64}})\s+([0-9a-fA-F]{{{2 * KEY_BYTES}}})")
_NAME = re.compile(r"[A-Za-z0-9_-]{1,64}")
# The interval between checks of the file, s.
_EVERY = 1.0


def read_keys(path: str, error: type[TenutoError]) -> dict[str, bytes]:
    """Read a file with one key, which is valid for every name, or with lines ``NAME KEY``. Raises ``error``."""
    try:
        lines = [line for line in read_text(path, MOST_TOML).splitlines() if line.strip()]
    except UnreadableError:
        return {"": read_key(path, error)}  # which describes the error
    if not lines and Path(path).is_file():
        return {}  # all keys were removed
    if len(lines) <= 1 and not (lines and _LINE.fullmatch(lines[0].strip())):
        return {"": read_key(path, error)}
    if os.name == "posix" and os.stat(path).st_mode & (stat.S_IRWXG | stat.S_IRWXO):
        raise error(f"key file {path}: other users can read it; fix it with: chmod 600 {path}")
    if len(lines) > MOST_DRIVERS:
        raise error(f"key file {path}: it has {len(lines)} drivers, and {MOST_DRIVERS} at most can have a key")
    found = {}
    for number, line in enumerate(lines, 1):
        match = _LINE.fullmatch(line.strip())
        if match is None:
            raise error(f"key file {path}, line {number}: expected a name and {2 * KEY_BYTES} hexadecimal digits")
        found[match[1]] = bytes.fromhex(match[2])
    return found


class KeyRing:
    """The keys in a file, read again when it changes.

    Attributes:
        keys: driver → key; replaced as a whole. problem: why a changed file is refused.
    """

    def __init__(self, path: str, error: type[TenutoError], clock: Timer = REAL) -> None:
        """Read it. Raises ``error`` if it is not such a file."""
        self._path, self._error = path, error
        self.keys: Mapping[str, bytes] = read_keys(path, error)
        if not self.keys:
            raise error(f"key file {path}: it holds no key, so nobody can drive: tenuto key {path} --driver NAME")
        self.problem = ""
        self._seen = self._stamp()
        self._end = clock.every(_EVERY, self._look, "keys")

    def close(self) -> None:
        """Stop watching."""
        self._end()

    def _stamp(self) -> tuple[int, int]:
        try:
            said = os.stat(self._path)
        except OSError:
            return 0, 0
        return said.st_mtime_ns, said.st_size

    def _look(self, now: float) -> None:
        """Read the file again if it has changed; an unreadable file excludes everybody."""
        stamp = self._stamp()
        if stamp == self._seen:
            return
        self._seen = stamp
        try:
            self.keys, self.problem = read_keys(self._path, self._error), ""
        except (TenutoError, OSError, ValueError) as wrong:
            self.keys, self.problem = {}, str(wrong)


def add_driver(path: str, name: str, error: type[TenutoError]) -> str:
    """Make a key for a driver: in ``NAME.key`` beside the robot's file, and as a line of that file.

    Returns:
        The driver's own file. Raises ``error`` if the name is invalid, or has a key, or a file cannot be written.
    """
    known = _drivers(path, error)
    if not _NAME.fullmatch(name):
        raise error(f'expected a name of up to 64 letters, digits, "-" and "_", found "{name}"')
    if name in known:
        raise error(f"key file {path}: {name} has a key already; remove it first with --revoke {name}")
    if len(known) >= MOST_DRIVERS:
        raise error(f"key file {path}: {MOST_DRIVERS} drivers have a key already, the most; remove one with --revoke")
    own = str(Path(path).with_name(f"{name}.key"))
    if os.path.realpath(own) == os.path.realpath(path):
        raise error(f"key file {path}: {name}'s own key would have this name too; use another one, such as robot.keys")
    make_key(own, error)
    _write(path, {**known, name: read_key(own, error)}, error)
    return own


def revoke_driver(path: str, name: str, error: type[TenutoError]) -> None:
    """Remove a driver's key from the robot's file. Raises ``error`` if there is none."""
    known = _drivers(path, error)
    if name not in known:
        raise error(f"key file {path}: there is no driver {name}; there are {', '.join(known) or 'none'}")
    _write(path, {other: key for other, key in known.items() if other != name}, error)


def _drivers(path: str, error: type[TenutoError]) -> dict[str, bytes]:
    known = read_keys(path, error) if Path(path).exists() else {}
    if "" in known:
        raise error(f"key file {path}: it holds one key for everybody, and no names; use another file")
    return known


def _write(path: str, keys: Mapping[str, bytes], error: type[TenutoError]) -> None:
    """Write the lines at once: into the file that a link names, which keeps its owner."""
    try:
        write_atomically(Path(path), "".join(f"{name} {key.hex()}\n" for name, key in keys.items()), private=True)
    except OSError as cause:
        raise error(f"key file {path}: cannot write there: {cause.strerror or cause}") from cause
