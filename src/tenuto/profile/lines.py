"""Where a key stands in the text of a profile."""

from __future__ import annotations

import re


def line_of(text: str, key: str) -> int:
    """Return the line of a key in TOML text, or of the nearest table around it that is written; 1 where none is."""
    while key:
        table, _, name = key.rpartition(".")
        inside = not table
        for number, line in enumerate(text.splitlines(), 1):
            if (match := re.match(r"\s*\[([^\[\]]+)\]", line)) is not None:
                header = match[1].strip().replace('"', "")
                inside = header == table
                if header == key:
                    return number
            elif inside and re.match(rf"\s*{re.escape(name)}\s*=", line):
                return number
        key = table
    return 1
