"""The base of all tables of a profile, and how a quantity is read."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any, ClassVar

from pydantic import BaseModel, ConfigDict, Field
from pydantic_core import PydanticCustomError

from tenuto.kinds.quantities import Dimension, parse_quantity

Name = Annotated[str, Field(min_length=1)]


class Table(BaseModel):
    """A table: unknown keys are errors, and nothing is guessed."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True, allow_inf_nan=False, defer_build=True)
    # The options from which this was made; None for a table that is written by hand.
    made_of: ClassVar[Any] = None


def quantity(dimension: Dimension, *, signed: bool = False) -> Callable[[object], float]:
    """Make a reader of quantities of a dimension, above zero if they are not ``signed``."""

    def read(value: object) -> float:
        try:
            return parse_quantity(value, dimension, signed=signed)
        except ValueError as error:
            raise PydanticCustomError("quantity", "{hint}", {"hint": str(error)}) from None

    return read
