"""Tenuto turns gamepad, joystick and radio-transmitter sticks into drive and flight commands.

A profile (one TOML file) says how a robot is driven; a pipeline built from it takes frames and the time
and gives ticks; sources give the frames, sinks take the ticks::

    import tenuto

    profile = tenuto.load_profile("medlar.toml")
    ticks = tenuto.replay(profile, "row-7.csv")
    ticks.to_frame()

Importing this package loads neither pandas nor SciPy, Matplotlib or SDL: they come when they are used.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

from tenuto.core.demand import VelocityCommand
from tenuto.core.errors import (
    Problem,
    ProfileError,
    RecordingError,
    SinkError,
    SourceError,
    TenutoError,
)
from tenuto.core.frame import Frame
from tenuto.core.guard import GuardStatus, Reason, State
from tenuto.core.pipeline import Pipeline
from tenuto.core.plan import Plan
from tenuto.core.tick import Tick
from tenuto.runtime import DriveReport, SimulatedClock, drive, follow
from tenuto.sinks import Sink, open_sink, open_sinks
from tenuto.sources import Source, open_source

if TYPE_CHECKING:
    from tenuto.analysis.compare import Comparison, compare
    from tenuto.analysis.logs import load_log
    from tenuto.analysis.ticks import Ticks, replay
    from tenuto.profile import Profile, load_profile, parse_profile

__version__ = "0.1.0"

__all__ = [
    "Comparison",
    "DriveReport",
    "Frame",
    "GuardStatus",
    "Pipeline",
    "Plan",
    "Problem",
    "Profile",
    "ProfileError",
    "Reason",
    "RecordingError",
    "SimulatedClock",
    "Sink",
    "SinkError",
    "Source",
    "SourceError",
    "State",
    "TenutoError",
    "Tick",
    "Ticks",
    "VelocityCommand",
    "compare",
    "drive",
    "follow",
    "load_log",
    "load_profile",
    "open_sink",
    "open_sinks",
    "open_source",
    "parse_profile",
    "replay",
]

# Where the names live whose modules are worth loading only when somebody asks for them.
_LATER = {
    "Profile": "tenuto.profile",
    "load_profile": "tenuto.profile",
    "parse_profile": "tenuto.profile",
    "load_log": "tenuto.analysis.logs",
    "Ticks": "tenuto.analysis.ticks",
    "replay": "tenuto.analysis.ticks",
    "Comparison": "tenuto.analysis.compare",
    "compare": "tenuto.analysis.compare",
}


def __getattr__(name: str) -> Any:
    if name in _LATER:
        return getattr(importlib.import_module(_LATER[name]), name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
