"""The view of a drive: the full screen, or one line."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from tenuto.basics.extras import has, how_to_get
from tenuto.cli.console import problems, results
from tenuto.cli.status import StatusLine
from tenuto.driving.plan import Plan
from tenuto.driving.preflight import Check, neutral_of
from tenuto.driving.tick import Tick

if TYPE_CHECKING:
    from tenuto.runtime.changes import WatchedProfile
    from tenuto.sources import Source
    from tenuto.views.process import LiveView

_LEAST = (80, 24)


def may_take_the_screen(sources: Sequence[Source], *, by_keys: bool = False) -> bool:
    """Return whether there is a large enough terminal whose keys no source reads.

    With ``by_keys`` a source may read them: the view then only draws.
    """

    if not (results.is_terminal and sys.stdin.isatty() and os.name == "posix") or os.environ.get("TERM") == "dumb":
        return False
    size = os.get_terminal_size(sys.stdout.fileno())
    if size.columns < _LEAST[0] or size.lines < _LEAST[1]:
        return False
    if _by_keys(sources) is not None:
        return by_keys
    if not has("textual"):
        problems.print(f"{how_to_get('textual')}. A line is shown instead.", soft_wrap=True)
        return False
    return True


def _by_keys(sources: Sequence[Source]) -> Source | None:
    """Return the source that reads the keys of this terminal; None if none does."""
    from tenuto.sources.keyboard import Keyboard

    return next((source for source in sources if isinstance(source, Keyboard)), None)


def live_view(
    plan: Plan, title: str, origin: str, interrupt: Callable[[str], None], sources: Sequence[Source], *,
    full: bool, quiet: bool, checks: Sequence[Check] = (),
) -> StatusLine | LiveView:  # fmt: skip
    """Return the view: the full screen, whose keys interrupt unless they drive, or the line.

    ``checks`` were made before the drive, and are shown until it begins.
    """
    if not full:
        return StatusLine(plan.chassis.units, quiet=quiet, neutral=neutral_of(plan), checks=checks)
    from tenuto.views.process import LiveView
    from tenuto.views.scene import scene_of

    keys, line = _by_keys(sources), StatusLine(plan.chassis.units, neutral=neutral_of(plan))

    def instead(tick: Tick) -> None:
        line.begin()
        line.show(tick)

    if keys is not None:
        return LiveView(scene_of(plan, title, origin, keys.hint, checks), interrupt, keys=False, instead=instead)
    return LiveView(scene_of(plan, title, origin, checks=checks), interrupt, instead=instead)


class ShownChanges:
    """Checks for a changed profile, and shows the one that is used."""

    def __init__(self, changes: WatchedProfile, view: StatusLine | LiveView, title: str, origin: str) -> None:
        self._changes, self._view, self._title, self._origin = changes, view, title, origin
        self.made = changes.made

    def __call__(self) -> Plan | str | None:
        """Return a changed plan, or why a change is refused; None if nothing has changed."""
        found = self._changes()
        if isinstance(found, Plan):
            from tenuto.views.scene import scene_of

            self._view.change(scene_of(found, self._title, self._origin))
        return found


def until(seconds: float, show: Callable[[Tick], None]) -> Callable[[Tick], str | None]:
    """Return a function that shows ticks, and requests the end after a time."""

    def see(tick: Tick) -> str | None:
        show(tick)
        return f"the limit of {seconds:g} s was reached" if tick.time >= seconds else None

    return see
