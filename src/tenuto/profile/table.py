"""What all tables of a profile have in common."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar

from pydantic import BaseModel, ConfigDict, Field

Name = Annotated[str, Field(min_length=1)]


class Table(BaseModel):
    """A table: unknown keys are errors, and nothing is guessed."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True, allow_inf_nan=False)
    # The options that this was made from; None for a table that is written out.
    made_of: ClassVar[Any] = None
