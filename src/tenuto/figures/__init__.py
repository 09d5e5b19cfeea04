"""Figures. Each function takes its data and an ``ax``, and draws nothing but that."""

from __future__ import annotations

from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING

from tenuto.basics.errors import TenutoError
from tenuto.basics.extras import needs
from tenuto.files import write_atomically

needs("matplotlib")
if TYPE_CHECKING:
    from matplotlib.figure import Figure


def save_figure(figure: Figure, path: str | Path) -> None:
    """Write a figure; the suffix sets its format. Raises `TenutoError` with the name of the file."""
    drawn = BytesIO()
    try:
        figure.savefig(drawn, format=Path(path).suffix.removeprefix(".") or None)
        write_atomically(path, drawn.getvalue())
    except (OSError, ValueError) as error:
        raise TenutoError(f"{path}: cannot write the figure: {getattr(error, 'strerror', None) or error}") from error
