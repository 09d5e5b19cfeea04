"""Sources: gamepads and recordings, all as one stream of frames."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from tenuto.core.errors import SourceError
from tenuto.sources.base import Source

if TYPE_CHECKING:
    from tenuto.profile import Profile

__all__ = ["Source", "open_source"]

_FORMS = '"gamepad" or "recording:FILE.csv"'


def open_source(what: str | Path | Profile) -> Source:
    """Open a source from a profile, from a short text, or from the path of a recording.

    Args:
        what: a profile (its ``[source]`` is opened), ``"gamepad"``, ``"recording:FILE.csv"``, or a
            path that ends in ``.csv``.

    Raises:
        SourceError: the text names no source, or the device is not there.
        RecordingError: the recording cannot be read.
    """
    text = str(what) if isinstance(what, (str, Path)) else what.source.kind
    kind, _, place = text.partition(":")
    if text.endswith(".csv") or (kind == "recording" and place):
        from tenuto.sources.recording import Recording

        return Recording(place if kind == "recording" else text)
    if text == "gamepad":
        from tenuto.sources.gamepad import Gamepad

        return Gamepad()
    raise SourceError(f'expected a source, {_FORMS}, found "{text}"')
