"""Reading a profile from a file or from text, with errors that a person can act on."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any, get_args

from pydantic import BaseModel, ValidationError

from tenuto.core.errors import Problem, ProfileError
from tenuto.profile.crosscheck import crosscheck, nearest
from tenuto.profile.schema import Profile


def load_profile(path: str | Path) -> Profile:
    """Read a profile from a TOML file.

    Raises:
        ProfileError: the file cannot be read, is no TOML, or something in it is wrong; every problem
            is listed with its key, what was expected and what was found.
    """
    where = str(path)
    try:
        text = Path(path).read_text(encoding="utf-8")
    except OSError as error:
        raise ProfileError(where, [Problem("file", "a readable file", error.strerror or str(error))]) from error
    except UnicodeDecodeError as error:
        found = f"byte 0x{error.object[error.start]:02x} at offset {error.start}"
        raise ProfileError(where, [Problem("file", "text in UTF-8", found)]) from error
    return parse_profile(text, where)


def parse_profile(text: str, where: str = "profile") -> Profile:
    """Read a profile from TOML text; ``where`` stands for it in errors. Raises as `load_profile`."""
    try:
        tables = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise ProfileError(where, [Problem("file", "TOML", f"what is not: {error}")]) from error
    try:
        profile = Profile.model_validate(tables)
    except ValidationError as error:
        raise ProfileError(where, [_problem(details) for details in error.errors()]) from None
    problems = crosscheck(profile)
    if problems:
        raise ProfileError(where, problems)
    return profile


def _problem(details: Any) -> Problem:
    """Say in a builder's words what pydantic found."""
    place = tuple(details["loc"])
    key = ".".join(str(part) for part in place)
    table = _table_at(place[:-1])
    name = str(place[-1])
    if details["type"] == "extra_forbidden":
        known = list(table.model_fields) if table else []
        return Problem(key, f"one of {', '.join(known)}", "an unknown key", nearest(name, known))
    field = table.model_fields.get(name) if table else None
    expected = field.description if field and field.description else "a table"
    if details["type"] == "missing":
        return Problem(key, expected, "nothing", "add it")
    hint = details["msg"] if details["type"] == "quantity" else ""
    if details["type"] == "literal_error" and field:
        hint = nearest(str(details["input"]), [str(word) for word in get_args(field.annotation)])
    return Problem(key, expected, _shown(details["input"]), hint)


def _table_at(place: tuple[str | int, ...]) -> type[BaseModel] | None:
    """Find the table of the schema that a key belongs to; a name under [controls] stands for any."""
    table: type[BaseModel] = Profile
    parts = list(place)
    while parts:
        field = table.model_fields.get(str(parts.pop(0)))
        if field is None:
            return None
        annotation: Any = field.annotation
        if get_args(annotation):
            if not parts:
                return None
            parts.pop(0)
            annotation = get_args(annotation)[1]
        table = annotation
    return table


def _shown(value: object) -> str:
    """Show a value as the file has it."""
    if isinstance(value, str):
        return f'"{value}"'
    if isinstance(value, bool):
        return str(value).lower()
    return "a table" if isinstance(value, dict) else str(value)
