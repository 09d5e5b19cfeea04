"""Corrections of a profile from the measured motion of the robot."""

from __future__ import annotations

import math

from tenuto.analysis.measure import Measured, Value
from tenuto.profile.patch import Change
from tenuto.profile.profile import Profile
from tenuto.vehicles.base import WheelsOptions


def wheel_measures(found: Measured, profile: Profile) -> dict[str, Value]:
    """Return the wheel radius and track (or other length) with which the robot moves as commanded.

    A robot that goes s times as fast as commanded has wheels s times as large as the profile says. Its turning speed is
    a speed divided by a length (the track, or the radius of a ring of wheels), so one that turns w times as fast has
    s/w times that length. A wheel that slips evenly looks like a smaller one: these are effective measures, valid on
    this ground.

    Returns:
        Keys of ``[chassis]`` → their values, m: ``"wheel_radius"`` if it moved ahead, and ``"track"``,
        ``"effective_track"`` or ``"radius"`` if it also turned and has such a key; nothing for vehicles without wheels,
        and nothing from motion that the model does not explain.
    """
    chassis = profile.chassis
    ahead, turning = (found.responses.get(axis) for axis in ("vx", "yaw_rate"))
    if not isinstance(chassis, WheelsOptions) or ahead is None or not ahead.explained:
        return {}
    s = ahead.scale
    result = {"wheel_radius": Value(chassis.wheel_radius * s.value, chassis.wheel_radius * s.plus_minus, s.seconds)}
    key, now = chassis.turns_by, chassis.turning_length()
    if turning is not None and turning.explained and turning.scale.value > 0.0 and now is not None:
        w = turning.scale
        value = now * s.value / w.value
        share = math.hypot(s.plus_minus / s.value, w.plus_minus / w.value)
        result[key] = Value(value, abs(value) * share, min(s.seconds, w.seconds))
    return result


def changes_after_measuring(profile: Profile, found: Measured) -> list[Change]:
    """Return the keys of the profile that the measurement contradicts: their values lie outside the interval.

    Empty if the model does not explain the motion: it may be of another drive.
    """
    changes = []
    if not all(one.explained for one in found.responses.values()):
        return []
    for key, value in wheel_measures(found, profile).items():
        now = _now(profile, key)
        if now is None or abs(value.value - now) <= value.plus_minus:
            continue
        why = f"measured {_metres(value)} from {value.seconds:.0f} s of motion"
        changes.append(Change(("chassis", key), f"{value.value:.4g} m", f"{now:.4g} m", why))
    return changes


def _now(profile: Profile, key: str) -> float | None:
    """Return the value in the profile, m; None if it has none, as for omni wheels with individual positions."""
    chassis = profile.chassis
    if key == chassis.turns_by:
        return chassis.turning_length()
    return chassis.wheel_radius if isinstance(chassis, WheelsOptions) else None


def _metres(value: Value) -> str:
    return f"{value.value:.4f} ± {value.plus_minus:.4f} m"
