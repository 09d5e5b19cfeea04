"""Files: one way in and one way out, for every file that Tenuto reads or writes.

In: a regular file of a bounded size is read completely, or refused with its reason; nothing is waited for, as a pipe.
Out: a file is replaced in one step (`write_atomically`), or written as it grows (`open_to_write`); it keeps its mode,
and a link stays a link. The link of somebody else is not followed: whoever may write into the folder could choose a
file of ours. A test finds every other call that opens a file.
"""

from __future__ import annotations

import contextlib
import errno
import os
import re
import secrets
import shutil
import stat
import tomllib
from collections.abc import Iterator
from io import BytesIO
from pathlib import Path
from typing import IO, Any

from tenuto.basics.findings import Finding, Severity
from tenuto.basics.text import readable

# The greatest size of a profile, a script, a calibration or a key, which have some kilobytes; of a log or a recording.
MOST_TOML, MOST_DATA = 1_000_000, 4_000_000_000
_KINDS = {
    stat.S_IFDIR: "a folder", stat.S_IFIFO: "a pipe", stat.S_IFSOCK: "a socket", stat.S_IFCHR: "a device",
    stat.S_IFBLK: "a device",
}  # fmt: skip
# The first bytes of text in UTF-16 or UTF-32.
_WIDE = (b"\xff\xfe", b"\xfe\xff")
_MARK = "\N{ZERO WIDTH NO-BREAK SPACE}"
_MOST_LINKS = 40
_AT = re.compile(r" \(at (?:line (\d+), column (\d+)|end of document)\)$")
_QUANTITY = re.compile(r"\s*([\w.\"'-]+)\s*=\s*([-+]?[\d.]+(?:[eE][-+]?\d+)?\s*[A-Za-z%°][^#,\]}]*?)\s*(?:#.*)?")


class UnreadableError(ValueError):
    """A file that cannot be read in its expected form.

    Attributes:
        line: of the error, if it is known; otherwise 0.
    """

    def __init__(self, text: str, line: int = 0) -> None:
        self.line = line
        super().__init__(readable(text))

    @classmethod
    def expected(cls, what: str, found: str, line: int = 0) -> UnreadableError:
        """Describe the expected form, and what was found."""
        return cls(f"expected {what}, found {found}", line)


def unreadable(problem: UnreadableError, hint: str = "") -> Finding:
    """Return the error of a file that cannot be read."""
    return Finding("file", Severity.ERROR, str(problem), hint, line=problem.line)


def read_bytes(path: str | Path, most: int = MOST_DATA) -> bytes:
    """Read a file of at most this many bytes. Raises UnreadableError: it cannot be read, or is too long."""
    try:
        # Opening a pipe without a writer would block.
        with open(os.open(path, os.O_RDONLY | os.O_NONBLOCK), "rb") as file:
            status = os.fstat(file.fileno())
            if not stat.S_ISREG(status.st_mode):
                raise UnreadableError.expected("a file", _KINDS.get(stat.S_IFMT(status.st_mode), "something else"))
            if status.st_size > most:
                raise UnreadableError.expected(f"a file of at most {most} bytes", f"{status.st_size} bytes")
            return file.read()
    except OSError as error:
        raise UnreadableError.expected("a readable file", error.strerror or str(error)) from error
    except ValueError as error:  # a name with a zero byte
        raise (
            error if isinstance(error, UnreadableError) else UnreadableError.expected("a readable file", str(error))
        ) from error


def read_text(path: str | Path, most: int = MOST_DATA) -> str:
    """Read UTF-8 text, with or without a byte-order mark. Raises UnreadableError: as above, or it is not text."""
    data = read_bytes(path, most)
    if data.startswith(_WIDE):
        raise UnreadableError.expected("text in UTF-8", "UTF-16: save it as UTF-8")
    try:
        return data.decode("utf-8").removeprefix(_MARK)
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise UnreadableError.expected("text in UTF-8", f"byte 0x{data[error.start]:02x}", line) from error


def read_toml(path: str | Path) -> tuple[str, dict[str, Any]]:
    """Read a TOML file; return its text and its tables. Raises UnreadableError."""
    text = read_text(path, MOST_TOML).replace("\r\n", "\n")
    return text, parse_toml(text)


def parse_toml(text: str) -> dict[str, Any]:
    """Return the tables of a text in TOML. Raises UnreadableError that names the line."""
    try:
        return tomllib.loads(text)
    except RecursionError:
        found, line = "tables or lists are nested too deeply", 0
    except tomllib.TOMLDecodeError as error:
        found, line = _explained(str(error), text)
    except ValueError:
        found, line = "a whole number has thousands of digits", 0
    raise UnreadableError(f"invalid TOML: {found}", line)


