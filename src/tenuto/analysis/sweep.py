"""The same sticks through many settings: a table with a row for each."""

from __future__ import annotations

import math
import sys
import threading
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from contextlib import contextmanager
from dataclasses import replace
from itertools import product
from multiprocessing import get_all_start_methods, get_context
from pathlib import Path
from typing import TYPE_CHECKING, Any

from tenuto.analysis.sticks import recorded_sticks
from tenuto.analysis.ticks import Ticks, replay
from tenuto.basics.errors import TenutoError
from tenuto.basics.extras import needs
from tenuto.driving.guard import State
from tenuto.profile.prepare import prepare_profile
from tenuto.profile.profile import Profile
from tenuto.sources.recording import Recording

if TYPE_CHECKING:
    import pandas as pd

# A velocity that the vehicle reduced by more than this, m/s and rad/s, was beyond its limits.
_CUT = 1e-6
# The tables of a profile that a drive with the recorded sticks alone does not use.
_LEFT_OUT = ("drivers", "distances", "inhibits", "measured")
# From this number of drives on, processes are used; and their work.
_WORTH_IT = 10
_drive: Callable[[int], dict[str, Any]] | None = None


def sweep(
    profile: Profile | str | Path,
    sticks: str | Path,
    values: Mapping[str, Sequence[Any]],
    measure: Callable[[Ticks], Mapping[str, Any]] | None = None,
    *,
    progress: bool | None = None,
) -> pd.DataFrame:
    """Drive the same recorded sticks with every combination of some values.

    ::

        tenuto.sweep("medlar.toml", "row-7.csv", {"controls.drive.expo": [0.0, 0.3, 0.6], "speeds.forward": [0.6, 1.2]})

    The sticks alone drive: other drivers, distance sensors, inhibits and measured speeds are left out.

    Args:
        profile: the one to change. sticks: a recording of sticks, or a log of a drive.
        values: key as in the docs → the values to try; as for `Profile.with_`.
        measure: returns the figures of one drive, name → value; by default `figures_of`.
        progress: show a bar; by default on a terminal.

    Returns:
        One row per combination: one column per key, then those of ``measure``.

    Raises:
        ProfileError: one of the combinations is not a valid profile; the message names the key.
        RecordingError: the sticks cannot be read.
        TenutoError: there is nothing to try, or a key is of what is left out.
    """
    needs("pandas")
    import pandas as pd
    from rich.console import Console
    from rich.progress import track

    if not values or not all(len(tried) for tried in values.values()):
        raise TenutoError('expected keys and the values to try, such as {"controls.drive.expo": [0.0, 0.3]}')
    unused = next((key for key in values if key.partition(".")[0] in _LEFT_OUT), None)
    if unused is not None:
        raise TenutoError(f"{unused} changes nothing here: a sweep drives with the recorded sticks alone")
    prepared = prepare_profile(profile, log=sticks)
    frames = recorded_sticks(sticks, prepared, None).frames
    every = [dict(zip(values, tried, strict=True)) for tried in product(*values.values())]
    changed = [(one, prepared.profile.with_(**one)) for one in every]  # all of them are checked before any is driven
    shown = sys.stderr.isatty() if progress is None else progress

    def drive(number: int) -> dict[str, Any]:
        one, tried = changed[number]
        ticks = replay(replace(prepared, profile=tried), Recording(sticks, frames=frames), alone=True)
        return {**one, **(measure or figures_of)(ticks)}

    with _beside_one_another(drive, len(changed)) as rows:
        if shown:
            rows = track(rows, "sweep", len(changed), console=Console(stderr=True), transient=True)
        return pd.DataFrame(list(rows))


@contextmanager
def _beside_one_another(drive: Callable[[int], dict[str, Any]], count: int) -> Iterator[Iterable[dict[str, Any]]]:
    """Return the rows in their order: made by as many processes as there are processors, if there are enough rows.

    A process is forked, so it has all data of this one. With threads that would not be safe, and is not done.
    """
    global _drive
    if count < _WORTH_IT or threading.active_count() > 1 or "fork" not in get_all_start_methods():
        yield map(drive, range(count))
        return
    _drive = drive
    try:
        with ProcessPoolExecutor(mp_context=get_context("fork")) as processes:
            yield processes.map(_driven, range(count))
    finally:
        _drive = None


def _driven(number: int) -> dict[str, Any]:
    """Drive one of them, in a forked process."""
    assert _drive is not None
    return _drive(number)


def figures_of(ticks: Ticks) -> dict[str, float]:
    """Return the figures of one drive: SI units, or shares for a vehicle without measures.

    ``seconds_driving``; ``distance`` by the commands; ``top_speed`` along the ground and ``top_turn_speed``; ``stops``
    from motion; ``behind``, the root mean square of the difference between demand and command while driving;
    ``saturated``, s in which the demand exceeded the vehicle's limits.
    """
    found = dict.fromkeys(("seconds_driving", "distance", "top_speed", "top_turn_speed"), 0.0)
    stops, behind, cut, before = 0, 0.0, 0.0, None
    for tick in ticks:
        command, driving = tick.command, tick.guard.state is State.DRIVING
        speed = math.hypot(command.vx, command.vy)
        found["distance"] += speed * tick.dt
        found["top_speed"] = max(found["top_speed"], speed)
        found["top_turn_speed"] = max(found["top_turn_speed"], abs(command.yaw_rate))
        if driving:
            found["seconds_driving"] += tick.dt
            behind += (tick.demand.vx - command.vx) ** 2 * tick.dt
            cut += tick.dt * any(abs(a - b) > _CUT for a, b in zip(tick.demand, tick.target, strict=True))
        elif before is not None and before.guard.state is State.DRIVING and any(before.command):
            stops += 1
        before = tick
    seconds = found["seconds_driving"]
    return found | {
        "stops": float(stops), "behind": math.sqrt(behind / seconds) if seconds else math.nan, "saturated": cut,
    }  # fmt: skip
