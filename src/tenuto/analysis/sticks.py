"""The sticks of a drive, to be driven again: from a recording, or from a log."""

from __future__ import annotations

import math
from pathlib import Path
from typing import TYPE_CHECKING

from tenuto.analysis.logs import load_log
from tenuto.basics.errors import RecordingError
from tenuto.basics.frame import Frame
from tenuto.driving.follow import FOLLOWED
from tenuto.driving.plan import Planned
from tenuto.files import UnreadableError, read_bytes
from tenuto.profile.load import load_profile
from tenuto.profile.prepare import kept_with
from tenuto.sources.recording import Recording, read_recording
from tenuto.sticks.control import ControlPlan

if TYPE_CHECKING:
    import pandas as pd


def recorded_sticks(path: str | Path, planned: Planned, made_with: Planned | None = None) -> Recording:
    """Read the sticks of a recording or of a log.

    Args:
        path: a recording (docs/formats.md), or a log of a drive.
        planned: the profile that will use them.
        made_with: for a log: the profile that it was driven with, which has the device's name of each control.
            By default the one that was stored with it; ``planned`` if there is none.

    Raises:
        RecordingError: it is neither, or a log that does not hold all controls of the device.
        ProfileError: the profile that was stored with it cannot be read.
    """
    try:
        return Recording(path, frames=read_recording(path))
    except RecordingError as no_recording:
        try:
            table = load_log(path)
        except RecordingError as no_log:
            raise (no_log if _is_meant_as_log(path) else no_recording) from None
    if made_with is None and kept_with(path).exists():
        made_with = load_profile(kept_with(path))
    frames = _frames(table, (made_with or planned).plan().controls, path)
    if not frames:
        raise RecordingError(f"{path}: no frame came in this drive: there are no sticks in it")
    return Recording(path, frames=frames)


def _is_meant_as_log(path: str | Path) -> bool:
    """Return whether a file that is neither has the form of a log, or the columns of one."""
    if Path(path).suffix != ".csv":
        return True
    try:
        return b"guard.state" in read_bytes(path).partition(b"\n")[0].split(b",")
    except UnreadableError:
        return False


def _frames(table: pd.DataFrame, controls: tuple[ControlPlan, ...], path: str | Path) -> list[Frame]:
    """Rename the raw numbers of a log to the device's names."""
    reads: dict[str, str] = {}
    for control in controls:
        for name, device_name in zip(control.raw_names, control.all_reads, strict=True):
            if f"raw.{name}" not in table.columns:
                if all(f"raw.{one.name}" in table.columns for one in FOLLOWED):
                    raise RecordingError(
                        f"{path}: is the log of a robot that follows: use that of the driver's machine"
                    )
                raise RecordingError(f"{path}: has no column raw.{name}: was it driven with this profile?")
            reads[f"raw.{name}"] = device_name
    fresh = table[(table["new_frame"] == 1) & ~table["guard.codes"].str.contains("link_bad")]
    frames: list[Frame] = []
    for time, age, *numbers in fresh[["time", "frame_age", *reads]].itertuples(index=False):
        values = dict(zip(reads.values(), map(float, numbers), strict=True))
        at = float(time) - float(age)
        if all(map(math.isfinite, values.values())) and (not frames or at > frames[-1].time):
            frames.append(Frame(at, values))
    return frames
