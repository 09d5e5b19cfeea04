"""Trims that survive a restart: a small TOML file beside the profile."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from tenuto.basics.errors import ProfileError, TenutoError
from tenuto.basics.findings import unexpected
from tenuto.files import UnreadableError, read_toml, unreadable, write_atomically
from tenuto.profile.profile import Profile


def trims_path(profile: str | Path) -> Path:
    """Return the file of the trims of a profile: ``medlar.trims.toml`` for ``medlar.toml``."""
    return Path(profile).with_suffix(".trims.toml")


def load_trims(path: str | Path, profile: Profile) -> dict[str, float]:
    """Read the stored trims, control → trim; only those that the profile keeps.

    Raises:
        ProfileError: the file exists, but is not a file of `save_trims`.
    """
    if not Path(path).exists():
        return {}
    try:
        _, kept = read_toml(path)
    except UnreadableError as error:
        raise ProfileError(str(path), [unreadable(error, "delete it to start without trims")]) from error
    found: dict[str, float] = {}
    for name, trim in profile.trims.items():
        value = kept.get(name, 0.0)
        if not trim.keep or name not in kept:
            continue
        if isinstance(value, bool) or not isinstance(value, (int, float)) or not -1.0 <= value <= 1.0:
            raise ProfileError(str(path), [unexpected(name, "a number from -1 to 1", f"{value}", "delete the file")])
        found[name] = float(value)
    return found


def save_trims(path: str | Path, profile: Profile, trims: Mapping[str, float]) -> bool:
    """Store the trims that the profile keeps; return whether any was new.

    Raises:
        TenutoError: the file cannot be written.
    """
    import tomlkit

    wanted = {name: trims[name] for name, trim in profile.trims.items() if trim.keep and name in trims}
    if not wanted or wanted == load_trims(path, profile) or not (Path(path).exists() or any(wanted.values())):
        return False
    text = "# Kept by tenuto drive: the trims as they were left, shares of the travel.\n" + tomlkit.dumps(wanted)
    try:
        write_atomically(Path(path), text)
    except OSError as error:
        raise TenutoError(f"{path}: cannot keep the trims there: {error.strerror or error}") from error
    return True
