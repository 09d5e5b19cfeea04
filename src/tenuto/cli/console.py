"""Where the commands print: colour only on a terminal."""

from rich.console import Console

results = Console(highlight=False)
problems = Console(stderr=True, highlight=False)
