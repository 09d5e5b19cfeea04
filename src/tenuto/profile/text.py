"""A profile as the text of a TOML file, which `tenuto.parse_profile` reads as the same profile."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields, is_dataclass
from typing import Any

import tomlkit
from pydantic import BaseModel

from tenuto.profile.profile import Profile


def profile_text(profile: Profile) -> str:
    """Return a profile as TOML, in SI units, without defaults and comments."""
    return tomlkit.dumps(profile_tables(profile))


def profile_tables(profile: Profile) -> dict[str, Any]:
    """Return its TOML as plain tables."""
    tables: dict[str, Any] = _plain(profile)
    return tables


def _plain(value: Any) -> Any:
    """Convert tables and options to dictionaries, with the kind of each option that has one."""
    if isinstance(value, BaseModel):
        named = {name: getattr(value, name) for name in type(value).model_fields if name in value.model_fields_set}
        return {name: _plain(one) for name, one in named.items() if one is not None}
    if is_dataclass(value) and not isinstance(value, type):
        kind = {"kind": value.kind} if hasattr(value, "kind") else {}
        said = {one.name: getattr(value, one.name) for one in fields(value) if getattr(value, one.name) != one.default}
        return kind | {name: _plain(one) for name, one in said.items() if one is not None}
    if isinstance(value, Mapping):
        return {str(name): _plain(one) for name, one in value.items()}
    if isinstance(value, (list, tuple)):
        return [_plain(one) for one in value]
    return value
