"""The cost of a start: Tenuto's import compared with NumPy and Pydantic, and ``tenuto --help`` with a bare Typer
program.

Each is a process of its own, alternately; the ratio of the medians is printed.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import time

ROUNDS = 15
BARE = "import typer\napp = typer.Typer()\n@app.command()\ndef hello(name: str = 'x'): 'Say hello.'\napp(['--help'])"
PAIRS = {
    "import tenuto": ("import tenuto", "import numpy, pydantic"),
    "import tenuto, and load a profile and make a pipeline": (
        "import tenuto; from tenuto.data import shipped; tenuto.Pipeline(tenuto.load_profile(shipped('medlar.toml')))",
        "import numpy, pydantic",
    ),
    "tenuto --help": ("import sys; sys.argv[1:] = ['--help']; from tenuto.cli import main; main()", BARE),
}


def seconds(program: str) -> float:
    """Run a program in a new interpreter, and return its time."""
    began = time.perf_counter()
    subprocess.run([sys.executable, "-c", program], stdout=subprocess.DEVNULL, check=True)
    return time.perf_counter() - began


def main() -> None:
    """Print the ratios."""
    empty = statistics.median(seconds("pass") for _ in range(ROUNDS))
    for name, (ours, other) in PAIRS.items():
        both = [(seconds(ours), seconds(other)) for _ in range(ROUNDS)]
        one, two = (statistics.median(times) for times in zip(*both, strict=True))
        net = (one - empty) / (two - empty)
        print(f"{name}: {one / two:.2f} times as long as the other ({net:.2f} without the interpreter)")


if __name__ == "__main__":
    main()
