"""Changes to a profile: shown as TOML, and written into the file without changing the rest."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from tenuto.basics.errors import ProfileError
from tenuto.basics.findings import unexpected
from tenuto.basics.text import readable
from tenuto.files import MOST_TOML, UnreadableError, read_text, unreadable, write_atomically
from tenuto.profile.load import parse_profile
from tenuto.profile.profile import Profile
from tenuto.profile.text import profile_text

if TYPE_CHECKING:
    import tomlkit


@dataclass(frozen=True, slots=True)
class Change:
    """The change of one key of a profile.

    Attributes:
        key: its place, such as ``("chassis", "track")``.
        value: as written in the file; a quantity as text with its unit.
        was: the present value, in words; empty for none. why: in a sentence.
    """

    key: tuple[str, ...]
    value: str | float
    was: str
    why: str

    @property
    def place(self) -> str:
        """The key as in the docs: ``chassis.track``."""
        return ".".join(self.key)


def patch_text(changes: Sequence[Change]) -> str:
    """Return the changes as TOML, each with its reason above it."""
    import tomlkit

    document = tomlkit.document()
    for change in changes:
        table: Any = document
        for part in change.key[:-1]:
            if part not in table:
                table[part] = tomlkit.table(is_super_table=part != change.key[-2])
            table = table[part]
        table.add(tomlkit.comment(change.why + (f" (now {change.was})" if change.was else "")))
        table.add(change.key[-1], change.value)
    return tomlkit.dumps(document)


def changed_text(text: str, changes: Sequence[Change], where: str = "profile") -> tuple[str, Profile]:
    """Apply changes to the text of a profile; return the new text and profile.

    Raises:
        ProfileError: the result would be invalid.
    """
    import tomlkit

    document = document_of(text, where)
    for change in changes:
        table: Any = document
        for part in change.key[:-1]:
            if part not in table or not isinstance(table[part], Mapping):
                table[part] = tomlkit.table()
            table = table[part]
        table[change.key[-1]] = change.value
    new = tomlkit.dumps(document)
    return new, parse_profile(new, where)


def text_in(path: Path) -> str:
    """Return the text of a profile. Raises `ProfileError` if it cannot be read."""
    try:
        return read_text(path, MOST_TOML)
    except UnreadableError as error:
        raise ProfileError(str(path), [unreadable(error)]) from error


def document_of(text: str, where: str) -> tomlkit.TOMLDocument:
    """Return TOML that can be changed, with its comments. Raises `ProfileError`."""
    import tomlkit

    try:
        return tomlkit.parse(text)
    except (tomlkit.exceptions.ParseError, ValueError, RecursionError) as error:
        raise ProfileError(where, [unexpected("file", "TOML that can be changed", readable(str(error)))]) from error


def apply_changes(path: Path, changes: Sequence[Change]) -> Profile:
    """Apply changes to the file of a profile; it stays unchanged on any error.

    Raises:
        ProfileError: the result would be invalid, or cannot be written.
    """
    try:
        text, profile = changed_text(text_in(path), changes, str(path))
        write_atomically(path, text)
    except OSError as error:
        raise ProfileError(
            str(path), [unexpected("file", "a file that can be written", error.strerror or "")]
        ) from error
    return profile


def _changed(text: str, changes: Mapping[str, Any], where: str) -> Profile:
    """Return the profile of a text with some keys changed; None removes a key; see `Profile.with_`."""
    import tomlkit

    document = document_of(text, where)
    for key, value in changes.items():
        table: Any = document
        *places, last = key.split(".")
        for part in places:
            if part not in table or not isinstance(table[part], Mapping):
                table[part] = tomlkit.table()
            table = table[part]
        if value is None:
            table.pop(last, None)
        else:
            table[last] = value
    return parse_profile(tomlkit.dumps(document), where)


Profile.changed = staticmethod(_changed)
Profile.text_of = staticmethod(profile_text)
