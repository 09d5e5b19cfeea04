"""Settings for all tests, and the invariants that every tick of every test must keep."""

from collections.abc import Iterator
from functools import wraps
from typing import Any
from weakref import WeakKeyDictionary

import pytest
from hypothesis import settings

from tenuto import Pipeline, Tick
from tenuto.sim.invariants import Watcher

# How long an example takes says more about the machine than about the code; speed is for benchmarks/.
settings.register_profile("tenuto", deadline=None)
settings.load_profile("tenuto")


@pytest.fixture(autouse=True, scope="session")
def every_tick_is_watched() -> Iterator[None]:
    watchers: WeakKeyDictionary[Pipeline, Watcher] = WeakKeyDictionary()
    make = Pipeline._tick

    @wraps(make)
    def watched(pipeline: Pipeline, *arguments: Any) -> Tick:
        tick = make(pipeline, *arguments)
        watcher = watchers.setdefault(pipeline, Watcher(pipeline.plan))
        assert watcher.see(tick) == []
        return tick

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(Pipeline, "_tick", watched)
        yield
