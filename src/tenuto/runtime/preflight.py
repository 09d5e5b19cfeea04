"""Observes a robot before a drive: everything is open and sends, and nothing can be enabled."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import NamedTuple

from tenuto.basics.frame import Frame
from tenuto.clock import Clock, MonotonicClock
from tenuto.driving.input_plan import frames_of
from tenuto.driving.pipeline import Pipeline
from tenuto.driving.plan import Planned
from tenuto.driving.tick import Tick
from tenuto.runtime.loop import check_controls, check_far_ends
from tenuto.runtime.outlet import Outlets
from tenuto.sinks.base import Sink
from tenuto.sources.base import Source


class Looked(NamedTuple):
    """The observation of a robot that stands.

    Attributes:
        tick: the last one, with its frame and the reports of its far ends.
        others: every other driver and input with its own source → its newest frame; None if there was none.
    """

    tick: Tick
    others: Mapping[str, Frame | None]


def look(
    profile: Planned,
    source: Source,
    sinks: Sequence[Sink] = (),
    *,
    others: Mapping[str, Source] | None = None,
    clock: Clock | None = None,
    seconds: float = 3.0,
    stopped: Callable[[], bool] = lambda: False,
) -> Looked:
    """Let a robot stand for a time, and return the observation.

    The guard is in a final stop, so no press enables anything. Sinks have ``only_looks`` set: none requests a mode
    or a power-off of its far end.

    Args:
        profile, source, sinks, others, clock: as for `tenuto.drive`. seconds: the duration.
        stopped: returns whether to end at once.

    Raises:
        SourceError, SinkError: as `tenuto.drive`.
    """
    # Actions do not depend on the guard's state: "land" must have no effect here.
    plan, others, clock = replace(profile.plan(), actions=()), dict(others or {}), clock or MonotonicClock()
    check_controls(plan, source, others)
    check_far_ends(plan, sinks, others)
    pipeline, outlets = Pipeline(plan), Outlets(sinks, clock, in_threads=isinstance(clock, MonotonicClock))
    pipeline.end("preflight: nothing is driven")
    start = clock.now()
    newest: dict[str, Frame | None] = dict.fromkeys(others)
    for sink in sinks:
        sink.only_looks = True
    try:
        outlets.start(plan)
        while True:
            now = clock.now()
            came = {name: frame for name, one in others.items() if (frame := one.poll(now)) is not None}
            newest |= came
            faults, notices = outlets.look(now, plan)
            far = outlets.far_ends(now)
            came = frames_of(plan.inputs, far) | came
            tick = pipeline.step(source.poll(now), now, others=came, faults=faults, notices=notices, far=far)
            outlets.give(tick)
            if now - start >= seconds or stopped():
                return Looked(tick, newest)
            clock.sleep_until(now + plan.period)
    finally:
        outlets.stop(pipeline.halt(clock.now()))
