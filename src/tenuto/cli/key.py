"""``tenuto key``: a fresh key that two machines share."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from tenuto.cli.console import results


def key(
    file: Annotated[Path, typer.Argument(help="The file to write, which must not be there yet.")],
) -> None:
    """Make a key for a link that nobody else may drive by: UDP, or signed MAVLink.

    Both ends need the same file: copy it over a way that nobody else reads, such as SSH.

    [bold]Examples:[/bold]

      tenuto key orchard.key

      scp orchard.key cart:
    """
    from tenuto.basics.errors import SinkError
    from tenuto.links.key_file import make_key

    make_key(str(file), SinkError)
    results.print(f"{file} holds a fresh key, which only you can read. Both ends need this file.", soft_wrap=True)
