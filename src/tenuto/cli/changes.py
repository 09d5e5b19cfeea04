"""Changes of a profile, for several commands: show them, write them to a file, apply them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from tenuto.basics.errors import RecordingError
from tenuto.cli.console import counted, results
from tenuto.files import write_atomically

if TYPE_CHECKING:
    from tenuto.profile.patch import Change


def offer(changes: Sequence[Change], profile: Path, out: Path | None, *, apply: bool, quiet: bool) -> None:
    """Show the changes, and write or apply them if asked. Raises if they cannot be written."""
    from tenuto.profile.patch import apply_changes, patch_text

    def say(text: str) -> None:
        if not quiet:
            results.print(text, soft_wrap=True)

    if not changes:
        say("Nothing in the profile needs to change.")
        return
    text = patch_text(changes)
    if out is not None:
        try:
            write_atomically(out, text)
        except OSError as error:
            raise RecordingError(f"{out}: cannot write there: {error.strerror or error}") from error
        say(f"The changes are in {out}.")
    if apply:
        apply_changes(profile, changes)
        say(f"{counted(len(changes), 'key')} of {profile} changed: {', '.join(change.place for change in changes)}.")
    elif out is None:
        say(f"\nChanges for the profile (--apply writes them into {profile}):\n\n{text.rstrip()}")
