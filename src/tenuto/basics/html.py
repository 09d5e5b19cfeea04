"""Tables for notebooks: how an object shows itself as HTML."""

from __future__ import annotations

import html
from collections.abc import Iterable, Sequence


def html_table(title: str, rows: Iterable[Sequence[object]], head: Sequence[str] = ()) -> str:
    """Make a table with a title; every cell is escaped."""

    def cells(row: Sequence[object], tag: str) -> str:
        return "".join(f'<{tag} style="text-align:left">{html.escape(str(cell))}</{tag}>' for cell in row)

    top = f"<thead><tr>{cells(head, 'th')}</tr></thead>" if head else ""
    body = "".join(f"<tr>{cells(row, 'td')}</tr>" for row in rows)
    return f"<b>{html.escape(title)}</b><table>{top}<tbody>{body}</tbody></table>"
