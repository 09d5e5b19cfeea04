"""What to change in a profile after its robot was measured."""

from __future__ import annotations

from tenuto.analysis.measure import Measured, Value, wheel_measures
from tenuto.core.chassis import Differential, SkidSteer
from tenuto.profile.patch import Change
from tenuto.profile.schema import Profile


def changes_after_measuring(profile: Profile, found: Measured) -> list[Change]:
    """Give the keys of the profile that the measurement contradicts: those whose value lies outside the interval."""
    plan = profile.plan()
    chassis = profile.chassis
    changes = []
    for name, value in wheel_measures(found, plan.chassis).items():
        key = name if name in type(chassis).model_fields else "effective_track"
        now = _now(profile, name)
        if abs(value.value - now) <= value.plus_minus:
            continue
        why = f"measured {_metres(value)} from {value.seconds:.0f} s of motion"
        changes.append(Change(("chassis", key), f"{value.value:.4g} m", f"{now:.4g} m", why))
    return changes


def _now(profile: Profile, name: str) -> float:
    chassis = profile.plan().chassis
    if isinstance(chassis, Differential):
        return chassis.wheel_radius if name == "wheel_radius" else chassis.track
    if isinstance(chassis, SkidSteer):
        return chassis.wheel_radius if name == "wheel_radius" else chassis.centre_left + chassis.centre_right
    raise TypeError(f"{type(chassis).__name__} has no {name}")  # wheel_measures gives nothing for it


def _metres(value: Value) -> str:
    return f"{value.value:.4f} ± {value.plus_minus:.4f} m"
