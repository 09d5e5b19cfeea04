"""Kinds: a style, a vehicle, a source … is one file that holds everything about it, and is found without a list.

A room's own kinds are the files in it; a file may have a function ``kinds`` that makes them from other data. A
package adds one by an entry point of its group::

    [project.entry-points."tenuto.styles"]
    wheelbarrow = "wheelbarrow.style:WheelbarrowOptions"
"""

from __future__ import annotations

import importlib
import pkgutil
from contextlib import suppress
from functools import cache, cached_property
from importlib.metadata import EntryPoint, entry_points
from typing import Any, Generic, TypeVar

from tenuto.basics.errors import KindError

K = TypeVar("K")


class Kinds(Generic[K]):
    """All kinds of one thing, by their names.

    Attributes:
        what: as text, such as "a style". group: the room, and the group of entry points.
        base: the base class of all; each has a ``kind``, its name in profiles and short texts.
    """

    def __init__(self, what: str, group: str, base: Any, *more: str) -> None:
        """Set where they are; nothing is imported before it is needed.

        Args:
            what, group, base: see above. more: modules outside the room that have kinds too.
        """
        self.what, self.group, self.base = what, group, base
        self._more = more

    @cached_property
    def all(self) -> dict[str, type[K]]:
        """Every kind by its name, sorted.

        Raises:
            KindError: a package's kind cannot be loaded, is not of the base class, or has a name that is taken.
        """
        found: dict[str, type[K]] = {}
        room = importlib.import_module(self.group)
        modules = [f"{self.group}.{one.name}" for one in pkgutil.iter_modules(room.__path__)]
        for name in (*modules, *self._more):
            found |= self._in(name)
        for point in _points():
            if point.group == self.group:
                one = self._load(point)
                if one.kind in found:
                    raise KindError(f"{_package(point)}: {self.what} with the name {one.kind} exists already")
                found[one.kind] = one
        return dict(sorted(found.items()))

    def find(self, name: str) -> type[K] | None:
        """Return the kind with a name, or None. If its file has that name too, no other is imported."""
        if "all" not in self.__dict__ and name.isidentifier() and not any(p.group == self.group for p in _points()):
            with suppress(ModuleNotFoundError):
                found = self._in(f"{self.group}.{name}")
                if name in found:
                    return found[name]
        return self.all.get(name)

    def _in(self, name: str) -> dict[str, type[K]]:
        """Return the kinds of a module."""
        module = importlib.import_module(name)
        made = [] if "kinds" not in vars(module) else module.kinds()
        ones = (one for one in (*vars(module).values(), *made) if self._is_one(one))
        return {one.kind: one for one in ones if one.__module__ == name or one in made}

    def _is_one(self, what: Any) -> bool:
        return isinstance(what, type) and issubclass(what, self.base) and isinstance(what.__dict__.get("kind"), str)

    def _load(self, point: EntryPoint) -> Any:
        try:
            one = point.load()
        except Exception as error:  # any error in another package
            raise KindError(f"{_package(point)}: {self.what} {point.name} cannot be loaded: {error}") from error
        if not self._is_one(one):
            expected = f"{self.what}: a subclass of {self.base.__name__} with its name in kind"
            raise KindError(f"{_package(point)}: expected {expected}, found {point.value}")
        return one


@cache
def _points() -> tuple[EntryPoint, ...]:
    found = entry_points()
    return tuple(point for group in found.groups if group.startswith("tenuto.") for point in found.select(group=group))


def _package(point: EntryPoint) -> str:
    return f"package {point.dist.name}" if point.dist is not None else f"entry point {point.name}"
