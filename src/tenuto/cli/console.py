"""The output of the commands: colour only on a terminal, and no markup, so that any name is printed unchanged."""

import json
import math
import sys
from collections.abc import Mapping
from typing import Any

import typer
from rich.console import Console

# The format of --json; it is raised when a key changes its meaning or is removed.
JSON_FORMAT = 1

# Output to a file or a pipe is not cut at 80 characters.
_PIPE_WIDTH = 120

results = Console(highlight=False, markup=False, emoji=False, width=None if sys.stdout.isatty() else _PIPE_WIDTH)
problems = Console(stderr=True, highlight=False, markup=False, emoji=False)


def print_json(command: str, found: Mapping[str, Any]) -> None:
    """Print the result of a command as one JSON object. NaN and infinite numbers are null: JSON has none."""
    said = {"format": JSON_FORMAT, "command": command, **plain_numbers(found)}
    typer.echo(json.dumps(said, indent=2, allow_nan=False))


def plain_numbers(value: Any) -> Any:
    """Replace numbers that JSON does not have by null."""
    if isinstance(value, Mapping):
        return {str(key): plain_numbers(one) for key, one in value.items()}
    if isinstance(value, (list, tuple)):
        return [plain_numbers(one) for one in value]
    if hasattr(value, "item"):  # a number of NumPy
        value = value.item()
    return None if isinstance(value, float) and not math.isfinite(value) else value


def counted(number: int, word: str) -> str:
    """Return a count in words: ``1 warning``, ``2 warnings``."""
    return f"{number} {word}" if number == 1 else f"{number} {word}s"
