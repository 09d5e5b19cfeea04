"""The live view as a full-screen terminal program (Textual): keys, help, and the lines that `screen` draws."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import ClassVar

from rich.console import RenderableType
from rich.text import Text
from textual.app import App, ComposeResult
from textual.binding import Binding, BindingType
from textual.widgets import Static

from tenuto.driving.tick import Tick
from tenuto.views.scene import Scene
from tenuto.views.screen import Beat, most_scroll, screen

REFRESH_SECONDS = 0.1
# The number of lines that a key scrolls.
_SCROLL = 4
_HELP = """
 q, Ctrl-C   stop: stop the robot, and end; again: without the ramp
 m           mark this moment: it is noted in the log
 p, space    pause the view; the robot continues
 ↑, ↓        scroll, where the terminal is too small for all of it
 ?, h        this help; again: close it

 ● a stick where it is held, ○ within its dead zone ░
 • what keeps the robot from moving   ◦ other remarks   ▸ an action
 Bars grow to the right for forward, left and up; red is at its end.

 The view is a program of its own, and holds nothing up.
 tenuto drive --plain does without it.
"""


_WATCH_HELP = """
 q, Ctrl-C   end
 m           mark this moment: its numbers are printed at the end
 r           forget the ends: how far each control has been until now
 p, space    pause the view; frames are still taken, and recorded
 ?, h        this help; again: close it

 Move one stick at a time: its row is picked out.
 ├──█──┤  from where to where it has been, and where it is
"""


class _View(App[None]):
    """One widget that is drawn several times a second, with help and a pause.

    Attributes:
        paused: the view is paused. helping: the help is shown.
    """

    CSS = "Screen { background: ansi_default; } Static { background: ansi_default; }"
    ENABLE_COMMAND_PALETTE = False
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("q,ctrl+q", "stop('q')", "stop", priority=True),
        Binding("ctrl+c", "stop('Ctrl-C')", "stop", priority=True),
        Binding("p,space", "pause", "pause"),
        Binding("question_mark,h", "help", "help"),
    ]
    HELP: ClassVar[str] = ""

    def __init__(self) -> None:
        super().__init__(ansi_color=True)
        self.paused = self.helping = False

    def compose(self) -> ComposeResult:
        """Make the only widget."""
        yield Static(id="view")

    def draw(self) -> None:
        """Draw the content, or the help."""
        self.query_one(Static).update(Text(self.HELP) if self.helping else self.drawn())

    def drawn(self) -> RenderableType:
        """Return the content."""
        raise NotImplementedError

    def action_stop(self, key: str) -> None:
        """End, because of the key with this name."""
        self.exit()

    def action_pause(self) -> None:
        """Pause or resume the view."""
        self.paused = not self.paused
        self.draw()

    def action_help(self) -> None:
        """Show or hide the help."""
        self.helping = not self.helping
        self.draw()


class WatchApp(_View):
    """Polls a source, and shows it."""

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("m", "key('mark')", "mark"),
        Binding("r", "key('restart')", "begin again"),
    ]
    HELP = _WATCH_HELP

    def __init__(
        self,
        poll: Callable[[], bool],
        view: Callable[[], RenderableType],
        every: float,
        keys: Mapping[str, Callable[[], None]],
    ) -> None:
        """Set the functions.

        Args:
            poll: is called at an interval, s; False ends the view. view: returns the content.
            keys: what to do on "mark" and "restart".
        """
        super().__init__()
        self._poll, self._view, self._every, self._keys = poll, view, every, keys

    def on_mount(self) -> None:
        """Begin to poll and to draw."""
        self.set_interval(self._every, self._step)
        self.set_interval(REFRESH_SECONDS, self._refresh)

    def drawn(self) -> RenderableType:
        """Return the content."""
        return self._view()

    def action_key(self, name: str) -> None:
        """Call the function of a key, and show its result."""
        self._keys[name]()
        self.draw()

    def _step(self) -> None:
        if not self._poll():
            self.exit()

    def _refresh(self) -> None:
        if not self.paused:
            self.draw()


class LiveApp(_View):
    """Shows the newest tick several times a second."""

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("m", "mark", "mark"),
        Binding("up,pageup", f"scroll(-{_SCROLL})", "scroll up", priority=True),
        Binding("down,pagedown", f"scroll({_SCROLL})", "scroll down", priority=True),
    ]
    HELP = _HELP

    def __init__(
        self,
        scene: Scene,
        newest: Callable[[], tuple[Scene, Tick | None, Beat] | None],
        tell: Callable[[str], None],
    ) -> None:
        """Set the source of ticks.

        Args:
            scene: the first one. newest: returns the newest tick and scene; None once the drive is over.
            tell: is called with "mark", and with "stop" and the key that was pressed for it.
        """
        super().__init__()
        self._scene, self._newest, self._tell = scene, newest, tell
        self._tick: Tick | None = None
        self._beat = Beat()
        self.marks = self.scrolled = 0

    def on_mount(self) -> None:
        """Begin to refresh."""
        self.set_interval(REFRESH_SECONDS, self.refresh_view)

    def refresh_view(self) -> None:
        """Draw the newest tick, or end with the drive."""
        found = self._newest()
        if found is None:
            self.exit()
            return
        if not self.paused:
            self._scene, self._tick, self._beat = found
        self.draw()

    def drawn(self) -> RenderableType:
        """Return the content."""
        beat = self._beat._replace(paused=self.paused, marks=self.marks, scroll=self.scrolled)
        return Text("\n").join(screen(self._scene, self._tick, beat, self.size.width, self.size.height))

    def action_stop(self, key: str) -> None:
        """Request a stop; the view stays until the robot stands."""
        self.paused = False
        self._tell(f"stop {key}")

    def action_scroll(self, by: int) -> None:
        """Scroll by this many lines, but not beyond the last one."""
        most = most_scroll(self._scene, self._tick, self._beat, self.size.width, self.size.height)
        self.scrolled = max(0, min(self.scrolled + by, most))
        self.draw()

    def action_mark(self) -> None:
        """Mark this moment."""
        self.marks += 1
        self._tell("mark")
