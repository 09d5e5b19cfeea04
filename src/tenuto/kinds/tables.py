"""The tables of a profile that have kinds, made from the options of those kinds."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import MISSING, Field, fields, is_dataclass
from functools import cache
from types import NoneType, UnionType
from typing import Annotated, Any, Literal, Union, get_args, get_origin, get_type_hints

import pydantic
from pydantic import AfterValidator, BeforeValidator, ValidationError, create_model
from pydantic_core import PydanticCustomError, core_schema

from tenuto.kinds.options import About, about
from tenuto.kinds.registry import Kinds
from tenuto.kinds.table import Name, Table, quantity

# The types of the errors of such a table: an unknown kind, or wrong keys.
KIND, INNER = "kind", "inner"


class OneOf:
    """The pydantic hook for a table of any of the kinds: ``kind`` selects, and only that one is made."""

    def __init__(self, kinds: Kinds[Any], fits: Callable[[Any], bool]) -> None:
        self._kinds, self._fits = kinds, fits

    def __get_pydantic_core_schema__(self, source: Any, handler: Any) -> core_schema.CoreSchema:
        """Describe how such a table is read."""
        return core_schema.no_info_plain_validator_function(self._read)

    def names(self) -> list[str]:
        """List the kinds that are permitted there."""
        return [name for name, options in self._kinds.all.items() if self._fits(options)]

    def tables(self) -> list[type[Table]]:
        """List the tables of all of them."""
        return [table_of(self._kinds.all[name], self._kinds.what) for name in self.names()]

    def _read(self, value: Any) -> Any:
        if isinstance(value, self._kinds.base):
            return value
        if not isinstance(value, dict):
            raise PydanticCustomError("table", "a table")
        name = value.get("kind")
        options = self._kinds.find(name) if isinstance(name, str) else None
        if options is None or not self._fits(options):
            raise PydanticCustomError(KIND, "no such kind", {"found": name, "known": self.names()})
        table = table_of(options, self._kinds.what)
        try:
            return made(table.model_validate(value))
        except ValidationError as error:
            raise PydanticCustomError(
                INNER, "{text}", {"text": str(error), "errors": error.errors(), "table": table}
            ) from None


def any_of(kinds: Kinds[Any], fits: Callable[[Any], bool] = lambda _: True) -> Any:
    """Return the type of a table of any of the kinds: ``kind = …`` selects, and the result is its options.

    Args:
        kinds: see `Kinds`. fits: selects those that are permitted in a profile; all by default.
    """
    return Annotated[Any, OneOf(kinds, fits)]


def table_of(options: type[Any], what: str = "") -> type[Table]:
    """Return the table for options: the same keys, checked one by one, unknown ones refused.

    Args:
        options: a dataclass of `tenuto.kinds.options`. what: the sort of kind, such as "a style"; empty for
            a table that has no kinds.
    """
    table: type[Table] = _table_of(options, what)  # type: ignore[arg-type]
    return table


@cache
def _table_of(options: Any, what: str) -> Any:
    hints = get_type_hints(options, include_extras=True)
    keys: dict[str, Any] = {}
    if what:
        keys["kind"] = (Literal[options.kind], pydantic.Field(description=what))
    for one in fields(options):
        said = about(one)
        keys[one.name] = (_type(hints[one.name], said), _field(one, said))
    table = create_model(f"{options.__name__}Table", __base__=Table, __doc__=options.__doc__, **keys)
    table.made_of = options
    return table


def _field(one: Field[Any], said: About) -> Any:
    limits: dict[str, Any] = {}
    if said.dimension is None and not (said.fewest is not None):
        limits = {"ge": said.low, "gt": said.above, "le": said.high}
    if said.fewest is not None:
        limits = {"min_length": said.fewest}
    if one.default is not MISSING:
        limits["default"] = one.default
    elif one.default_factory is not MISSING:
        limits["default_factory"] = one.default_factory
    return pydantic.Field(description=said.expected, **limits)


def _type(hint: Any, said: About) -> Any:
    """Return the pydantic type for the type of an option."""
    origin, parts = get_origin(hint), get_args(hint)
    if origin in (Union, UnionType):
        return Union[tuple(_type(part, said) for part in parts)]  # noqa: UP007
    if origin is dict:
        return dict[_type(parts[0], About("")), _type(parts[1], said)]  # type: ignore[misc]
    if origin is tuple:
        return Annotated[list[_type(parts[0], said)], AfterValidator(tuple)]  # type: ignore[misc]
    if hint is str:
        return Name
    if hint is float and said.dimension is not None:
        return Annotated[float, BeforeValidator(quantity(said.dimension, signed=said.signed))]
    if hint is float and said.nan:
        return Annotated[float, pydantic.Field(allow_inf_nan=True)]
    if hint is float and said.fewest is not None:
        return Annotated[float, pydantic.Field(ge=said.low, gt=said.above, le=said.high)]
    if is_dataclass(hint):
        return Annotated[table_of(hint), AfterValidator(made)]  # type: ignore[arg-type]
    assert hint in (float, int, bool, NoneType) or origin is Literal, hint
    return hint


def made(table: Table) -> Any:
    """Make the options from a table that was checked."""
    options = type(table).made_of
    return options(**{one.name: getattr(table, one.name) for one in fields(options)})
