"""The parts of a computer that a check may examine; passed in, so a test can pass another computer."""

from __future__ import annotations

import os
import subprocess
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

# The timeout of a program of the system, s.
_PATIENCE = 3.0


def answer_of(command: Sequence[str]) -> str:
    """Return what a program of the system prints; empty if it does not exist, fails, or does not end."""
    try:
        done = subprocess.run(command, capture_output=True, text=True, timeout=_PATIENCE, check=False)
    except (OSError, subprocess.TimeoutExpired):
        return ""
    return done.stdout if done.returncode == 0 else ""


@dataclass(frozen=True, kw_only=True)
class System:
    """A computer, as a check sees it.

    Attributes:
        root: of its file system.
        pads: the device files of the readable gamepads and joysticks, such as ``/dev/input/event5``.
        devices: identity of each → the names of its controls. unlisted: why they could not be listed.
        calibrations: their folder.
        may: whether a file can be opened in a mode, as `os.access`. ask: runs a program, and returns its output.
        now: seconds since 1970.
    """

    root: Path = Path("/")
    pads: Sequence[str] = ()
    devices: Mapping[str, Sequence[str]] = field(default_factory=dict)
    unlisted: str = ""
    calibrations: Path
    may: Callable[[Path, int], bool] = os.access
    ask: Callable[[Sequence[str]], str] = answer_of
    now: Callable[[], float] = field(default=time.time)

    def file(self, place: str) -> Path:
        """Return the path of a file of the computer."""
        return self.root / place.lstrip("/")

    def text(self, place: str) -> str:
        """Return the content of a file; empty if it cannot be read."""
        try:
            return self.file(place).read_text(encoding="utf-8", errors="replace")
        except OSError:
            return ""

    def group(self, place: str, usual: str) -> str:
        """Return the group of a file; the usual one if that is not known."""
        try:
            return self.file(place).group()
        except (OSError, KeyError, NotImplementedError):
            return usual


def this_system() -> System:
    """Return the computer that runs this program."""
    from tenuto.basics.errors import SourceError
    from tenuto.calibration.store import default_path
    from tenuto.sources.gamepad import Gamepad, connected_gamepads

    controls: dict[str, list[str]] = {}
    pads: list[str] = []
    unlisted = ""
    try:
        for one in connected_gamepads():
            pads.append(one.path)
            with Gamepad(one.identity) as source:
                controls[one.identity] = [info.name for info in source.controls()]
    except SourceError as error:
        unlisted = str(error)
    return System(pads=pads, devices=controls, unlisted=unlisted, calibrations=default_path("x").parent)
