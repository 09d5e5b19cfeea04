"""The pages that are open on this machine: each notes its port in a file, so that a class can find it.

The files are in the folder of the page's certificate. Only the user who runs the pages can read that folder.
"""

from __future__ import annotations

import json
import os
from contextlib import suppress
from dataclasses import asdict, dataclass
from pathlib import Path

from tenuto.basics.json_in import read_json
from tenuto.files import MOST_TOML, read_text, write_atomically


@dataclass(frozen=True)
class OpenPage:
    """Where a page of this machine is served.

    Attributes:
        port: of TCP. lan: over TLS, to devices that were admitted. process: the number of its process.
    """

    port: int
    lan: bool
    process: int


def open_pages_folder() -> Path:
    """Return the folder of the files."""
    from platformdirs import user_data_path

    return user_data_path("tenuto") / "page" / "open"


def note_page(page: OpenPage) -> Path:
    """Note that a page is open, and return the file. Raises OSError."""
    folder = open_pages_folder()
    folder.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    folder.mkdir(exist_ok=True, mode=0o700)
    path = folder / f"{page.port}.json"
    write_atomically(path, json.dumps(asdict(page)) + "\n", private=True)
    return path


def drop_note(path: Path, page: OpenPage) -> None:
    """Remove the note of a page that ends, unless another page has taken its port meanwhile."""
    with suppress(OSError):
        if _read(path) == page:
            path.unlink()


def open_pages() -> list[OpenPage]:
    """List the pages that are noted and whose processes live; the note of one that was killed is left out."""
    found = [_read(path) for path in sorted(open_pages_folder().glob("*.json"))]
    return [page for page in found if page is not None and _lives(page.process)]


def _lives(process: int) -> bool:
    try:
        os.kill(process, 0)  # signal 0 only looks
    except (ProcessLookupError, OverflowError):
        return False
    except PermissionError:
        return True
    return True


def _read(path: Path) -> OpenPage | None:
    with suppress(OSError, ValueError, TypeError):
        said = read_json(read_text(path, MOST_TOML))
        return OpenPage(int(said["port"]), bool(said["lan"]), int(said["process"]))
    return None
