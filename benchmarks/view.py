"""The cost of the live view for the loop: a drive with it and without it, alternately, on a terminal that is read."""

from __future__ import annotations

import os
import pty
import statistics
import sys
import threading
import time

import tenuto
from tenuto.data import shipped

SECONDS = 6.0


def drive(full: bool) -> tuple[float, float]:
    """Drive for a time; return the error of the tick times as a share of the period: median and 99th percentile."""
    from tenuto.cli.live import live_view

    profile = tenuto.load_profile(shipped("medlar.toml"))
    steps: list[float] = []
    ignored = tenuto.DriveHandle().interrupt
    with live_view(profile.plan(), profile.name, "benchmark", ignored, [], full=full, quiet=not full) as view:

        def show(tick: tenuto.Tick) -> str | None:
            view.show(tick)
            steps.append(tick.dt)
            return "over" if tick.time > SECONDS else None

        tenuto.drive(profile, tenuto.open_source(f"recording:{shipped('orchard-row.csv')}"), on_tick=show)
    period = profile.plan().period
    late = [abs(step - period) / period for step in steps[100:]]
    return statistics.median(late), statistics.quantiles(late, n=100)[98]


def shown() -> float:
    """Return the time to store a tick for the view, s."""
    from tenuto.views.process import LiveView
    from tenuto.views.scene import scene_of

    profile = tenuto.load_profile(shipped("medlar.toml"))
    tick = tenuto.replay(profile, shipped("orchard-row.csv"))[500]
    view = LiveView(scene_of(profile.plan(), "", ""), print)
    began = time.perf_counter()
    for _ in range(100_000):
        view.show(tick)
    return (time.perf_counter() - began) / 100_000


def main() -> None:
    print(f"live view: leaving it a tick costs the loop {1e9 * shown():.0f} ns")
    # The view needs a terminal: it gets a pseudo-terminal, which is read.
    master, slave = pty.openpty()
    os.set_blocking(master, True)
    threading.Thread(target=lambda: [None for _ in iter(lambda: os.read(master, 65536), b"")], daemon=True).start()
    kept = os.dup(1), os.dup(0)
    results = {}
    for kind in ("without", "with"):
        os.dup2(slave, 0)
        if kind == "with":
            os.dup2(slave, 1)
        try:
            results[kind] = drive(kind == "with")
        finally:
            sys.stdout.flush()
            os.dup2(kept[0], 1)
            os.dup2(kept[1], 0)
    for kind, (median, late) in results.items():
        print(f"  {kind} it: a tick is off its time by {median:.1%} of its period in the middle, {late:.1%} at 99 %")


if __name__ == "__main__":
    main()
