"""Where the commands print: colour only on a terminal, and no markup, so that any name prints as it is."""

import sys

from rich.console import Console

# What goes into a file or a pipe is not cut at 80 characters.
_PIPE_WIDTH = 120

results = Console(highlight=False, markup=False, emoji=False, width=None if sys.stdout.isatty() else _PIPE_WIDTH)
problems = Console(stderr=True, highlight=False, markup=False, emoji=False)


def counted(number: int, word: str) -> str:
    """Say how many: ``1 warning``, ``2 warnings``."""
    return f"{number} {word}" if number == 1 else f"{number} {word}s"