def _explained(message: str, text: str) -> tuple[str, int]:
    """Describe the error of a line in plain words; by default in those of the parser."""
    at = _AT.search(message)
    line = int(at[1]) if at and at[1] else text.count("\n") + 1
    lines = text.split("\n")
    written = lines[line - 1] if line <= len(lines) else ""
    quantity = _QUANTITY.fullmatch(written)
    if quantity is not None:
        return f'a quantity needs quotes: write {quantity[1]} = "{quantity[2]}"', line
    where = f", at column {at[2]}" if at and at[2] else ", at its end"
    return message[: at.start() if at else None] + where, line


def mcap_records(path: str | Path) -> Iterator[Any]:
    """Return the records of an MCAP file, and None as the last one if the file was cut off.

    Raises UnreadableError: it cannot be read, or it is damaged and more follows; the message names the byte.
    """
    from mcap.records import Footer
    from mcap.stream_reader import StreamReader

    file = BytesIO(read_bytes(path))
    size, ended, known = len(file.getbuffer()), False, False
    records = iter(StreamReader(file, record_size_limit=size + 1).records)
    while True:
        try:
            record = next(records)
        except StopIteration:
            break
        except Exception as error:  # the library raises many types, for a cut file and for a damaged one
            if file.tell() < size or not known:
                text = f"cannot be read as MCAP at byte {file.tell()}: {error or type(error).__name__}"
                raise UnreadableError(text) from error
            break
        known, ended = True, ended or isinstance(record, Footer)
        yield record
    if not ended:
        yield None


def check_there(file: IO[Any]) -> None:
    """Raise `FileNotFoundError` if an open file was removed: what is written to it is lost."""
    if os.fstat(file.fileno()).st_nlink == 0:
        raise FileNotFoundError(errno.ENOENT, "the file was removed during the drive")


def write_atomically(target: str | Path, content: str | bytes, *, private: bool = False) -> None:
    """Write a text or bytes into a file in one step: written beside it, flushed, then renamed. Raises OSError.

    The file keeps its permissions and its owner; a new ``private`` one is for its owner only. A link stays a link, and
    the file behind it is written, unless it is the link of somebody else.
    """
    target = _behind(target)
    beside = target.with_name(f".{target.name}.{secrets.token_hex(4)}")
    handle = os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600 if private else 0o666)
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(content.encode() if isinstance(content, str) else content)
            file.flush()
            os.fsync(file.fileno())
        if target.exists():
            _keep_owner(target, beside)
            shutil.copymode(target, beside)
        os.replace(beside, target)
    except BaseException:
        beside.unlink(missing_ok=True)
        raise


def open_to_write(path: str | Path, *, text: bool = False, append: bool = False) -> IO[Any]:
    """Open a file that is written as it grows, such as a log: empty, or at its end. Raises OSError.

    Args:
        path: a file, or none yet; or a device, which takes bytes. text: for text in UTF-8, whose line ends are kept.
        append: after what it has.
    """
    flags = os.O_WRONLY | os.O_CREAT | os.O_NONBLOCK | os.O_NOFOLLOW | (os.O_APPEND if append else 0)
    handle = os.open(_behind(path, devices=True), flags, 0o666)
    try:
        status = os.fstat(handle)
        _check_regular(path, status, devices=True)
        os.set_blocking(handle, True)  # only opening must not wait
        if not append and stat.S_ISREG(status.st_mode):
            os.ftruncate(handle, 0)
        if text:
            return os.fdopen(handle, "w", newline="", encoding="utf-8")
        return os.fdopen(handle, "ab" if append else "wb", buffering=0 if append else -1)
    except BaseException:
        os.close(handle)
        raise


def _behind(path: str | Path, *, devices: bool = False) -> Path:
    """Return the file behind a path, through links of this user or root only. Raises OSError."""
    place = Path(path)
    for _ in range(_MOST_LINKS):
        try:
            status = os.lstat(place)
        except FileNotFoundError:
            return place
        if not stat.S_ISLNK(status.st_mode):
            _check_regular(place, status, devices=devices)
            return place
        if status.st_uid not in (os.geteuid(), 0):
            text = "it is a link of another user: remove it, or choose another name"
            raise PermissionError(errno.EACCES, text, str(place))
        place = place.parent / os.readlink(place)
    raise OSError(errno.ELOOP, os.strerror(errno.ELOOP), str(path))


def _check_regular(path: str | Path, status: os.stat_result, *, devices: bool) -> None:
    if not stat.S_ISREG(status.st_mode) and not (devices and stat.S_ISCHR(status.st_mode)):
        found = _KINDS.get(stat.S_IFMT(status.st_mode), "something else")
        raise OSError(errno.EINVAL, f"expected a file, found {found}", str(path))


def _keep_owner(old: Path, new: Path) -> None:
    """Give the owner of a file to another one: root may write a file that somebody else has to read."""
    said, ours = old.stat(), new.stat()
    if (said.st_uid, said.st_gid) != (ours.st_uid, ours.st_gid):
        with contextlib.suppress(OSError, AttributeError):  # only root may
            os.chown(new, said.st_uid, said.st_gid)
