"""The robot's end of a link: the loop that follows a driver's machine."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from tenuto.basics.errors import SourceError
from tenuto.clock import Clock
from tenuto.driving.follow import FOLLOWED, follow_plan
from tenuto.driving.plan import Planned
from tenuto.driving.tick import Tick
from tenuto.runtime.handle import DriveHandle
from tenuto.runtime.loop import DriveReport, drive
from tenuto.sinks.base import Sink
from tenuto.sources.base import Source


def follow(
    profile: Planned,
    source: Source,
    sinks: Sequence[Sink] = (),
    *,
    others: Mapping[str, Source] | None = None,
    clock: Clock | None = None,
    on_tick: Callable[[Tick], str | None] | None = None,
    report: DriveReport | None = None,
    handle: DriveHandle | None = None,
) -> DriveReport:
    """Follow the velocities of a driver's machine, with the robot's own guard, until something ends it.

    It stops by itself if commands stop arriving, are late, or report that there is no driver; then the driver must
    release and re-enable at the other end. It is what stops the robot if that machine, the network or the broker
    fails.

    Args:
        profile: of the robot: its chassis, actuators, outputs, actions, stops, timeouts and distance sensors
            are used.
        source: from ``tenuto.open_source("mqtt:…")`` or ``"udp:…"``, or any with the controls of
            `tenuto.driving.follow.FOLLOWED`.
        sinks, others, clock, on_tick, report, handle: as for `tenuto.drive`.

    Returns:
        The report of the drive. Raises as `tenuto.drive`, and `SourceError` for a source that sends no velocities.
    """
    plan = profile.plan()
    source.prepare(plan)
    known = {info.name for info in source.controls()}
    if missing := [info.name for info in FOLLOWED if info.name not in known]:
        text = f"it has {', '.join(sorted(known))}, and no {missing[0]}"
        raise SourceError(f"{source.name} sends no velocities, so no robot can follow it: {text}")
    return drive(
        follow_plan(plan, source.controls()), source, sinks, others=others, clock=clock, on_tick=on_tick, report=report,
        handle=handle,
    )  # fmt: skip
