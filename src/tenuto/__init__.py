"""Tenuto turns gamepad, joystick and radio-transmitter sticks into drive and flight commands.

A profile (one TOML file) says how a robot is driven. Its pipeline takes frames and the time, and returns
ticks; sources provide the frames, sinks take the ticks::

    import tenuto

    profile = tenuto.load_profile("medlar.toml")
    ticks = tenuto.replay(profile, "row-7.csv")
    ticks.to_frame()

Importing this package loads almost nothing: the module of a name is loaded at its first use.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from tenuto.analysis.compare import Comparison as Comparison
    from tenuto.analysis.compare import compare as compare
    from tenuto.analysis.logs import load_log as load_log
    from tenuto.analysis.sweep import sweep as sweep
    from tenuto.analysis.ticks import Ticks as Ticks
    from tenuto.basics.errors import ArgumentError as ArgumentError
    from tenuto.basics.errors import CutOffWarning as CutOffWarning
    from tenuto.basics.errors import PlanError as PlanError
    from tenuto.basics.errors import ProfileError as ProfileError
    from tenuto.basics.errors import RecordingError as RecordingError
    from tenuto.basics.errors import SinkError as SinkError
    from tenuto.basics.errors import SourceError as SourceError
    from tenuto.basics.errors import TenutoError as TenutoError
    from tenuto.basics.findings import Finding as Finding
    from tenuto.basics.findings import Problem as Problem
    from tenuto.basics.frame import Frame as Frame
    from tenuto.basics.reasons import Reason as Reason
    from tenuto.clock import SimulatedClock as SimulatedClock
    from tenuto.driving.guard import GuardStatus as GuardStatus
    from tenuto.driving.guard import State as State
    from tenuto.driving.pipeline import Pipeline as Pipeline
    from tenuto.driving.plan import Plan as Plan
    from tenuto.driving.tick import Tick as Tick
    from tenuto.opening import drive as drive
    from tenuto.opening import follow as follow
    from tenuto.opening import replay as replay
    from tenuto.own_loop import Guarded as Guarded
    from tenuto.own_loop import Pad as Pad
    from tenuto.own_loop import arcade as arcade
    from tenuto.own_loop import guarded as guarded
    from tenuto.own_loop import pads as pads
    from tenuto.own_loop import tank as tank
    from tenuto.own_loop import when as when
    from tenuto.profile import Profile as Profile
    from tenuto.profile import load_profile as load_profile
    from tenuto.profile import parse_profile as parse_profile
    from tenuto.profile.prepare import prepare_profile as prepare_profile
    from tenuto.runtime import DriveHandle as DriveHandle
    from tenuto.runtime import DriveReport as DriveReport
    from tenuto.sim.truth import TruthTable as TruthTable
    from tenuto.sim.truth import truth_table as truth_table
    from tenuto.sinks import Sink as Sink
    from tenuto.sinks import open_sink as open_sink
    from tenuto.sinks import open_sinks as open_sinks
    from tenuto.sources import Source as Source
    from tenuto.sources import open_source as open_source
    from tenuto.vehicles.velocity import VelocityCommand as VelocityCommand

__version__ = "1.0.1"

# Module → its public names. A module is loaded at the first use of one of its names.
_WHERE = {
    "analysis.compare": (
        "Comparison",
        "compare",
    ),
    "analysis.logs": ("load_log",),
    "analysis.sweep": ("sweep",),
    "analysis.ticks": ("Ticks",),
    "clock": ("SimulatedClock",),
    "vehicles.velocity": ("VelocityCommand",),
    "basics.errors": (
        "ArgumentError",
        "CutOffWarning",
        "PlanError",
        "ProfileError",
        "RecordingError",
        "SinkError",
        "SourceError",
        "TenutoError",
    ),
    "basics.findings": (
        "Finding",
        "Problem",
    ),
    "basics.frame": ("Frame",),
    "basics.reasons": ("Reason",),
    "driving.guard": (
        "GuardStatus",
        "State",
    ),
    "driving.pipeline": ("Pipeline",),
    "driving.plan": ("Plan",),
    "driving.tick": ("Tick",),
    "opening": (
        "drive",
        "follow",
        "replay",
    ),
    "own_loop": ("Guarded", "Pad", "arcade", "guarded", "pads", "tank", "when"),
    "profile": (
        "Profile",
        "load_profile",
        "parse_profile",
    ),
    "profile.prepare": ("prepare_profile",),
    "runtime": ("DriveHandle", "DriveReport"),
    "sim.truth": ("TruthTable", "truth_table"),
    "sinks": (
        "Sink",
        "open_sink",
        "open_sinks",
    ),
    "sources": (
        "Source",
        "open_source",
    ),
}
_MODULES = ("figures", "stages", "testing")
__all__ = sorted(name for names in _WHERE.values() for name in names)
_PLACES = {name: module for module, names in _WHERE.items() for name in names}


def __getattr__(name: str) -> Any:
    if name in _PLACES:
        found = globals()[name] = getattr(importlib.import_module(f"tenuto.{_PLACES[name]}"), name)
        return found
    if name in _MODULES:
        return importlib.import_module(f"tenuto.{name}")
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted({*globals(), *__all__, *_MODULES})
