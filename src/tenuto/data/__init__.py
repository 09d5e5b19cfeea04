"""The profile and the recording that ship with Tenuto."""

from importlib.resources import as_file, files
from pathlib import Path


def shipped(name: str) -> Path:
    """Return the path of a shipped file, such as ``"medlar.toml"``."""
    with as_file(files(__name__) / name) as path:
        return path


def shipped_code(name: str) -> Path:
    """Return the path of a file of ``examples/firmware``, which the installed package has with its data."""
    packed = shipped(f"firmware/{name}")
    return packed if packed.exists() else Path(__file__).parents[3] / "examples/firmware" / name
