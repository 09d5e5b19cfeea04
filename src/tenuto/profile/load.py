"""Reads a profile from a file or from text, with errors that say what to do."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from types import NoneType, UnionType
from typing import Annotated, Any, NamedTuple, Union, get_args, get_origin

from pydantic import BaseModel, ValidationError
from pydantic.fields import FieldInfo

from tenuto.basics.errors import ProfileError
from tenuto.basics.findings import Finding, unexpected
from tenuto.files import UnreadableError, parse_toml, read_toml, unreadable
from tenuto.kinds.tables import INNER, KIND
from tenuto.profile.checks.names import nearest
from tenuto.profile.profile import FINDINGS, Profile


def load_profile(path: str | Path) -> Profile:
    """Read a profile from a TOML file.

    Raises:
        ProfileError: the file cannot be read, is not TOML, or has errors; every error
            is listed with its key, what was expected and what was found.
    """
    where = str(path)
    try:
        text, tables = read_toml(path)
    except UnreadableError as error:
        raise ProfileError(where, [unreadable(error)]) from error
    return _profile_of(tables, text, where).read_from(Path(path))


def parse_profile(text: str, where: str = "profile") -> Profile:
    """Read a profile from TOML text; ``where`` names it in errors. Raises as `load_profile`."""
    try:
        return _profile_of(parse_toml(text), text, where)
    except UnreadableError as error:
        raise ProfileError(where, [unreadable(error)]) from error


def _profile_of(tables: dict[str, Any], text: str, where: str) -> Profile:
    if other := what_else(tables):
        raise ProfileError(where, [unexpected("file", "a profile", other)])
    try:
        return Profile.model_validate(tables).written_as(text)
    except ValidationError as error:
        raise ProfileError(where, [one for details in error.errors() for one in _findings(details)]) from None


def what_else(tables: Mapping[str, Any]) -> str:
    """Name the kind of a TOML file that is not a profile, and the command for it; empty if it may be a profile."""
    if tables.keys() & {"source", "style", "chassis"}:
        return ""
    if "steps" in tables:
        return "a script of motion: play it with tenuto script SCRIPT PROFILE"
    if "device" in tables and "controls" in tables:
        return "a calibration: it is used with --calibration"
    return ""


def _findings(details: Any, root: type[BaseModel] = Profile) -> list[Finding]:
    """Describe an error between tables, in a table of some kind, or in one key."""
    kind, known = details["type"], details.get("ctx", {})
    if kind == FINDINGS and known["findings"]:
        return list(known["findings"])
    if kind == INNER:
        key = ".".join(_Place.of(tuple(details["loc"]), root).parts)
        return [one.within(key) for inner in known["errors"] for one in _findings(inner, known["table"])]
    return [finding_of(details, root)]


def finding_of(details: Any, root: type[BaseModel] = Profile) -> Finding:
    """Describe an error of pydantic in plain words."""
    place = _Place.of(tuple(details["loc"]), root)
    key, name = ".".join(place.parts), place.parts[-1] if place.parts else ""
    kind, hint = details["type"], ""
    if kind == KIND:
        names, found = details["ctx"]["known"], details["ctx"]["found"]
        if found is None:
            return unexpected(f"{key}.kind", "a word that says which kind it is", "nothing", "add it")
        return unexpected(f"{key}.kind", f"one of {', '.join(names)}", _shown(found), nearest(str(found), names))
    if kind == "extra_forbidden":
        known = list(place.table.model_fields) if place.table else []
        own = get_args(place.table.model_fields["kind"].annotation) if place.table and "kind" in known else ()
        of = f" with kind {own[0]}" if own else ""
        meant = nearest(name, known)
        # A list of all thirty keys of a table does not help with a misspelt one.
        able = f"a key of this table{of}" if meant else f"one of {', '.join(known)}{of}"
        return unexpected(key, able, "an unknown key", meant)
    if kind == "union_tag_invalid":
        tags = [word.strip("' ") for word in details["ctx"]["expected_tags"].split(",")]
        found = str(details["ctx"]["tag"])
        return unexpected(f"{key}.kind", f"one of {', '.join(tags)}", f'"{found}"', nearest(found, tags))
    if kind == "union_tag_not_found":
        return unexpected(f"{key}.kind", "a word that says which kind it is", "nothing", "add it")
    expected = place.field.description if place.field and place.field.description else "a table"
    if kind == "missing":
        return unexpected(key, expected, "nothing", "add it")
    if kind == "quantity":
        hint = details["msg"]
    if kind == "literal_error" and place.field:
        hint = nearest(str(details["input"]), [str(word) for word in get_args(place.field.annotation)])
    return unexpected(key, expected, _shown(details["input"]), hint)


class _Place(NamedTuple):
    """The place of an error in the schema: the parts of its key, its table, and its field."""

    parts: list[str]
    table: type[BaseModel] | None
    field: FieldInfo | None

    @classmethod
    def of(cls, loc: tuple[str | int, ...], root: type[BaseModel]) -> _Place:
        """Follow a location through tables, tables by name, and kinds of table (which are in it, but in no key)."""
        annotation: Any = root
        table: type[BaseModel] | None = None
        field: FieldInfo | None = None
        parts: list[str] = []
        for part in loc:
            kinds = _kinds(annotation)
            if kinds:
                annotation = kinds.get(str(part), annotation)
                if str(part) in kinds:
                    continue
            found = _tables(annotation)
            if found is not None:
                table, field = found, found.model_fields.get(str(part))
                annotation = field.annotation if field else None
                if field is not None and field.discriminator:
                    annotation = Annotated[annotation, field]
            elif get_origin(annotation) in (dict, list):
                annotation = get_args(annotation)[-1]
            parts.append(str(part))
        return cls(parts, table, field)


def _plain(annotation: Any) -> list[Any]:
    """List the members of a type without its annotations; a single one if it is not a union."""
    if get_origin(annotation) is Annotated:
        annotation = get_args(annotation)[0]
    if get_origin(annotation) in (Union, UnionType):
        return [member for member in get_args(annotation) if member is not NoneType]
    return [annotation]


def _kinds(annotation: Any) -> dict[str, type[BaseModel]]:
    """Return kind → table if a table may be of several kinds; otherwise nothing."""
    members = _plain(annotation)
    if len(members) < 2 or not all(isinstance(member, type) and issubclass(member, BaseModel) for member in members):
        return {}
    return {word: member for member in members for word in get_args(member.model_fields["kind"].annotation)}


def _tables(annotation: Any) -> type[BaseModel] | None:
    members = _plain(annotation)
    one = members[0]
    return one if len(members) == 1 and isinstance(one, type) and issubclass(one, BaseModel) else None


def _shown(value: object) -> str:
    """Show a value as in the file."""
    if isinstance(value, str):
        return f'"{value}"'
    if isinstance(value, bool):
        return str(value).lower()
    return "a table" if isinstance(value, dict) else str(value)
