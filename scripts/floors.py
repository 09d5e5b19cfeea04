"""Prints the oldest packages that pyproject.toml permits, a line each, for ``pip install``: see ``make floors``."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path


def floors() -> list[str]:
    """Return each dependency, also of the extras, at its lowest version."""
    project = tomllib.loads((Path(__file__).parents[1] / "pyproject.toml").read_text())["project"]
    extras = project["optional-dependencies"]
    named = [*project["dependencies"], *(one for extra, ones in extras.items() if extra != "dev" for one in ones)]
    pinned = [re.sub(r",.*", "", one).replace(">=", "==") for one in named if ">=" in one]
    return sorted(set(pinned))


if __name__ == "__main__":
    print("\n".join(floors()))
