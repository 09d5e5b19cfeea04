"""Settings for all tests, and the invariants that every tick of every test must keep."""

import gc
import os
import sys
import time
from collections.abc import Callable, Iterator
from functools import wraps
from typing import Any

import pytest
from hypothesis import settings

from helpers import FRESH, QUICK, USUAL
from tenuto import Pipeline, Tick
from tenuto.sim.invariants import Watcher

# The duration of an example depends on the machine; speed is measured in benchmarks/.
# The same examples in every run, so that a failure is due to the change. `make campaign` uses new ones.
settings.register_profile("tenuto", deadline=None, max_examples=USUAL, derandomize=True)
settings.register_profile("fresh", settings.get_profile("tenuto"), max_examples=FRESH, derandomize=False)
settings.register_profile("quick", settings.get_profile("tenuto"), max_examples=QUICK)
settings.load_profile("tenuto")

# Garbage collection took a twentieth of the computing time.
gc.set_threshold(200_000, 20, 100)

_WAY = 3
# About half of the tests that wait for real time.
_FIRST_GROUP = ("test_processes", "test_mavlink", "test_mqtt", "test_far_ends", "test_firmware")


@pytest.hookimpl(tryfirst=True)  # before the plugin reads the groups
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Run tests that depend on real time in two groups, in sequence: at most two at once."""
    for item in items:
        if item.get_closest_marker("live"):
            first = item.path.stem in _FIRST_GROUP
            item.add_marker(pytest.mark.xdist_group("live 1" if first else "live 2"))


# Modules whose waiting is not for real time: for the end of a child process, or for a byte from the system.
MAY_SLEEP = ("pexpect", "ptyprocess", "subprocess", "tenuto.sim.device")


@pytest.fixture(autouse=True)
def only_live_tests_wait(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> None:
    """Fail a test that sleeps without the mark live; and lower the priority of tests that compute."""

    sleep = time.sleep

    def refuse(seconds: float) -> None:
        caller = sys._getframe(1).f_globals["__name__"]
        if caller.startswith("paho"):
            sleep(seconds)  # in a thread of its own, between two attempts to connect
        elif not caller.startswith(MAY_SLEEP):
            pytest.fail(f"it sleeps for {seconds} s: use a SimulatedClock, or mark the test live")

    if "PYTEST_XDIST_WORKER" in os.environ and request.node.get_closest_marker("live"):
        assert "@live" in request.node.nodeid, "the groups of pytest-xdist do not work: another pytest is needed"
    if not request.node.get_closest_marker("live"):
        monkeypatch.setattr(time, "sleep", refuse)
        if "PYTEST_XDIST_WORKER" in os.environ and os.nice(0) < _WAY:
            os.nice(_WAY)


@pytest.fixture(autouse=True)
def figures_are_drawn_plainly(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> None:
    """Skip the layout of figures, which takes longer than drawing, except in tests of figures."""
    if request.node.get_closest_marker("figure"):
        return
    from tenuto import figures
    from tenuto.figures import page

    def plainly(draw: Callable[..., Any]) -> Callable[..., Any]:
        def drawn(figure: Any, *more: Any) -> Any:
            figure.set_layout_engine("none")
            figure.set_dpi(25)
            return draw(figure, *more)

        return drawn

    monkeypatch.setattr(figures, "save_figure", plainly(figures.save_figure))
    monkeypatch.setattr(page, "png_of", plainly(page.png_of))
    monkeypatch.setattr(page, "picture_of", plainly(page.picture_of))


@pytest.fixture(autouse=True, scope="session")
def every_tick_is_watched() -> Iterator[None]:
    make = Pipeline._tick

    @wraps(make)
    def watched(pipeline: Pipeline, *arguments: Any) -> Tick:
        tick = make(pipeline, *arguments)
        # Stored with the pipeline, so that a copy of the pipeline continues with a copy of the watcher.
        if "watcher" not in vars(pipeline):
            vars(pipeline)["watcher"] = Watcher(pipeline.plan)
        assert vars(pipeline)["watcher"].see(tick) == []
        return tick

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(Pipeline, "_tick", watched)
        yield
