"""The tolerance of a robot's links for lost frames: of its radios, and of its commands."""

from __future__ import annotations

from collections.abc import Iterator

from tenuto.driving.losses import Losses, losses
from tenuto.profile.profile import Profile
from tenuto.sources.base import HeldOptions


def link_losses(profile: Profile) -> list[Losses]:
    """List the tolerance of each link with a known frame rate."""
    return [*_sources(profile), *_sinks(profile)]


def _sources(profile: Profile) -> Iterator[Losses]:
    plan = profile.plan()
    lower = ((one.name, profile.drivers[one.name].source, one.link_timeout) for one in plan.below)
    for name, source, timeout in ((plan.driver, profile.source, plan.guard.link_timeout), *lower):
        if isinstance(source, HeldOptions) and source.frames is not None:
            yield losses(name, source.frames, timeout + plan.guard.grace)


def _sinks(profile: Profile) -> Iterator[Losses]:
    plan = profile.plan()
    for name, sink in profile.sinks.items():
        waits = sink.waits(plan)
        if waits is not None:
            yield losses(f"commands to {name}", sink.per_second(plan), waits[0])
