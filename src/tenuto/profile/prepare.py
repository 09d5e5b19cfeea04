"""Calibrations and trims of one machine, beside its profile. One rule for all drives and replays.

The calibration of a device is the first of these that exists:

1. the one given with ``--calibration``;
2. if the sticks come from a log with a stored profile: the one stored with it, or none;
3. the one beside the profile: ``medlar.calibration.toml``, for another driver ``medlar.DRIVER.calibration.toml``;
4. the one in the user's data folder, if the device has an identity.

It must be for the device that is read; otherwise there is an error, and no other one is used.
"""

from __future__ import annotations

from collections.abc import Mapping
from glob import escape
from pathlib import Path

from tenuto.basics.errors import CalibrationError, SinkError
from tenuto.calibration.store import AGAIN, Calibration, default_path
from tenuto.files import write_atomically
from tenuto.profile.load import load_profile
from tenuto.profile.profile import PreparedProfile, Profile
from tenuto.profile.trims import load_trims, save_trims, trims_path
from tenuto.sources.base import Source


def prepare_profile(
    profile: Profile | str | Path,
    source: Source | None = None,
    others: Mapping[str, Source] | None = None,
    *,
    calibration: str | Path | None = None,
    log: str | Path | None = None,
) -> PreparedProfile:
    """Apply the calibrations of its devices and stored trims to a profile.

    Args:
        profile: its file, or the result of `tenuto.load_profile`. A profile made in code has no calibration beside it.
        source: the device that is read; None if it is unknown, as for a recording.
        others: those of the other drivers, by their names.
        calibration: a file that is used before any other.
        log: the log of the drive with these sticks.

    Raises:
        ProfileError: the profile, or the trims beside it, cannot be read.
        CalibrationError: a calibration cannot be read, or was made for another device.
    """
    loaded = profile if isinstance(profile, Profile) else load_profile(profile)
    # A calibration or trim of a later time does not apply to a drive.
    beside = kept_with(log) if log is not None and kept_with(log).exists() else loaded.file
    found = find_calibration(beside, source, asked=calibration)
    more = {name: find_calibration(beside, one, name) for name, one in (others or {}).items() if name in loaded.drivers}
    known = {name: one for name, one in more.items() if one is not None}
    return PreparedProfile(
        loaded,
        found[0] if found else None,
        load_trims(trims_path(beside), loaded) if beside is not None else {},
        {name: one[0] for name, one in known.items()},
        tuple(one[1] for one in (found, *known.values()) if one is not None),
    )


def find_calibration(
    profile: Path | None, source: Source | None, driver: str = "", *, asked: str | Path | None = None
) -> tuple[Calibration, Path] | None:
    """Find the calibration of a device, and its file, by the rule above.

    Args:
        profile: the file beside which it may be; None if there is none.
        source: the device; None, or without an identity, if it is not known.
        driver: whose device it is; empty for the first.
        asked: the one that is used before any other. For an exact device none is searched.

    Raises:
        CalibrationError: the calibration cannot be read, or was made for another device.
    """
    if source is not None and source.exact and asked is None:
        return None
    identity = source.identity if source is not None else ""
    ending = f".{driver}.calibration.toml" if driver else ".calibration.toml"
    places = [profile.with_suffix(ending)] if profile is not None else []
    places += [default_path(identity)] if identity else []
    path = Path(asked) if asked is not None else next((place for place in places if place.exists()), None)
    if path is None:
        return None
    found = Calibration.load(path)
    if source is not None and (reason := found.why_not_for(identity, [info.name for info in source.controls()])):
        raise CalibrationError(f"{path}: not for this device: {reason}; {AGAIN}")
    return found, path


def kept_with(log: str | Path) -> Path:
    """Return the file in which a drive stores its profile with its log: ``run.csv.profile.toml``."""
    return Path(f"{log}.profile.toml")


def keep_with(log: str | Path, prepared: PreparedProfile) -> None:
    """Store the profile, calibrations and trims of a log beside it, each under its usual name.

    Files of an earlier drive there are removed. A profile without a file is not stored.

    Raises:
        SinkError: they cannot be written there.
    """
    origin, kept = prepared.profile.file, kept_with(log)
    if origin is None:
        return
    try:
        for old in kept.parent.glob(f"{escape(kept.stem)}.*calibration.toml"):
            old.unlink()
        trims_path(kept).unlink(missing_ok=True)
        if kept.resolve() != origin.resolve():
            write_atomically(kept, prepared.profile.text())
        calibrations = {"": prepared.calibration, **prepared.others}
        for driver, one in calibrations.items():
            if one is not None:
                one.save(kept.with_suffix(f".{driver}.calibration.toml" if driver else ".calibration.toml"))
        if prepared.trims:
            save_trims(trims_path(kept), prepared.profile, prepared.trims)
    except OSError as error:
        raise SinkError(f"{kept}: cannot write there: {error.strerror or error}") from error
