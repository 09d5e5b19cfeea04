"""The pieces of generated code: each kind has its own, a template beside its Python."""

from __future__ import annotations

import inspect
import re
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

from tenuto.basics.extras import needs

if TYPE_CHECKING:
    from jinja2 import BytecodeCache, Environment
    from jinja2.bccache import Bucket

ROOT = Path(__file__).parents[1]
SUFFIX = ".c.j2"


def piece_name(kind: type) -> str:
    """Return the name of the file of a class, without its suffix: ``GesturePlan`` is in ``gesture``."""
    return re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", kind.__name__.removesuffix("Plan")).lower()


def piece_file(kind: type) -> Path | None:
    """Find the piece of a class, or of its base class; None if there is none."""
    for base in kind.__mro__[:-1]:
        try:
            found = Path(inspect.getfile(base)).with_name(piece_name(base) + SUFFIX)
        except (TypeError, OSError):
            continue
        if found.exists():
            return found
    return None


@cache
def _compiled() -> BytecodeCache:
    """Return a cache of compiled templates in memory: compiling takes longer than filling in."""
    from jinja2 import BytecodeCache

    class Kept(BytecodeCache):
        def __init__(self) -> None:
            self._buckets: dict[str, bytes] = {}

        def load_bytecode(self, bucket: Bucket) -> None:
            if bucket.key in self._buckets:
                bucket.bytecode_from_string(self._buckets[bucket.key])

        def dump_bytecode(self, bucket: Bucket) -> None:
            self._buckets[bucket.key] = bucket.bytecode_to_string()

    return Kept()


def late(one: Callable[..., Any]) -> Callable[..., Any]:
    """Return a filter of templates that is called each time: Jinja2 would cache its result as a constant."""
    from jinja2 import pass_context

    return pass_context(lambda _, *arguments: one(*arguments))


def environment() -> Environment:
    """Make the environment of the templates.

    Raises:
        MissingPackageError: Jinja2 is not installed.
    """
    needs("jinja2")
    from jinja2 import Environment, FileSystemLoader, StrictUndefined

    made = Environment(
        loader=FileSystemLoader(ROOT), undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True,
        keep_trailing_newline=True, autoescape=False, bytecode_cache=_compiled(),
    )  # fmt: skip

    def piece(one: Any) -> Any:
        path = piece_file(type(one))
        assert path is not None, f"{type(one).__name__} was to be refused"
        if path.is_relative_to(ROOT):
            return made.get_template(path.relative_to(ROOT).as_posix()).module
        return made.from_string(path.read_text(encoding="utf-8")).module

    made.filters["piece"] = late(piece)
    made.filters["kind"] = lambda one: (type(one).__doc__ or type(one).__name__).partition("\n")[0].rstrip(".")
    return made
