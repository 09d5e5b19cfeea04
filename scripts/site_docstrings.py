"""Docstrings for the site: `mkdocs.yml` loads this as an extension of griffe.

The docstrings are short: ``low, high: raw numbers. centre: in the middle.`` has three names in one line. On the site
each name gets its own row, with its type and default; and ``::`` before an example becomes a colon.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

import griffe

_SECTION = re.compile(r"^(Args|Attributes|Raises):$")
# Where the next name begins, and the names of an item with their text.
_NAME = r"(?:[a-z_]\w*|[A-Z]\w*Error)"
_NEXT = re.compile(rf"(?<=[.;]) (?={_NAME}(?:, {_NAME})*: )")
_ITEM = re.compile(r"^(\w+(?:, \w+)*): (.+)$")


class OneNameARow(griffe.Extension):
    """Rewrites each docstring before it is parsed."""

    def on_object(self, *, obj: griffe.Object, **_: Any) -> None:
        """Rewrite the docstring of an object."""
        if obj.docstring is not None:
            obj.docstring.value = for_the_site(obj.docstring.value)


def for_the_site(docstring: str) -> str:
    """Return a docstring with one name in each item of a section."""
    lines: list[str] = []
    items: list[str] | None = None
    for line in docstring.splitlines():
        if items is not None and line and not line.startswith(" "):
            lines += [*_rows(items), ""]
            items = None
        if items is None:
            lines.append("" if line == "::" else re.sub("::$", ":", line))
            items = [] if _SECTION.match(line) else None
        elif re.match(" {4}[^ ]", line):
            items.append(line.strip())
        elif line.strip() and items:
            items[-1] += " " + line.strip()
    return "\n".join([*lines, *_rows(items or [])])


def _rows(items: list[str]) -> Iterator[str]:
    """Yield a line for each name."""
    for item in items:
        for piece in _NEXT.split(item):
            if found := _ITEM.match(piece):
                yield from (f"    {name}: {found[2]}" for name in found[1].split(", "))
            else:
                yield f"    {piece}"
