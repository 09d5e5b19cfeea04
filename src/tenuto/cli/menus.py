"""Questions with numbered answers: in the terminal, and on pages in a browser."""

from __future__ import annotations

import select
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple, TypeAlias

import typer
from rich.table import Table

from tenuto.cli.console import problems, results

if TYPE_CHECKING:
    from tenuto.links.page import PageServer

Pages: TypeAlias = "Sequence[PageServer]"

# The number of pictures side by side.
_ABREAST = 3
# The interval at which pages are checked for an answer, s.
_LOOK_EVERY = 0.05


class Choice(NamedTuple):
    """One line of a menu: its key, its description, and its picture, three lines."""

    key: str
    words: str
    picture: tuple[str, ...] = ()


def choose(title: str, choices: Sequence[Choice], pages: Pages = (), note: str = "") -> str:
    """Let a person choose by number, or on a page; the first one by default. ``note`` explains the pictures.

    Raises:
        typer.Abort: the terminal has ended.
    """
    keys = [one.key for one in choices]
    _show(f"{title} {note}".strip(), choices)
    for page in pages:
        page.ask(title, [(one.key, one.words) for one in choices])
    while True:
        said = str(typer.prompt("Number", default="1")) if not pages else ""
        said = said or _answer(pages, "Number [1], or press one on the page: ") or "1"
        if said.isdigit() and 1 <= int(said) <= len(choices):
            said = keys[int(said) - 1]
        if said in keys:
            for page in pages:
                page.answered(f"{title} {said}")
            return said
        problems.print(f"expected a number from 1 to {len(choices)}", style="yellow")


def confirmed(question: str, pages: Pages = ()) -> bool:
    """Ask a yes-or-no question with the default yes, in the terminal or on a page; return the answer.

    Raises:
        typer.Abort: the terminal has ended.
    """
    if not pages:
        return bool(typer.confirm(question, True))
    for page in pages:
        page.ask(question, [("yes", ""), ("no", "")])
    while True:
        said = _answer(pages, f"{question} [Y/n]: ").lower() or "y"
        if said in ("y", "yes", "n", "no"):
            for page in pages:
                page.answered(f"{question} {said}")
            return said[0] == "y"
        problems.print("expected y or n", style="yellow")


def _show(title: str, choices: Sequence[Choice]) -> None:
    results.print(title, style="bold")
    grid = Table.grid(padding=(0, 2))
    if any(one.picture for one in choices):
        # As many side by side as fit into 80 characters, so that all are on one screen.
        cells = ["\n".join((f"{number:2} {one.key}", *(f"   {line}" for line in one.picture)))
                 for number, one in enumerate(choices, 1)]  # fmt: skip
        for first in range(0, len(cells), _ABREAST):
            grid.add_row(*cells[first : first + _ABREAST])
    else:
        for number, one in enumerate(choices, 1):
            grid.add_row(f"{number:2}", f"{one.key}: {one.words}")
    results.print(grid)


def _answer(pages: Pages, prompt: str) -> str:
    """Return the first answer, typed or from a page."""
    results.print(prompt, end="", soft_wrap=True)
    while True:
        for page in pages:
            if page.chosen:
                results.print(page.chosen)
                return page.chosen
        if select.select([sys.stdin], [], [], _LOOK_EVERY)[0]:
            line = sys.stdin.readline()
            if not line:
                raise typer.Abort
            return line.strip()
