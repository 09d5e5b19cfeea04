"""Names of a profile as identifiers of C: readable, and unique."""

from __future__ import annotations

import re
import unicodedata


class Names:
    """Makes identifiers; the same name gets the same one."""

    def __init__(self) -> None:
        """Begin with none."""
        self._made: dict[str, str] = {}

    def identifier(self, name: str) -> str:
        """Return the identifier of a name: lower case, without a prefix."""
        if name in self._made:
            return self._made[name]
        plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
        made = re.sub(r"[^a-z0-9]+", "_", plain).strip("_") or "unnamed"
        taken, number, first = set(self._made.values()), 2, made
        while made in taken:
            made, number = f"{first}_{number}", number + 1
        self._made[name] = made
        return made


def quoted(text: str) -> str:
    """Return a text for a string or a comment of C: plain characters, and nothing that ends either."""
    plain = unicodedata.normalize("NFKD", text).encode("ascii", "replace").decode()
    return plain.replace("\\", "/").replace('"', "'").replace("*/", "* /").replace("\n", " ")
