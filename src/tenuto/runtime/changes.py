"""Watches a profile's file during a drive: a change is read and checked outside the loop."""

from __future__ import annotations

import stat
from collections.abc import Callable
from pathlib import Path
from queue import Empty, SimpleQueue
from typing import TYPE_CHECKING, Self

from tenuto.basics.closing import Closing
from tenuto.basics.errors import ProfileError, TenutoError
from tenuto.clock import REAL, Timer
from tenuto.driving.plan import Plan, Planned

if TYPE_CHECKING:
    from tenuto.profile import Profile

# A file that is still being written changes again within this interval, s.
_LOOK_EVERY = 0.1


class WatchedProfile(Closing):
    """Watches a profile's file for changes. Pass it to `tenuto.drive` as ``changes``::

    with WatchedProfile("medlar.toml", profile) as watched:
        tenuto.drive(profile, source, sinks, changes=watched)
    """

    def __init__(
        self,
        path: str | Path,
        profile: Profile,
        prepare: Callable[[Profile], Planned] | None = None,
        *,
        clock: Timer = REAL,
    ) -> None:
        """Begin to watch.

        Args:
            path: the file. profile: read from it.
            prepare: applies calibrations and trims to a profile; none by default.
            clock: for the intervals; in real time a thread reads the file.
        """
        self._path, self._sources, self._prepare = Path(path), _sources(profile), prepare
        self._found: SimpleQueue[Plan | str] = SimpleQueue()
        # Digest of a plan → its profile.
        self._made: dict[str, Planned] = {}
        self._seen = self._changed = self._stamp()
        self._end = clock.every(_LOOK_EVERY, self._look, "watched profile")

    def __call__(self) -> Plan | str | None:
        """Return a changed plan, or why a change is refused; None if nothing has changed."""
        try:
            return self._found.get_nowait()
        except Empty:
            return None

    def made(self, plan: Plan) -> Planned | None:
        """Return the profile of a changed plan; None for a plan that was not read here."""
        return self._made.get(plan.digest())

    def _stamp(self) -> tuple[int, int, int] | None:
        try:
            found = self._path.stat()
        except OSError:
            return None  # an editor may be replacing the file
        return (found.st_mtime_ns, found.st_size, found.st_ino) if stat.S_ISREG(found.st_mode) else None

    def _look(self, _: float) -> None:
        now, before = self._stamp(), self._changed
        self._changed = now
        if now is not None and now != self._seen and now == before:
            self._seen = now
            self._found.put(self._read())

    def _read(self) -> Plan | str:
        from tenuto.profile import load_profile

        try:
            profile = load_profile(self._path)
            if _sources(profile) != self._sources:
                return f"{self._path}: its sources differ; end the drive and start it again for that"
            planned = self._prepare(profile) if self._prepare is not None else profile
            plan = planned.plan()
            self._made[plan.digest()] = planned
            return plan
        except ProfileError as error:
            return "; ".join(str(problem) for problem in error.findings)
        except (TenutoError, ValueError) as error:
            return str(error)
        except Exception as error:  # on any error the robot continues with the old profile
            return f"{self._path}: cannot be read: {error!r}"

    def close(self) -> None:
        """Stop watching."""
        self._end()

    def __enter__(self) -> Self:
        return self


def _sources(profile: Profile) -> dict[str, object]:
    """Return everything that is opened for a profile before a drive."""
    found: dict[str, object] = {name: table.source for name, table in profile.drivers.items()}
    found |= {name: table.source for name, table in profile.inputs.items()}
    return {"": profile.source, **found}
